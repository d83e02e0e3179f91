package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"crosstwin/internal/client"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/words"
)

func (a *app) lagCommand() *cobra.Command {
	var since, until, csvFile, metric string
	c := &cobra.Command{Use: "lag CLUSTER", Short: "Show lag over time: a chart and a table", Args: exactly(1),
		Long: "Lag over time, with the operations and alerts of that time.\n\n--since and --until are spans back from " +
			"now (90s, 15m, 6h, 3d) or times (2026-11-23T03:00:00Z).\nSamples are kept each second for an hour, each ten " +
			"seconds for a day and each minute for 30 days;\na coarser one shows the worst of its time.",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			now := time.Now()
			from, err := backTo(since, now)
			if err != nil {
				return err
			}
			to, err := backTo(until, now)
			if err != nil {
				return err
			}
			if csvFile != "" {
				return a.saveTable(cmd.Context(), c, args[0], from, to, csvFile)
			}
			m := history.Metric(metric)
			if _, known := metricTitles[m]; !known {
				return exitWith(exitUsage, "there is no metric %q: there are %s", metric, knownMetrics())
			}
			r, err := c.History(cmd.Context(), args[0], from, to, chartWidth)
			if err != nil {
				return err
			}
			return a.show(r, func(w io.Writer) { a.printHistory(w, &r, m) })
		})}
	f := c.Flags()
	f.StringVar(&since, "since", "1h", "how far back, or from when")
	f.StringVar(&until, "until", "0s", "up to how long ago, or to when")
	f.StringVar(&csvFile, "csv", "", "write every sample to this file as CSV (-: standard output)")
	f.StringVar(&metric, "metric", string(history.Lag), "what to draw: "+knownMetrics())
	return c
}

// metricTitles are the metrics that can be drawn.
var metricTitles = map[history.Metric]string{
	history.Lag: "time behind", history.LagBytes: "bytes behind", history.NotSent: "bytes not sent",
	history.NotReceived: "bytes not received", history.NotApplied: "bytes not applied",
	history.RiskBytes: "bytes at risk", history.RiskSeconds: "seconds at risk", history.Written: "log written per second",
	history.LogSize: "size of the log", history.DiskFree: "free on the disk", history.Conflicts: "queries cancelled",
}

func knownMetrics() string {
	var out []string
	for _, m := range history.Metrics {
		if metricTitles[m] != "" {
			out = append(out, string(m))
		}
	}
	return strings.Join(out, ", ")
}

// backTo reads a span back from now, or a time.
func backTo(s string, now time.Time) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	text, scale := s, 1.0
	if days, found := strings.CutSuffix(s, "d"); found {
		text, scale = days+"h", 24
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return now,
			exitWith(exitUsage, "%q is neither a span like 90s, 15m, 6h or 3d nor a time like 2026-11-23T03:00:00Z", s)
	}
	return now.Add(-time.Duration(float64(d) * scale)), nil
}

func (a *app) saveTable(ctx context.Context, c *client.Client, cluster string, from, to time.Time, file string) error {
	if file == "-" {
		return c.HistoryTable(ctx, cluster, from, to, a.out)
	}
	// #nosec G302 -- a report, for whoever may read the directory
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if errors.Is(err, os.ErrExist) {
		return exitWith(exitUsage, "%s exists already: give another name", file)
	}
	if err != nil {
		return err
	}
	if err := errors.Join(c.HistoryTable(ctx, cluster, from, to, f), f.Close()); err != nil {
		os.Remove(file)
		return err
	}
	return a.said("saved", file, "saved to %s\n", file)
}

const chartWidth, chartHeight = 96, 5

// amount prints a value in the unit of its metric.
func amount(m history.Metric, v float64) string {
	switch {
	case strings.HasSuffix(string(m), "_seconds"):
		if v == 0 {
			return "0 s"
		}
		return words.Span(v)
	case strings.Contains(string(m), "bytes"):
		return words.Size(int64(v))
	}
	return fmt.Sprintf("%.0f", v)
}

