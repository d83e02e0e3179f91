package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/agent"
	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
	"crosstwin/internal/gate"
)

func (a *app) gateCommand() *cobra.Command {
	var dir, level string
	c := &cobra.Command{Use: "gate", Short: "Run the gates of one or more clusters, which applications connect to",
		Long: "Run the gates of one or more clusters: addresses that applications connect to, one for writing and one for " +
			"reading, which lead them to the right server and carry their sessions over when the primary changes. It serves " +
			"every cluster that was enrolled in its directory, and takes up those that are enrolled later.",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := logger(level, false)
			if err != nil {
				return err
			}
			return agent.RunSeats(cmd.Context(), agent.Gates, dir, Version, log)
		}}
	c.Flags().StringVar(&dir, "dir", agent.GateDir, "the gate's directory")
	c.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	c.AddCommand(a.enrollGate(), a.addGate(), a.listGates(), a.showGate(), a.gateSessions(), a.drainGate())
	return c
}

func (a *app) enrollGate() *cobra.Command {
	var given agent.Config
	var own gate.Config
	var dir, code string
	c := &cobra.Command{Use: "enroll", Short: "Exchange a one-time code for the gate's certificate of one cluster",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			if code == "" {
				return exitWith(exitUsage, "an enrolment needs --code: crosstwin gate add prints one")
			}
			if err := own.Check(); err != nil {
				return exitError{exitUsage, err}
			}
			given.Gate = &own
			got, err := agent.EnrollSeat(cmd.Context(), agent.Gates, dir, a.v.GetString("service"), code, given)
			var missing agent.MissingError
			if errors.As(err, &missing) {
				return exitError{exitUsage, err}
			}
			if err != nil {
				return err
			}
			started, err := agent.StartSeat(cmd.Context(), agent.Gates, dir)
			next := "crosstwin-gate.service runs"
			switch {
			case err != nil:
				return err
			case !started:
				next = "Where it does not run yet, start it: crosstwin gate --dir " + dir
			}
			return a.said("enrolled", got.Server, "enrolled as %s, gate of cluster %s, at %s. %s\n", got.Server, got.Cluster,
				got.Advertise, next)
		}}
	f := c.Flags()
	f.StringVar(&dir, "dir", agent.GateDir, "the gate's directory")
	f.StringVar(&code, "code", "", "one-time code from crosstwin gate add")
	f.StringSliceVar(&own.Writer, "writer", nil,
		"address for applications that write, as HOST:PORT or the path of a socket (may be given again)")
	f.StringSliceVar(&own.Reader, "reader", nil,
		"address for applications that read, likewise (default: none)")
	f.StringVar(&own.Cert, "tls-cert", "", "certificate file for applications (default: one of the service's authority)")
	f.StringVar(&own.Key, "tls-key", "", "key file for it")
	f.StringVar(&given.Listen, "listen", "",
		"address it listens on for the service, by mutual TLS (default: the first free port from 7750 on)")
	f.StringVar(&given.Advertise, "advertise", "",
		"address at which the service reaches it (default: --host with that port)")
	f.StringVar(&given.Host, "host", "", "host name or address at which the service reaches this host")
	return c
}

func (a *app) drainGate() *cobra.Command {
	var dir string
	var limit time.Duration
	c := &cobra.Command{Use: "drain", Short: "Have the gate on this host give way to a new process, refusing nobody",
		Long: "Have the gate on this host give way to a new process of the program as it lies on disk now: after an " +
			"upgrade, or to restart it. The new process inherits the addresses and accepts applications from then on; the " +
			"sessions of " +
			"the old one end when they do nothing, or after the limit, and their applications connect again.",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			program, err := exec.LookPath(os.Args[0])
			if err == nil {
				program, err = filepath.Abs(program)
			}
			if err != nil {
				return err
			}
			d, err := agent.DrainGate(cmd.Context(), dir, program, limit)
			if err != nil {
				return fmt.Errorf("%w. Nothing has changed: the gate goes on as it did", err)
			}
			return a.show(d, func(w io.Writer) {
				fmt.Fprintf(w, "a new process serves; %s of the old one ended\n", words.Count(int64(d.Sessions), "session"))
			})
		}}
	c.Flags().StringVar(&dir, "dir", agent.GateDir, "the gate's directory")
	c.Flags().DurationVar(&limit, "limit", 30*time.Second, "how long transactions may take to end")
	return c
}

func (a *app) addGate() *cobra.Command {
	return &cobra.Command{Use: "add CLUSTER NAME", Short: "Add a gate; prints the command for its host", Args: exactly(2),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			code, err := c.AddServer(cmd.Context(), args[0], apitype.NewServer{Name: args[1], Gate: true})
			if err != nil {
				return err
			}
			return a.showCode(c, code)
		})}
}

