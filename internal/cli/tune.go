package cli

import (
	"fmt"
	"io"
	"sort"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/client"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

func (a *app) tuneCommand() *cobra.Command {
	var all []string
	for _, engine := range dialect.Engines() {
		for name := range dialect.Of(engine).Tunables {
			all = append(all, name)
		}
	}
	sort.Strings(all)
	all = unique(all)
	c := a.actCommand("tune CLUSTER SERVER SETTING VALUE",
		"Change one setting of a running server that moves lag, conflicts or kept log", 4,
		func(args []string) (operation.Request, error) {
			return operation.Request{Kind: operation.Set, Server: args[1], Setting: args[2], Value: args[3]}, nil
		})
	c.Long = "Change one setting of a running server, shown as a plan first, verified afterwards and undone if that " +
		"fails.\n\nThe settings: " + strings.Join(all, ", ") + ".\ndelay, in seconds, is by how long a replica is delayed."
	return c
}

func unique(sorted []string) []string {
	out := sorted[:0]
	for i, s := range sorted {
		if i == 0 || s != sorted[i-1] {
			out = append(out, s)
		}
	}
	return out
}

func (a *app) followCommand() *cobra.Command {
	return a.actCommand("follow CLUSTER SERVER UPSTREAM", "Have a replica follow another server of its cluster", 3,
		func(args []string) (operation.Request, error) {
			return operation.Request{Kind: operation.Follow, Server: args[1], To: args[2]}, nil
		})
}

func (a *app) restartCommand() *cobra.Command {
	return a.actCommand("restart CLUSTER SERVER", "Restart a server in its role; a primary keeps its term", 2,
		func(args []string) (operation.Request, error) {
			return operation.Request{Kind: operation.Restart, Server: args[1]}, nil
		})
}

func (a *app) encryptCommand() *cobra.Command {
	return a.actCommand("encrypt CLUSTER", "Have all replicas follow encrypted, without an outage", 1,
		func([]string) (operation.Request, error) { return operation.Request{Kind: operation.Encrypt}, nil })
}

func (a *app) conflictsCommand() *cobra.Command {
	return &cobra.Command{Use: "conflicts CLUSTER",
		Short: "Show queries that replay cancelled on replicas, and the trade behind them", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			x, err := c.Conflicts(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(x, func(w io.Writer) { a.printConflicts(w, x) })
		})}
}

func (a *app) printConflicts(w io.Writer, x view.Conflicts) {
	fmt.Fprintln(w, a.bold(x.Says))
	if len(x.Servers) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := a.table(w, "replica", "cause", "cancelled", "what it means")
	for _, s := range x.Servers {
		var causes []string
		for cause := range s.Causes {
			causes = append(causes, cause)
		}
		sort.Strings(causes)
		for _, cause := range causes {
			t.AppendRow(table.Row{s.Server, cause, s.Causes[cause], view.CauseWords(cause)})
		}
	}
	t.Render()
	fmt.Fprintln(w, "\nThe trade")
	for _, line := range x.Trade {
		fmt.Fprintf(w, "  - %s\n", wrap(line, checkWidth, "    "))
	}
	fmt.Fprintf(w,
		"\nChange it with a plan: crosstwin tune %s SERVER SETTING VALUE; over time: crosstwin lag %s --metric "+
			"conflicts_total\n", x.Cluster, x.Cluster)
}

func (a *app) driftCommand() *cobra.Command {
	return &cobra.Command{Use: "drift CLUSTER",
		Short: "Show settings in which the servers differ, and why that matters at a role change", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			d, err := c.Drift(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(d, func(w io.Writer) { a.printDrift(w, d) })
		})}
}

func (a *app) printDrift(w io.Writer, d view.Drift) {
	fmt.Fprintln(w, a.bold(wrap(d.Sentence, lineWidth, "")))
	for _, s := range d.Settings {
		fmt.Fprintf(w, "\n  %s: %s\n", a.bold(s.Name), s.Why)
		var names []string
		for n := range s.Values {
			names = append(names, n)
		}
		sort.Strings(names)
		for _, n := range names {
			fmt.Fprintf(w, "    %-12s %s\n", n, s.Values[n])
		}
	}
}
