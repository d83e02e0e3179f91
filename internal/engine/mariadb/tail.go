package mariadb

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// shownRows bounds the rows with values in a listing; the saved file has all.
const shownRows = 500

// listing returns the tail as a person reads it.
func (c *comparison) listing() *tail.Tail {
	t := &tail.Tail{From: c.fork.String(), To: c.end.String(), Bytes: c.tailSize}
	rows := 0
	for _, tg := range c.tail {
		x := transactionOf(tg.group)
		for _, r := range tg.group.Rows {
			for _, ch := range r.Changes {
				if rows++; rows <= shownRows {
					x.Rows = append(x.Rows, rowOf(r, ch))
				}
			}
		}
		t.Transactions = append(t.Transactions, x)
	}
	return t
}

func transactionOf(g *binlog.Group) tail.Transaction {
	x := tail.Transaction{GTID: g.GTID.String(), At: g.At, Outcome: "committed", First: g.GTID.String(),
		Last: g.GTID.String(), Schema: g.GTID.Flags&binlog.DDL != 0, Changes: []tail.Change{}, WhyNotUndone: g.WhyNotUndone()}
	if g.HasStatements() {
		for _, q := range g.Statements {
			x.Statements = append(x.Statements, strings.Join(strings.Fields(q.Text), " "))
		}
	}
	at := map[string]int{}
	for _, r := range g.Rows {
		table := r.Table.Database + "." + r.Table.Name
		i, ok := at[table]
		if !ok {
			i = len(x.Changes)
			at[table] = i
			x.Changes = append(x.Changes, tail.Change{Table: table})
		}
		switch r.Kind {
		case "insert":
			x.Changes[i].Inserts += len(r.Changes)
		case "update":
			x.Changes[i].Updates += len(r.Changes)
		case "delete":
			x.Changes[i].Deletes += len(r.Changes)
		}
	}
	return x
}

func rowOf(r *binlog.Rows, ch binlog.Change) tail.RowChange {
	out := tail.RowChange{Table: r.Table.Database + "." + r.Table.Name, Kind: r.Kind, Columns: columnNames(r.Table)}
	out.Before, out.After = texts(ch.Before), texts(ch.After)
	return out
}

// columnNames returns names, or numbers where the log holds no names.
func columnNames(t *binlog.Table) []string {
	var out []string
	for i, c := range t.Columns {
		n := c.Name
		if n == "" {
			n = fmt.Sprintf("@%d", i+1)
		}
		out = append(out, n)
	}
	return out
}

func texts(row []binlog.Value) []string {
	var out []string
	for _, v := range row {
		out = append(out, v.SQL())
	}
	return out
}

// Salvage implements engine.Salvager. It writes every transaction of the tail
// with its rows before and after, as statements that load them into tables of
// their own, never over live ones.
func (e *Engine) Salvage(ctx context.Context, a verb.Salvage, dir string, progress engine.Progress) (*tail.Tail,
	error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	progress("reading the log after the fork", 0, 0)
	primary, err := e.fetchState(ctx, a.Primary)
	if err != nil {
		return nil, err
	}
	c, err := e.compareLogs(ctx, a.Primary, primary)
	if err != nil {
		return nil, err
	}
	if c.fork.String() != a.Fork {
		return nil, fmt.Errorf("the fork of %s is at %s now, not at %s: look again", e.cfg.Name, c.fork, a.Fork)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	path := filepath.Join(dir, fmt.Sprintf("%s-%s.sql", a.Name, time.Now().UTC().Format("20060102T150405")))
	t := c.listing()
	t.Saved = path
	t.Into = tail.Into()
	if t.Holds, err = c.save(path, e.cfg.Name, t.Into); err != nil {
		return nil, fmt.Errorf("save the tail of %s: %w", e.cfg.Name, err)
	}
	return t, nil
}

// save writes the file and syncs it; it returns the transactions written.
func (c *comparison) save(path, server, into string) (held []string, err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	fmt.Fprintf(w, "-- What only %s held: %d transactions after %s, up to %s.\n", server, len(c.tail), c.fork, c.end)
	fmt.Fprintf(w, "-- Loading this file fills tables in the database %s and touches no other:\n"+
		"-- mariadb --binary-mode < FILE, as an account that may do no more than that.\n", into)
	fmt.Fprintf(w, "-- Each changed row stands there before and after, with the transaction that changed it.\n")
	fmt.Fprintf(w, "set session sql_mode = '';\ncreate database %s;\n", into)
	to := saver{w, into, map[string]string{}}
	for _, tg := range c.tail {
		held = append(held, to.group(tg.group))
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	return held, f.Sync()
}

// saver writes transactions into a file, and knows the tables that loading it makes.
type saver struct {
	w      *bufio.Writer
	into   string
	tables map[string]string // by table and columns, as the log describes them
}

// group writes one transaction and returns its name.
func (s *saver) group(g *binlog.Group) string {
	x := transactionOf(g)
	fmt.Fprintf(s.w, "\n-- transaction %s committed at %s\n", x.GTID, x.At.Format(time.RFC3339))
	if x.WhyNotUndone != "" {
		fmt.Fprintf(s.w, "--   cannot be undone from the log: %s\n", tail.Comment(x.WhyNotUndone))
	}
	for _, t := range x.Statements {
		fmt.Fprintf(s.w, "--   statement: %s\n", tail.Comment(t))
	}
	for _, r := range g.Rows {
		table := s.table(r.Table)
		for _, ch := range r.Changes {
			saveImage(s.w, table, x.GTID, r.Kind, "before", ch.Before)
			saveImage(s.w, table, x.GTID, r.Kind, "after", ch.After)
		}
	}
	return x.Name()
}

// table returns the table that rows of another one are loaded into, and has it made
// first. A table that changed its columns has one for each.
func (s *saver) table(t *binlog.Table) string {
	columns := columnNames(t)
	shown := t.Database + "." + t.Name
	key := strings.Join(append([]string{shown}, columns...), "\x00")
	if made, ok := s.tables[key]; ok {
		return made
	}
	table := name(s.into) + "." + name(tail.Shorten(shown, 64, len(s.tables)))
	for _, taken := range s.tables {
		if taken == table {
			n := len(s.tables)
			table = name(s.into) + "." + name(fmt.Sprintf("%s~%d", tail.Shorten(shown, 58, n), n))
		}
	}
	s.tables[key] = table
	fmt.Fprintf(s.w, "create table %s (`ct gtid` varchar(60), `ct change` varchar(10), `ct image` varchar(10)", table)
	for _, n := range columns {
		fmt.Fprintf(s.w, ", %s longblob", name(n))
	}
	fmt.Fprintf(s.w, ");\n")
	return table
}

func saveImage(w *bufio.Writer, table, gtid, kind, image string, row []binlog.Value) {
	if len(row) == 0 {
		return
	}
	fmt.Fprintf(w, "insert into %s values ('%s', '%s', '%s'", table, gtid, kind, image)
	for _, v := range row {
		if v.Absent {
			fmt.Fprint(w, ", null")
			continue
		}
		fmt.Fprint(w, ", ", v.SQL())
	}
	fmt.Fprint(w, ");\n")
}