func (a *app) listGates() *cobra.Command {
	return &cobra.Command{Use: "list CLUSTER", Short: "List the gates of a cluster", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			gates := append([]view.Gate{}, v.Gates...)
			return a.show(gates, func(w io.Writer) {
				if len(gates) == 0 {
					fmt.Fprintf(w, "%s has no gate. Add one with: crosstwin gate add %s NAME\n", v.Cluster, v.Cluster)
					return
				}
				t := a.table(w, "gate", "health", "writer", "reader", "leads to", "sessions", "waiting", "seen")
				for _, g := range gates {
					t.AppendRow(a.gateRow(g))
				}
				t.Render()
			})
		})}
}

func (a *app) gateRow(g view.Gate) table.Row {
	health := a.paint(view.Unseen, glyph(view.Unseen)+" "+string(view.Unseen))
	if g.Answers {
		health = a.paint(view.InStep, glyph(view.InStep)+" answers")
	}
	s := g.Shows
	if s == nil {
		return table.Row{g.Name, health, "-", "-", "-", "-", "-", seen(g.LastContactSeconds)}
	}
	return table.Row{g.Name, health, dash(strings.Join(s.Writer, ", ")), dash(strings.Join(s.Reader, ", ")), dash(s.To),
		s.Sessions(), s.Waiting, seen(g.LastContactSeconds)}
}

// gateSays is a gate in a few words.
func gateSays(g view.Gate) string {
	s := g.Shows
	switch {
	case !g.Answers:
		return "unseen, last heard " + seen(g.LastContactSeconds)
	case s == nil:
		return "has shown nothing yet"
	case s.HeldSeconds > 0:
		return fmt.Sprintf("holds %s for a change of the primary, %d waiting", words.Count(int64(s.Sessions()), "session"),
			s.Waiting)
	case s.To == "":
		return fmt.Sprintf("leads writers nowhere: %s; %d waiting", s.Why, s.Waiting)
	}
	return fmt.Sprintf("leads writers to %s, %s", s.To, words.Count(int64(s.Sessions()), "session"))
}

func findGate(v view.View, name string) (view.Gate, error) {
	for _, g := range v.Gates {
		if g.Name == name {
			return g, nil
		}
	}
	return view.Gate{}, exitWith(exitUsage, "%s has no gate %q: crosstwin gate list %[1]s", v.Cluster, name)
}

func (a *app) showGate() *cobra.Command {
	return &cobra.Command{Use: "show CLUSTER NAME", Short: "Show one gate: where it leads, and what came of its sessions",
		Args: exactly(2), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			g, err := findGate(v, args[1])
			if err != nil {
				return err
			}
			return a.show(g, func(w io.Writer) { a.printGate(w, v.Cluster, g) })
		})}
}

func (a *app) printGate(w io.Writer, cluster string, g view.Gate) {
	fmt.Fprintf(w, "%s\n", a.bold(fmt.Sprintf("Gate %s of %s %s.", g.Name, cluster, gateSays(g))))
	s := g.Shows
	if s == nil {
		return
	}
	row := func(name, format string, args ...any) {
		fmt.Fprintf(w, "  %-20s%s\n", name, fmt.Sprintf(format, args...))
	}
	fmt.Fprintln(w)
	row("writer", "%s", dash(strings.Join(s.Writer, ", ")))
	row("reader", "%s", dash(strings.Join(s.Reader, ", ")))
	row("term", "%d", s.Term)
	for _, d := range s.Doors {
		row(d.Door+" sessions", "%d on %s", d.Sessions, dash(d.Server))
	}
	row("known portable", "%d", s.Portable)
	for _, why := range slices.Sorted(maps.Keys(s.Others)) {
		row("not portable", "%d: %s", s.Others[why], why)
	}
	row("since its start", "%d opened, %d logins refused, %d carried, %d transactions cut, %d closed", s.Opened, s.Refused,
		s.Carried, s.Cut, s.Closed)
	row("waits for a server", "%d, %s in all", s.Waits, words.Span(s.WaitedSeconds))
}

func (a *app) gateSessions() *cobra.Command {
	return &cobra.Command{Use: "sessions CLUSTER NAME",
		Short: "List the sessions of a gate, and whether each can be carried",
		Args:  exactly(2), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			list, err := c.GateSessions(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(list, func(w io.Writer) {
				t := a.table(w, "session", "door", "user", "database", "from", "server", "state", "for", "portable")
				for _, s := range list.Sessions {
					portable := map[bool]string{true: "yes", false: "not known yet"}[s.Portable]
					if s.WhyNot != "" {
						portable = "no: " + s.WhyNot
					}
					t.AppendRow(table.Row{s.ID, s.Door, s.User, dash(s.Database), s.From, dash(s.Server), s.State,
						words.Span(s.StateSeconds), portable})
				}
				t.Render()
			})
		})}
}
