package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/client"
	"crosstwin/internal/core/authority"
)

func (a *app) authorityCommand() *cobra.Command {
	var certificates bool
	show := &cobra.Command{Use: "show",
		Short: "Show the service's certificate authority and, while it is being exchanged, how far that is",
		Args:  exactly(0), RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			s, err := c.Authority(cmd.Context())
			if err != nil {
				return err
			}
			if certificates {
				fmt.Fprint(a.out, s.Certificates)
				return nil
			}
			return a.show(s, func(w io.Writer) { a.printAuthority(w, s) })
		})}
	show.Flags().BoolVar(&certificates, "certificates", false,
		"print the certificates to trust, as a file for --ca, and nothing else")
	rotate := &cobra.Command{Use: "rotate",
		Short: "Exchange the service's certificate authority for a new one, without an outage", Args: exactly(0),
		RunE: a.with(a.rotateAuthority)}
	rotate.Flags().BoolP("yes", "y", false, "do not ask")
	return group("authority", "Show and exchange the service's certificate authority", show, rotate)
}

// rotatePlan says what an exchange does. It takes nothing away before its last step.
const rotatePlan = `exchange the authority %s for a new one, which signs all certificates anew:
  1. every agent is told to trust the new authority beside the present one
  2. once all do, the new one signs: the service's certificate, each agent's and each database's are renewed,
     with new keys; no server is restarted, and what is connected stays so
  3. once all are, the present authority is forgotten everywhere
The service goes on by itself, also after a restart, and waits at each step for a server that it cannot reach: such a
server goes on with what it has. Enrolment codes that were not used by step 2 have to be made again. Whoever
connects with --ca needs the new file, best between steps 1 and 3:
    crosstwin authority show --certificates > authority.crt
Servers with agents: %d.`

func (a *app) rotateAuthority(cmd *cobra.Command, c *client.Client, _ []string) error {
	now, err := c.Authority(cmd.Context())
	if err != nil {
		return err
	}
	if now.Stage == "" {
		if err := a.confirmed(cmd, fmt.Sprintf(rotatePlan, now.Fingerprint, len(now.Servers))); err != nil {
			return err
		}
	}
	if _, err := c.RotateAuthority(cmd.Context(), now.Fingerprint); err != nil {
		return err
	}
	return a.said("rotating", now.Fingerprint, "the exchange has begun. How far it is: crosstwin authority show\n")
}

func (a *app) printAuthority(w io.Writer, s authority.State) {
	fmt.Fprintf(w, "The authority %s was made on %s and is good until %s.\n", a.bold(s.Fingerprint),
		s.Made.Local().Format(time.DateOnly), s.Ends.Local().Format(time.DateOnly))
	switch s.Stage {
	case "":
		fmt.Fprintln(w, "No exchange is under way.")
	case authority.Introducing:
		fmt.Fprintln(w, "It is being exchanged. Step 1 of 3: every agent is told to trust the new authority beside it.")
	case authority.Renewing:
		fmt.Fprintln(w, "It is new. Step 2 of 3: the certificates of agents and databases are renewed by it.")
	}
	waiting := false
	for _, x := range s.Servers {
		waiting = waiting || x.Lacks != "" || s.Stage != "" && x.Unreachable != ""
	}
	if !waiting {
		return
	}
	fmt.Fprintln(w)
	t := a.table(w, "cluster", "server", "waits for")
	for _, x := range s.Servers {
		if said := authorityWait(x, s.Stage); said != "" {
			t.AppendRow(table.Row{x.Cluster, x.Server, said})
		}
	}
	t.Render()
}

// authorityWait says what an exchange waits for on a server.
func authorityWait(x authority.Server, stage authority.Stage) string {
	switch {
	case x.Unreachable != "" && stage != "":
		return "its agent, which cannot be reached: " + x.Unreachable
	case x.Lacks == authority.LacksTrust && stage == "":
		return "its agent to forget the former authority (step 3 of 3)"
	case x.Lacks == authority.LacksTrust:
		return "its agent to trust the authorities in use"
	case x.Lacks == authority.LacksCertificate:
		return "the new certificate of its agent"
	case x.Lacks == authority.LacksDatabase:
		return "the new certificate of its database"
	}
	return ""
}
