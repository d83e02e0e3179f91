package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crosstwin/internal/client"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/demo"
	"crosstwin/internal/simulate"
)

func (a *app) demoCommand() *cobra.Command {
	var dir string
	var clients int
	var clusters []string
	var rest time.Duration
	c := &cobra.Command{Use: "demo", Short: "Run the Skerry Line world on this machine until Ctrl-C", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.buildWorld(cmd.Context(), dir, clusters)
			if err != nil {
				return err
			}
			defer func() {
				fmt.Fprintln(a.out, "\nstopping the workload, the service, the agents and the databases")
				w.Stop()
			}()
			for _, c := range w.Clusters {
				if err := c.SeedAll(cmd.Context(), a.seedProgress()); err != nil {
					return err
				}
				if err := c.Encrypt(cmd.Context(), a.seedProgress()); err != nil {
					return err
				}
				load := c.Load(clients, rest)
				defer load.Stop()
			}
			a.demoHints(cmd.Context(), w)
			<-cmd.Context().Done()
			return nil
		}}
	c.Flags().StringVar(&dir, "dir", demo.DefaultDir(), "directory of the world; an earlier one there is cleared")
	c.Flags().IntVar(&clients, "clients", 2, "clients that write to each cluster")
	c.Flags().DurationVar(&rest, "rest", 50*time.Millisecond, "rest of each client between two writes")
	c.Flags().StringSliceVar(&clusters, "cluster", nil,
		"build only this cluster: bookings (PostgreSQL) or cargo (MariaDB)")
	return c
}

func (a *app) buildWorld(ctx context.Context, dir string, clusters []string) (*demo.World, error) {
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	return demo.Build(ctx, demo.Options{Dir: dir, Binary: exe, Clusters: clusters, Fencing: true, Gates: demo.Gates,
		Log: func(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }})
}

func (a *app) seedProgress() func(operation.Operation) {
	f := follower{a: a, live: isTerminal(a.out)}
	id := int64(0)
	return func(op operation.Operation) {
		if op.ID != id {
			f = follower{a: a, live: f.live}
			id = op.ID
			fmt.Fprintf(a.out, "\n%s\n", op.Plan.Summary)
		}
		f.report(op)
		if op.State == operation.Ended {
			f.clear()
		}
	}
}

func (a *app) demoHints(ctx context.Context, w *demo.World) {
	up := ""
	for _, c := range w.Clusters {
		up += fmt.Sprintf("  %-10s %-11s %s\n", c.Name, c.Engine, strings.Join(c.Names(), ", "))
	}
	name := w.Clusters[0].Name
	console, err := w.Client.SessionLink(ctx)
	if err != nil {
		console = w.URL + " (log in with the token in connections.json)"
	}
	fmt.Fprintf(a.out, `
The Skerry Line is up:
%s
  console      %s
               (this address opens it once, within ten minutes; another: crosstwin login --link)
  connections  %s
  directory    %s

In another terminal:

  . %s/env
  crosstwin status                     who is primary, who is in step
  crosstwin watch %-20s the same, live
  crosstwin switchover %-15s move the primary role; watch the pause

Then break something: kill -9 the database of the primary, and crosstwin failover %s.
To have that done by itself: crosstwin cluster set %s --automatic on
Ctrl-C here stops everything.
`, up, console, filepath.Join(w.Dir, "connections.json"), w.Dir, w.Dir, name, name, name, name)
}

func (a *app) tourCommand() *cobra.Command {
	var dir string
	var keep bool
	var clusters []string
	c := &cobra.Command{Use: "tour", Short: "Run the whole story by itself on the Skerry Line world", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.buildWorld(cmd.Context(), dir, clusters)
			if err != nil {
				return err
			}
			err = demo.Tour(cmd.Context(), w, a.out)
			w.Stop()
			if err != nil {
				return exitWith(1, "the tour ended early: %v; its world is in %s", err, dir)
			}
			if !keep {
				return demo.Clear(w.Dir)
			}
			return nil
		}}
	c.Flags().StringVar(&dir, "dir", demo.DefaultDir()+"-tour", "directory of the world; an earlier one there is cleared")
	c.Flags().StringSliceVar(&clusters, "cluster", nil,
		"tell only this cluster's story: bookings (PostgreSQL) or cargo (MariaDB)")
	c.Flags().BoolVar(&keep, "keep", false, "keep the directory at the end")
	return c
}

func (a *app) simulateCommand() *cobra.Command {
	var opt simulate.Options
	c := &cobra.Command{Use: "simulate",
		Short: "For developers: play a fleet of made-up agents to a service, until Ctrl-C", Args: exactly(0), Hidden: true,
		Long: "For developers: enroll a fleet of made-up agents at the service and answer its questions, until " +
			"Ctrl-C.\n\nThe agents serve their own HTTPS interface; no database stands behind them. Use a service of its " +
			"own for it:\ncrosstwin serve --dir /tmp/sim --listen 127.0.0.1:7799",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			opt.Log = func(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }
			f, err := simulate.Start(cmd.Context(), c, opt)
			if err != nil {
				return err
			}
			defer f.Stop()
			link, err := c.SessionLink(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%d servers in %d clusters are simulated at %s\n", opt.Servers, opt.Clusters, link)
			<-cmd.Context().Done()
			return nil
		})}
	c.Flags().IntVar(&opt.Servers, "servers", 1000, "how many servers")
	c.Flags().IntVar(&opt.Clusters, "clusters", 300, "in how many clusters")
	c.Flags().BoolVar(&opt.Fencing, "fencing", false, "have clusters of three servers or more come under fencing")
	c.AddCommand(a.simulateSafetyCommand())
	return c
}
