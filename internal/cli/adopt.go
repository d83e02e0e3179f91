package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/operation"
)

func (a *app) adoptCommand() *cobra.Command {
	req := operation.Request{Kind: operation.Adopt}
	c := a.actCommand("adopt CLUSTER", "Take over servers that replicate already, as they run", 1,
		func([]string) (operation.Request, error) { return req, nil })
	c.Long = "Take over servers that replicate already, as they run.\n\nEnroll the agents of all of them first. " +
		"The plan shows who follows whom and what is set up beside what there is: accounts, access rules, marks; GTIDs " +
		"instead of file and position. Nothing is restarted and nothing is copied."
	c.Flags().StringVar(&req.Server, "primary", "", "the server with your data, where that does not show")
	c.Flags().String("fencing", "", "on or off, afterwards (default: you are asked, where there are three servers)")
	adopt := c.RunE
	c.RunE = func(cmd *cobra.Command, args []string) error {
		switch text, _ := cmd.Flags().GetString("fencing"); text {
		case "", "on", "off":
		default:
			return exitWith(exitUsage, "--fencing is on or off, not %q", text)
		}
		if err := adopt(cmd, args); err != nil {
			return err
		}
		if f := flagsOf(cmd); f.preview || f.detach {
			return nil
		}
		return a.decideFencing(cmd, args[0])
	}
	return c
}

// decideFencing has a person say whether an adopted cluster is to have fencing: how its
// primary behaves when the network is cut may be promised to others.
func (a *app) decideFencing(cmd *cobra.Command, cluster string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	v, err := c.Cluster(cmd.Context(), cluster)
	if err != nil || !v.Policy.FencingOpen {
		return err
	}
	answer, _ := cmd.Flags().GetString("fencing")
	if answer == "" {
		if len(v.Servers) < 3 {
			return nil // fencing needs three
		}
		fmt.Fprint(a.err, "\nWith fencing the primary takes writes only while its permission runs: no second server can, "+
			"and a failover needs nobody's word that the old primary is off. While the service and too many other agents "+
			"are lost at once, writes stop.\n")
		if yes := flagsOf(cmd).yes; yes || !isTerminal(os.Stdin) {
			fmt.Fprintf(a.err, "It is off, and nobody has decided yet: crosstwin cluster set %s --fencing on, or off\n", cluster)
			return nil
		}
		if answer = "off"; a.ask(&operation.Plan{}, "Switch fencing on? (yes/no): ") == nil {
			answer = "on"
		}
	}
	p := v.Policy
	p.Fencing, p.FencingOpen = answer == "on", false
	if _, err := c.SetCluster(cmd.Context(), cluster, apitype.ClusterChange{Policy: &p}); err != nil {
		return fmt.Errorf("%s was adopted, and fencing could not be switched %s: %w", cluster, answer, err)
	}
	fmt.Fprintf(a.err, "Fencing is %s.\n", answer)
	return nil
}
