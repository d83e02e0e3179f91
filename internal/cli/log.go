package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

func (a *app) logCommand() *cobra.Command {
	return group("log", "List, read and trim the databases' own logs", a.logListCommand(), a.logReadCommand(),
		a.logTrimCommand())
}

func (a *app) logListCommand() *cobra.Command {
	var server string
	c := &cobra.Command{Use: "list CLUSTER", Short: "List log files with their positions, and who still needs each",
		Args: exactly(1), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := c.Logs(cmd.Context(), args[0], server)
			if err != nil {
				return err
			}
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(l, func(w io.Writer) { a.printLogs(w, l, &v) })
		})}
	c.Flags().StringVar(&server, "server", "", "whose log (default: the primary's)")
	return c
}

func (a *app) printLogs(w io.Writer, l apitype.Logs, v *view.View) {
	var bytes, free int64
	files, ahead := 0, 0
	for _, f := range l.Files {
		bytes += f.Bytes
		if f.Ahead {
			ahead++
			continue
		}
		files++
		if len(f.NeededBy) == 0 {
			free += f.Bytes
		}
	}
	s := v.Find(l.Server)
	fmt.Fprintln(w, a.bold(fmt.Sprintf("%s's log takes %s in %s.", l.Server, words.Size(bytes),
		words.Count(int64(files+ahead), "file"))))
	if l.Server == v.Primary {
		if free > 0 {
			fmt.Fprintf(w, "No server needs %s of it", words.Size(free))
		} else {
			fmt.Fprint(w, "Each file of it is needed, or being written")
		}
		if s != nil && s.Observation != nil {
			if keep := s.Observation.Config.Live["wal_keep_size"]; keep != "" && keep != "0" {
				fmt.Fprintf(w, "; wal_keep_size keeps %s for servers that rejoin", keep)
			}
			if after := s.Observation.Config.Live["binlog_expire_logs_seconds"]; after != "" && after != "0" {
				n, _ := strconv.ParseFloat(after, 64)
				fmt.Fprintf(w, "; the server removes files by itself after %s, whoever needs them", words.Span(n))
			}
		}
		fmt.Fprintln(w, ".")
	}
	free, known := int64(0), false
	if s != nil && s.Observation != nil {
		free, known = s.Observation.Host.LogDiskFreeBytes.Get()
	}
	if known {
		fmt.Fprintf(w, "%s are free on its disk. ", words.Size(free))
		if s.LogFull != nil {
			fmt.Fprintf(w, "%s.\n  %s\n", s.LogFull.Text, s.LogFull.Mend)
		} else {
			fmt.Fprintln(w, "Nothing is known to be filling this server's log disk.")
		}
	}
	fmt.Fprintln(w)
	t := a.table(w, "file", "size", "last written", "from", "up to", "needed by")
	t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, Align: text.AlignRight}})
	for _, f := range l.Files {
		if f.Ahead {
			continue
		}
		need := strings.Join(f.NeededBy, ", ")
		if l.Server != v.Primary {
			need = ""
		}
		t.AppendRow(table.Row{f.Name, words.Size(f.Bytes), f.ChangedAt.Local().Format("2 Jan 15:04:05"), dash(f.From),
			dash(f.To), dash(wrap(need, 48, ""))})
	}
	t.Render()
	if ahead > 0 {
		fmt.Fprintf(w, "\nand %d more that are made ready for writes to come\n", ahead)
	}
}

func (a *app) logReadCommand() *cobra.Command {
	var args tail.ReadLogArgs
	var server, since string
	var follow bool
	c := &cobra.Command{Use: "read CLUSTER", Short: "Show transactions of a log: when, where, what changed",
		Args: exactly(1),
		Long: "Transactions of a log. Without --from and --since the newest ones.\n\nMariaDB: with statements or rows " +
			"before and after, and a warning at statements that are unsafe to replay.\nPostgreSQL: with relations, kinds " +
			"and sizes of records, commits and aborts.",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, names []string) error {
			if since != "" {
				at, err := backTo(since, time.Now())
				if err != nil {
					return err
				}
				args.Since = at
			}
			if args.Limit < 1 || args.Limit > 500 {
				return exitWith(exitUsage, "--limit is a number from 1 to 500")
			}
			return a.readLog(cmd.Context(), c, names[0], server, args, follow)
		})}
	f := c.Flags()
	f.StringVar(&server, "server", "", "whose log (default: the primary's)")
	f.StringVar(&args.From, "from", "",
		"position after which to begin: an LSN, or a GTID or a place in a file (binlog.000003:4711)")
	f.StringVar(&args.To, "to", "", "position up to which to read")
	f.StringVar(&since, "since", "", "begin at a time, or so long ago (10m)")
	f.StringVar(&args.Table, "table", "", "only transactions that changed this table")
	f.IntVar(&args.Limit, "limit", 20, "at most this many")
	f.BoolVarP(&follow, "follow", "f", false, "go on with what is written, until it is interrupted")
	return c
}

