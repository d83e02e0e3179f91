package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"crosstwin/internal/demo"
	"crosstwin/internal/store"
)

func (a *app) demoCommand() *cobra.Command {
	var dir string
	var clients int
	var rest time.Duration
	c := &cobra.Command{Use: "demo", Short: "Run the Skerry Line world on this machine until Ctrl-C", Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
		w, err := a.buildWorld(cmd.Context(), dir)
		if err != nil {
			return err
		}
		defer func() {
			fmt.Fprintln(a.out, "\nstopping the workload, the service, the agents and the databases")
			w.Stop()
		}()
		if err := w.SeedAll(cmd.Context(), a.seedProgress()); err != nil {
			return err
		}
		load := w.Load(clients, rest)
		defer load.Stop()
		a.demoHints(w)
		<-cmd.Context().Done()
		return nil
	}}
	c.Flags().StringVar(&dir, "dir", demo.DefaultDir(), "directory of the world; an earlier one there is cleared")
	c.Flags().IntVar(&clients, "clients", 2, "clients that sell seats")
	c.Flags().DurationVar(&rest, "rest", 50*time.Millisecond, "rest of each client between two sales")
	return c
}

func (a *app) buildWorld(ctx context.Context, dir string) (*demo.World, error) {
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	return demo.Build(ctx, demo.Options{Dir: dir, Binary: exe, Log: func(format string, args ...any) { fmt.Fprintf(a.out, format+"\n", args...) }})
}

func (a *app) seedProgress() func(store.Operation) {
	f := follower{a: a, live: isTerminal(a.out)}
	id := int64(0)
	return func(op store.Operation) {
		if op.ID != id {
			f = follower{a: a, live: f.live}
			id = op.ID
			fmt.Fprintf(a.out, "\n%s\n", op.Plan.Summary)
		}
		f.report(op)
		if op.State == store.Ended {
			f.clear()
		}
	}
}

func (a *app) demoHints(w *demo.World) {
	fmt.Fprintf(a.out, `
The Skerry Line is up: cluster bookings with gull, tern and heron, and a workload selling seats.

  service      %s
  connections  %s
  directory    %s

In another terminal:

  . %s/env
  crosstwin status                     who is primary, who is in step
  crosstwin watch bookings             the same, live
  crosstwin switchover bookings        move the primary role; watch the pause

Then break something: kill -9 the database of the primary, and crosstwin failover bookings.
Ctrl-C here stops everything.
`, w.URL, filepath.Join(w.Dir, "connections.json"), w.Dir, w.Dir)
}

func (a *app) tourCommand() *cobra.Command {
	var dir string
	var keep bool
	c := &cobra.Command{Use: "tour", Short: "Run the whole story by itself on the Skerry Line world", Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
		w, err := a.buildWorld(cmd.Context(), dir)
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
	c.Flags().BoolVar(&keep, "keep", false, "keep the directory at the end")
	return c
}