func (a *app) printHistory(w io.Writer, r *history.Report, m history.Metric) {
	fmt.Fprintf(w, "%s: %s from %s to %s, the worst of each %s\n", a.bold(r.Cluster), metricTitles[m],
		r.From.Local().Format("Mon 2 Jan 15:04:05"), r.To.Local().Format("Mon 2 Jan 15:04:05"),
		words.Span(float64(r.StepSeconds)))
	most, any := 0.0, false
	for _, s := range r.Servers {
		for _, v := range s.Values[m] {
			if v != nil {
				most, any = max(most, *v), true
			}
		}
	}
	if !any {
		fmt.Fprintln(w, "\nNothing was measured in that time.")
		a.printMarks(w, r)
		return
	}
	for _, s := range r.Servers {
		if column := s.Values[m]; column != nil {
			fmt.Fprintf(w, "\n%s\n", a.bold(s.Server))
			a.drawColumn(w, r, column, m, most)
		}
	}
	fmt.Fprintln(w)
	t := a.table(w, "server", "now", "median", "95 of 100 below", "worst", "when")
	t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, Align: text.AlignRight}, {Number: 3, Align: text.AlignRight},
		{Number: 4, Align: text.AlignRight}, {Number: 5, Align: text.AlignRight}})
	for _, s := range r.Servers {
		if x := summarize(s.Values[m]); x.n > 0 {
			now := "-"
			if s.Values[m][len(r.At)-1] != nil {
				now = amount(m, x.last)
			}
			t.AppendRow(table.Row{s.Server, now, amount(m, x.median), amount(m, x.high), amount(m, x.worst),
				r.At[x.worstAt].Local().Format("15:04:05")})
		}
	}
	t.Render()
	a.printMarks(w, r)
}

// drawColumn draws one server's values as bars of eighths, its time along the
// bottom.
func (a *app) drawColumn(w io.Writer, r *history.Report, column []*float64, m history.Metric, most float64) {
	bars := make([]float64, chartWidth)
	for i := range bars {
		bars[i] = -1
	}
	length := r.To.Sub(r.From).Seconds()
	for i, v := range column {
		if v == nil {
			continue
		}
		// A sample stands for all of its step.
		at := r.At[i].Sub(r.From).Seconds()
		first := max(0, int(at/length*chartWidth))
		last := min(chartWidth-1, max(first, int((at+float64(r.StepSeconds))/length*chartWidth)-1))
		for x := first; x <= last; x++ {
			bars[x] = max(bars[x], *v)
		}
	}
	eighths := []rune(" ▁▂▃▄▅▆▇█")
	top := amount(m, most)
	for row := chartHeight - 1; row >= 0; row-- {
		label := ""
		switch row {
		case chartHeight - 1:
			label = top
		case 0:
			label = "0"
		}
		var b strings.Builder
		for _, v := range bars {
			part := 0.0
			if v >= 0 && most > 0 {
				part = v/most*chartHeight - float64(row)
			}
			b.WriteRune(eighths[int(math.Ceil(min(1, max(0, part))*8))])
		}
		fmt.Fprintf(w, "%12s ┤%s\n", label, strings.TrimRight(b.String(), " "))
	}
	// The line along the bottom has a gap where nothing was known.
	var line strings.Builder
	for _, v := range bars {
		if v < 0 {
			line.WriteRune('┄')
		} else {
			line.WriteRune('─')
		}
	}
	fmt.Fprintf(w, "%12s └%s\n", "", line.String())
	left, right := r.From.Local().Format("15:04"), r.To.Local().Format("15:04")
	if r.To.Sub(r.From) > 24*time.Hour {
		left, right = r.From.Local().Format("2 Jan 15:04"), r.To.Local().Format("2 Jan 15:04")
	}
	fmt.Fprintf(w, "%14s%s%*s\n", "", left, chartWidth-len(left), right)
}

func (a *app) printMarks(w io.Writer, r *history.Report) {
	if len(r.Marks) == 0 {
		return
	}
	fmt.Fprintln(w, "\nIn that time")
	for _, m := range r.Marks {
		end := ""
		if m.End != nil {
			how := ", took "
			if m.Kind == "alert" {
				how = ", over after "
			}
			end = how + words.Span(m.End.Sub(m.At).Seconds())
		}
		fmt.Fprintf(w, "  %s  %-9s %3d  %s%s\n", m.At.Local().Format("2 Jan 15:04:05"), m.Kind, m.ID, m.Text, end)
	}
}
