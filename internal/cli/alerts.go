package cli

import (
	"fmt"
	"io"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/words"
)

func (a *app) alertCommand() *cobra.Command {
	return group("alert", "List and acknowledge alerts, and set where they are sent", a.alertListCommand(),
		a.acknowledgeCommand(), a.channelCommand())
}

func (a *app) alertListCommand() *cobra.Command {
	var open bool
	var limit int
	c := &cobra.Command{Use: "list [CLUSTER]", Short: "List alerts, open ones first", Args: cobra.MaximumNArgs(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			cluster := ""
			if len(args) == 1 {
				cluster = args[0]
			}
			list, err := c.Alerts(cmd.Context(), cluster, open, limit)
			if err != nil {
				return err
			}
			return a.show(apitype.Alerts{Alerts: list}, func(w io.Writer) { a.printAlerts(w, list) })
		})}
	c.Flags().BoolVar(&open, "open", false, "only those that are not over")
	c.Flags().IntVar(&limit, "limit", 50, "at most this many")
	return c
}

func (a *app) printAlerts(w io.Writer, list []alert.Alert) {
	open := 0
	for _, x := range list {
		if x.ClearedAt == nil {
			open++
		}
	}
	switch open {
	case 0:
		fmt.Fprintln(w, a.bold("No alert is open."))
	case 1:
		fmt.Fprintln(w, a.bold("1 alert is open."))
	default:
		fmt.Fprintln(w, a.bold(fmt.Sprintf("%d alerts are open.", open)))
	}
	if len(list) == 0 {
		return
	}
	fmt.Fprintln(w)
	t := a.table(w, "id", "level", "cluster", "rule", "what", "raised", "cleared", "acknowledged by")
	for _, x := range list {
		over, by := "open", dash(x.AcknowledgedBy)
		if x.ClearedAt != nil {
			over = "after " + words.Span(x.ClearedAt.Sub(x.RaisedAt).Seconds())
		}
		if x.Note != "" {
			by += ": " + x.Note
		}
		about := x.Cluster
		if about == "" {
			about = "the service"
		}
		t.AppendRow(table.Row{x.ID, x.Level, about, x.Rule, wrap(x.Text, 60, ""),
			x.RaisedAt.Local().Format("2 Jan 15:04:05"), over, wrap(by, 30, "")})
	}
	t.Render()
}

func (a *app) acknowledgeCommand() *cobra.Command {
	var note string
	c := &cobra.Command{Use: "acknowledge ID", Short: "Acknowledge an alert", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return exitWith(exitUsage, "invalid alert number %q: crosstwin alert list shows them", args[0])
			}
			x, err := c.Acknowledge(cmd.Context(), id, note)
			if err != nil {
				return err
			}
			return a.show(x, func(w io.Writer) {
				fmt.Fprintf(w, "alert %d (%s) acknowledged by %s\n", x.ID, x.Text, x.AcknowledgedBy)
			})
		})}
	c.Flags().StringVar(&note, "note", "", "what you are doing about it")
	return c
}

func (a *app) channelCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List alert channels and their last delivery", Args: exactly(0),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.Channels(cmd.Context())
			if err != nil {
				return err
			}
			return a.show(l, func(w io.Writer) {
				if l.Command != "" {
					fmt.Fprintf(w, "command: %s gets each alert on its standard input\n", l.Command)
				}
				if len(l.Channels) == 0 {
					fmt.Fprintln(w, "No web address yet. Add one: crosstwin alert channel add NAME URL")
					return
				}
				t := a.table(w, "channel", "address", "last message")
				for _, x := range l.Channels {
					t.AppendRow(table.Row{x.Name, x.URL, wrap(deliveryWords(x.Last), 60, "")})
				}
				t.Render()
			})
		})}
	add := &cobra.Command{Use: "add NAME URL",
		Short: "Send alerts to a web address, as signed JSON; prints the secret once", Args: exactly(2),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			m, err := c.AddChannel(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(m, func(w io.Writer) {
				fmt.Fprintf(w, "channel %s sends to %s\nsecret, shown this once: %s\nTry it: crosstwin alert channel test %s\n",
					m.Name, m.URL, m.Secret, m.Name)
			})
		})}
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an alert channel", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.RemoveChannel(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.said("removed", args[0], "channel %s removed\n", args[0])
		})}
	test := &cobra.Command{Use: "test NAME", Short: "Send a test message (the name command is the service's own command)",
		Args: exactly(1), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			d, err := c.TestChannel(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if d.Error != "" {
				return exitWith(exitRefused, "the test message did not arrive at %s: %s", args[0], d.Error)
			}
			return a.show(d, func(w io.Writer) { fmt.Fprintf(w, "the test message arrived at %s\n", args[0]) })
		})}
	return group("channel", "Where alerts are sent", list, add, remove, test)
}

func deliveryWords(d *alert.Delivery) string {
	switch {
	case d == nil:
		return "none yet"
	case d.DoneAt != nil:
		return "arrived " + d.DoneAt.Local().Format("2 Jan 15:04:05")
	case d.NextAt != nil:
		return fmt.Sprintf("failed %d times, again at %s: %s", d.Attempts, d.NextAt.Local().Format("15:04:05"), d.Error)
	case d.Error != "":
		return fmt.Sprintf("given up after %d attempts: %s", d.Attempts, d.Error)
	}
	return "on its way"
}