func (a *app) readLog(ctx context.Context, c *client.Client, cluster, server string, args tail.ReadLogArgs,
	follow bool) error {
	left := args.Limit
	shown := 0
	for {
		p, err := c.ReadLog(ctx, cluster, server, args)
		if err != nil {
			if follow && ctx.Err() != nil {
				return nil
			}
			return err
		}
		if !follow && len(p.Transactions) > left {
			p.Transactions = p.Transactions[:left]
		}
		if follow {
			// What has not ended is shown when it has.
			p.Transactions = slices.DeleteFunc(p.Transactions,
				func(t tail.Transaction) bool { return t.Outcome == tail.Unfinished })
		}
		left -= len(p.Transactions)
		shown += len(p.Transactions)
		if len(p.Transactions) > 0 || a.v.GetString("output") != "table" && !follow {
			if err := a.show(p, func(w io.Writer) { a.printLogPage(w, p) }); err != nil {
				return err
			}
		}
		args.From, args.Shown, args.Since = p.Next, p.Shown, time.Time{}
		switch {
		case !follow && (p.End || left <= 0 || a.v.GetString("output") != "table"):
			if shown == 0 && a.v.GetString("output") == "table" {
				fmt.Fprintln(a.out, "No transaction fits.")
			}
			return nil
		case follow && p.End:
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(time.Second):
			}
		}
	}
}

func (a *app) printLogPage(w io.Writer, p apitype.LogPage) {
	for _, t := range p.Transactions {
		at := "-"
		if !t.At.IsZero() {
			at = t.At.Local().Format("2 Jan 15:04:05.000")
		}
		head := fmt.Sprintf("%s  %s  %s", t.Name(), at, t.Outcome)
		if t.Origin != 0 {
			head += fmt.Sprintf(", written by server %d", t.Origin)
		}
		fmt.Fprintf(w, "%s, %s\n", a.bold(head), words.Size(t.Bytes))
		if t.GTID != "" {
			fmt.Fprintf(w, "    at %s to %s\n", t.First, t.Last)
		} else {
			fmt.Fprintf(w, "    at %s to %s in %s; %s\n", t.First, t.Last, t.File, recordWords(t.Records))
		}
		if t.Schema {
			fmt.Fprintln(w, "    it changed definitions")
		}
		for _, c := range t.Changes {
			fmt.Fprintf(w, "    %s: %s\n", c.Table, changeWords(c))
		}
		for _, s := range t.Statements {
			fmt.Fprintf(w, "    statement: %s\n", wrap(s, checkWidth, "        "))
		}
		if t.Unsafe != "" {
			fmt.Fprintf(w, "    %s unsafe to replay: %s\n", a.resultWord(operation.Warn), t.Unsafe)
		}
		for _, r := range t.Rows {
			fmt.Fprintf(w, "        %s %s: %s\n", r.Kind, r.Table, wrap(r.Words(), checkWidth, "            "))
		}
	}
}

func changeWords(c tail.Change) string {
	var out []string
	for _, x := range []struct {
		n    int
		what string
	}{{c.Inserts, "inserted"}, {c.Updates, "updated"}, {c.Deletes, "deleted"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	return strings.Join(out, ", ")
}

func recordWords(records map[string]int) string {
	var names []string
	for k := range records {
		names = append(names, k)
	}
	sort.Slice(names, func(i, j int) bool {
		return records[names[i]] > records[names[j]] || records[names[i]] == records[names[j]] && names[i] < names[j]
	})
	for i, n := range names {
		if names[i] = n; records[n] > 1 {
			names[i] = fmt.Sprintf("%d × %s", records[n], n)
		}
	}
	return strings.Join(names, ", ")
}

// bytesOf reads a size like 500MB.
func bytesOf(s string) (int64, error) {
	units := []struct {
		name string
		size float64
	}{{"TB", 1 << 40}, {"GB", 1 << 30}, {"MB", 1 << 20}, {"kB", 1 << 10}, {"B", 1}}
	var n float64
	for _, u := range units {
		if number, found := strings.CutSuffix(s, u.name); found {
			if _, err := fmt.Sscanf(strings.TrimSpace(number), "%g", &n); err == nil && n > 0 {
				return int64(n * u.size), nil
			}
		}
	}
	return 0, exitWith(exitUsage, "invalid size %q: use a form like 500MB or 2GB", s)
}

func (a *app) logTrimCommand() *cobra.Command {
	var to, keep string
	var older time.Duration
	c := a.actCommand("trim CLUSTER", "Remove the oldest log files of the primary that no server needs", 1,
		func(args []string) (operation.Request, error) {
			r := operation.Request{Kind: operation.Trim, Trim: &operation.TrimRequest{To: to, OlderHours: older.Hours()}}
			var err error
			if keep != "" {
				r.Trim.KeepBytes, err = bytesOf(keep)
			}
			return r, err
		})
	c.Flags().StringVar(&to, "to", "", "this file is the oldest that stays")
	c.Flags().DurationVar(&older, "older", 0, "files that were last written longer ago (72h)")
	c.Flags().StringVar(&keep, "keep", "", "the newest files of this size stay (2GB)")
	return c
}
