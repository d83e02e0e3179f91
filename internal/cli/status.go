package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{Use: "status [CLUSTER]",
		Short: "Show the state of the clusters: one sentence and one table each", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				v, err := c.Cluster(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.show(v, func(w io.Writer) { a.printView(w, v) })
			}
			all, err := c.Clusters(cmd.Context())
			if err != nil {
				return err
			}
			return a.show(apitype.Clusters{Clusters: all}, func(w io.Writer) {
				if len(all) == 0 {
					fmt.Fprintln(w, "No cluster yet. Begin with: crosstwin cluster add NAME")
				}
				for i, v := range all {
					if i > 0 {
						fmt.Fprintln(w)
					}
					a.printView(w, v)
				}
			})
		}}
}

// printView shows a cluster: the sentence, the table, what is wrong.
func (a *app) printView(w io.Writer, v view.View) {
	fmt.Fprintln(w, a.bold(wrap(v.Sentence, lineWidth, "")))
	fmt.Fprintln(w)
	if v.Permission != nil {
		fmt.Fprintf(w, "%s\n\n", wrap(v.Permission.Text, lineWidth, ""))
	}
	if v.Synchronous != nil {
		fmt.Fprintf(w, "%s\n\n", wrap(v.Synchronous.Text, lineWidth, ""))
	}
	t := a.table(w, "server", "role", "health", "position", "history", "lag", "behind", "follows", "rank", "seen")
	for _, s := range v.Servers {
		role := string(s.Role)
		if s.ReportsAs != "" && s.ReportsAs != s.Role {
			role += " (says " + string(s.ReportsAs) + ")"
		}
		bytes, span := lagColumns(v, s)
		t.AppendRow(table.Row{s.Name, role, a.paint(s.Health, glyph(s.Health)+" "+string(s.Health)), dash(s.Position),
			dash(s.History), bytes, span, dash(s.Follows), rank(s.Rank) + hiddenWords(s), seen(s.LastContactSeconds)})
	}
	t.Render()
	for _, r := range v.Referees {
		fmt.Fprintf(w, "\n  %s: referee, %s\n", r.Name, refereeSays(r))
	}
	for _, g := range v.Gates {
		fmt.Fprintf(w, "\n  %s: gate, %s\n", g.Name, gateSays(g))
	}
	for _, s := range v.Servers {
		for _, note := range s.Notes {
			fmt.Fprintf(w, "\n  %s: %s\n", s.Name, wrap(note, lineWidth, "    "))
		}
	}
	for _, p := range v.Problems {
		fmt.Fprintf(w, "\n  ! %s\n", wrap(p.Text, lineWidth, "    "))
		if p.Mend != "" {
			fmt.Fprintf(w, "    %s\n", wrap(p.Mend, lineWidth, "    "))
		}
	}
	if v.Operation != nil {
		fmt.Fprintf(w, "\nOperation %d (%s) is under way: crosstwin operation follow %d\n", v.Operation.ID, v.Operation.Kind,
			v.Operation.ID)
	}
}

func refereeSays(r view.Referee) string {
	if !r.Answers {
		return "unseen, last heard " + seen(r.LastContactSeconds)
	}
	return fmt.Sprintf("has noted term %d", r.Noted)
}

func lagColumns(v view.View, s view.Server) (bytes, span string) {
	switch {
	case s.Name == v.Primary || s.Observation == nil && s.LastContactSeconds < 0:
		return "-", "-"
	case !s.Lag.Known:
		return "-", "-"
	}
	span = words.Span(s.Lag.Seconds)
	if s.Lag.Seconds == 0 {
		span = "0 s"
	}
	if s.Lag.AtLeast {
		span = "at least " + span
	}
	return words.Size(s.LagBytes), span
}

func seen(seconds float64) string {
	if seconds < 0 {
		return "never"
	}
	if seconds < 2 {
		return "now"
	}
	return words.Span(seconds) + " ago"
}

func (a *app) watchCommand() *cobra.Command {
	return &cobra.Command{Use: "watch CLUSTER", Short: "Show positions and lag, live", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, err := c.Cluster(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.watch(cmd.Context(), c, args[0])
		}}
}

// watch draws the cluster anew with every event, until it is interrupted. With
// another form than the table each view is one document.
func (a *app) watch(ctx context.Context, c *client.Client, cluster string) error {
	live := isTerminal(a.out) && a.v.GetString("output") == "table"
	var last int64
	for ctx.Err() == nil {
		err := c.Events(ctx, url.Values{"cluster": {cluster}}, last, func(e client.Event) error {
			last = e.ID
			if e.Kind == "removed" {
				return exitWith(exitNeedsYou, "cluster %s was removed", cluster)
			}
			if e.Kind != "cluster" {
				return nil
			}
			var v view.View
			if err := json.Unmarshal(e.Data, &v); err != nil {
				return err
			}
			if a.v.GetString("output") != "table" {
				return a.show(v, nil)
			}
			a.drawWatch(v, live)
			return nil
		})
		var known exitError
		if errors.As(err, &known) || ctx.Err() != nil {
			break
		}
		if !errors.Is(err, client.ErrUnreachable) {
			return err
		}
		if live {
			fmt.Fprintf(a.out, "\x1b[H\x1b[2K%s", a.paint(view.Unseen, "CONNECTION LOST: the data below is old. Trying "+
				"again …"))
		} else {
			fmt.Fprintln(a.err, "connection lost, trying again")
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
	if live {
		fmt.Fprintln(a.out)
	}
	return nil
}

func (a *app) drawWatch(v view.View, live bool) {
	var b strings.Builder
	fmt.Fprintf(&b, "%s  %s, term %d\n\n", v.At.Local().Format("15:04:05"), v.Cluster, v.Term)
	a.printView(&b, v)
	b.WriteString("\n")
	a.drawStages(&b, v)
	if !live {
		fmt.Fprintln(a.out, b.String())
		return
	}
	// Home, each line cleared to its end, the rest below cleared: no flicker.
	text := strings.ReplaceAll(b.String(), "\n", "\x1b[K\n")
	fmt.Fprint(a.out, "\x1b[H"+text+"\x1b[J")
}

// drawStages shows for each replica where its bytes wait.
func (a *app) drawStages(w io.Writer, v view.View) {
	t := a.table(w, "replica", "not sent", "not received", "not safe", "not applied", "catches up in")
	for _, s := range v.Servers {
		if s.Name == v.Primary || !s.Lag.Known {
			continue
		}
		up := "-"
		switch {
		case s.LagBytes == 0:
			up = "in step"
		case s.CatchUp < 0:
			up = "not at this rate"
		default:
			up = words.Span(s.CatchUp)
		}
		t.AppendRow(table.Row{s.Name, words.Size(s.Stages.NotSent), words.Size(s.Stages.NotReceived),
			words.Size(s.Stages.NotSafe), words.Size(s.Stages.NotApplied), up})
	}
	t.Render()
	if v.AtRisk.Known && !v.AtRisk.Everything {
		fmt.Fprintf(w, "\nat risk: %s (%s), held most by %s\n", words.Size(v.AtRisk.Bytes), words.Span(v.AtRisk.Seconds),
			dash(v.AtRisk.On))
	}
}
