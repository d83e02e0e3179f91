package postgres

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// Names implements engine.Salvager on the running server.
func (e *Engine) Names(ctx context.Context, files []string) (map[string]string, error) {
	return e.names(ctx, files, func(db string) (*pgx.Conn,
		error) {
		return e.connect(ctx, db, e.cfg.SocketDir, e.cfg.Port)
	})
}

func (e *Engine) names(ctx context.Context, files []string, open func(db string) (*pgx.Conn, error)) (map[string]string,
	error) {
	databases, err := databasesByNumber(ctx, open)
	if err != nil {
		return nil, err
	}
	byDB := map[string][]pgtool.Relation{}
	for _, f := range files {
		var r pgtool.Relation
		if _, err := fmt.Sscanf(f, "%d/%d/%d", &r.Space, &r.Database, &r.File); err == nil && databases[r.Database] != "" {
			byDB[databases[r.Database]] = append(byDB[databases[r.Database]], r)
		}
	}
	out := map[string]string{}
	for db, rels := range byDB {
		if err := e.namesIn(ctx, db, rels, open, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// databasesByNumber names the databases that can be connected to.
func databasesByNumber(ctx context.Context, open func(db string) (*pgx.Conn, error)) (map[uint32]string, error) {
	c, err := open("postgres")
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	rows, err := c.Query(ctx, "select oid::bigint, datname from pg_database where datallowconn")
	if err != nil {
		return nil, err
	}
	out := map[uint32]string{}
	for rows.Next() {
		var oid int64
		var name string
		if err := rows.Scan(&oid, &name); err != nil {
			return nil, err
		}
		out[uint32(oid)] = name
	}
	return out, rows.Err()
}

func (e *Engine) namesIn(ctx context.Context, db string, rels []pgtool.Relation, open func(string) (*pgx.Conn, error),
	out map[string]string) error {
	c, err := open(db)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for _, r := range rels {
		space := r.Space
		if space == defaultSpace {
			space = 0 // how the function names the database's default tablespace
		}
		var kind, name string
		err := c.QueryRow(ctx,
			fmt.Sprintf(
				`select relkind::text, quote_ident(nspname) || '.' || quote_ident(relname) from pg_class c
				  join pg_namespace n on n.oid = relnamespace where c.oid = pg_filenode_relation(%d, %d)`,
				space, r.File)).Scan(&kind,
			&name)
		switch {
		case errors.Is(err, pgx.ErrNoRows):
		case err != nil:
			return err
		case kind == "t":
			out[r.String()] = tail.SideTable
		case kind == "r":
			out[r.String()] = db + "." + name
		default:
			out[r.String()] = tail.SideTable // sequences and indexes hold no rows of their own
		}
	}
	return nil
}

// defaultSpace is the object identifier of pg_default.
const defaultSpace = 1663

// Salvage implements engine.Salvager. It opens the data read-only for itself,
// looks up the tables, reads the rows that the tail's committed transactions
// left, and writes a file that a person can read and psql can load: into
// tables of their own, never over live ones.
func (e *Engine) Salvage(ctx context.Context, a verb.Salvage, dir string, progress engine.Progress) (*tail.Tail,
	error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	fork, err := position.ParseLSN(a.Fork)
	if err != nil {
		return nil, err
	}
	o := e.Observe(ctx, false)
	if o.Process.Accepting {
		return nil, fmt.Errorf("%s still runs: its tail is saved once it is stopped", e.cfg.Name)
	}
	c, err := e.control(ctx)
	if err != nil {
		return nil, err
	}
	end, err := e.logEnd(ctx, o, c)
	if err != nil {
		return nil, err
	}
	rows := map[pgtool.Relation]*tailRows{}
	progress("reading the log after the fork", 0, 0)
	tail, parents, err := e.readTail(ctx, o, a.Timeline, fork, end, func(p place, tx uint32) {
		if rows[p.relation] == nil {
			rows[p.relation] = &tailRows{blocks: map[uint32]bool{}, spots: map[string]bool{}}
		}
		rows[p.relation].add(p)
	})
	if err != nil {
		return nil, err
	}
	progress("opening the data read-only for the agent alone", 0, 0)
	p, err := e.openPrivately(ctx)
	if err != nil {
		return nil, err
	}
	err = e.writeSalvage(ctx, p, a, tail, tailTimes(tail, parents), rows, dir, progress)
	return tail, errors.Join(err, p.close(context.WithoutCancel(ctx)))
}

type tailRows struct {
	blocks map[uint32]bool // blocks filled by one record with several rows
	spots  map[string]bool // row places as the server prints them
}

func (r *tailRows) add(p place) {
	if p.offset == 0 {
		r.blocks[p.block] = true
		return
	}
	r.spots[fmt.Sprintf("(%d,%d)", p.block, p.offset)] = true
}

// maxLine is the largest number of rows in a block of 8 kB (MaxHeapTuplesPerPage).
const maxLine = 291

func (r *tailRows) list() []string {
	for b := range r.blocks {
		for i := 1; i <= maxLine; i++ {
			r.spots[fmt.Sprintf("(%d,%d)", b, i)] = true
		}
	}
	out := make([]string, 0, len(r.spots))
	for s := range r.spots {
		out = append(out, s)
	}
	sort.Strings(out)
	return out
}

// largeObjects is the table in which their content lies, in pages.
const largeObjects = "pg_catalog.pg_largeobject"

// largeObjectsHelp is the note on loading pages of large objects.
const largeObjectsHelp = `-- Pages of large objects, as the tail left them. To put them back, by number: where the
-- object is missing, select lo_create(NUMBER); then
--   select lo_put(loid, pageno::bigint * 2048, data)
--   from %s."pg_catalog.pg_largeobject" where loid = NUMBER order by pageno;
`

// psqlConnect is psql's command that goes on in a database of any name. Its argument
// is a connection string in psql's own quotes, in which every byte may be written as a
// number (documentation, psql, "Meta-Commands"); what comes of that is read once more
// as an identifier, in which a double quote stands twice (measured).
func psqlConnect(database string) string {
	conninfo := "dbname='" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(database) + "'"
	conninfo = `"` + strings.ReplaceAll(conninfo, `"`, `""`) + `"`
	var quoted strings.Builder
	for i := range len(conninfo) {
		if c := conninfo[i]; c >= 'a' && c <= 'z' || c == '_' || c == '=' {
			quoted.WriteByte(c)
		} else {
			fmt.Fprintf(&quoted, `\%03o`, c)
		}
	}
	return `\connect -reuse-previous=on '` + quoted.String() + `'`
}

// salvageBegin is what comes first in each database: names and strings mean to the
// server, and to psql, what they meant where they were written, and the schema is new.
const salvageBegin = `set standard_conforming_strings = on;
set search_path = pg_catalog;
create schema %s;
`

func (e *Engine) writeSalvage(ctx context.Context, p *private, a verb.Salvage, t *tail.Tail,
	committed map[uint32]origin, rows map[pgtool.Relation]*tailRows, dir string, progress engine.Progress) error {
	open := func(db string) (*pgx.Conn, error) { return p.connect(ctx, db) }
	names, err := e.names(ctx, t.Files(), open)
	if err != nil {
		return fmt.Errorf("look up the tables of the tail: %w", err)
	}
	databases, err := databasesByNumber(ctx, open)
	if err != nil {
		return err
	}
	t.Name(names)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	path := filepath.Join(dir, fmt.Sprintf("%s-%s.sql", a.Name, strings.ReplaceAll(a.Fork, "/", "-")))
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	t.Holds, t.Into = nil, tail.Into()
	writeSalvageHead(w, e.cfg.Name, t)
	byDB := map[string][]pgtool.Relation{}
	for r := range rows {
		if n := names[r.String()]; n != "" && n != tail.SideTable {
			byDB[databases[r.Database]] = append(byDB[databases[r.Database]], r)
		}
	}
	shown := newShownRows(t, rows)
	for db, rels := range byDB {
		sort.Slice(rels, func(i, j int) bool { return rels[i].File < rels[j].File })
		c, err2 := p.reader(ctx, db)
		if err2 != nil {
			err = err2
			break
		}
		fmt.Fprintf(w, "\n%s\n"+salvageBegin, psqlConnect(db), t.Into)
		for i, r := range rels {
			table := strings.TrimPrefix(names[r.String()], db+".")
			if table == largeObjects {
				fmt.Fprintf(w, largeObjectsHelp, t.Into)
			}
			progress("saving rows of "+table, 0, 0)
			name := names[r.String()]
			target := t.Into + "." + pgx.Identifier{tail.Shorten(table, 63, i)}.Sanitize()
			if err = salvageTable(ctx, c, w, target, table, rows[r].list(), committed, func(from origin, spot, row string) {
				shown.left(r, name, spot, from, json.RawMessage(row))
			}); err != nil {
				break
			}
		}
		c.Close(ctx)
	}
	if err = errors.Join(err, w.Flush(), f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("save the tail: %w", err)
	}
	t.FillAfter(shown.found)
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	t.Saved = path
	return host.SyncDir(dir)
}

// origin is the committed transaction that a row version came from.
type origin struct {
	id uint32
	at time.Time
}

// tailTimes returns the origin for each transaction number that stands in rows,
// those of subtransactions included.
func tailTimes(t *tail.Tail, parents map[uint32]uint32) map[uint32]origin {
	out := map[uint32]origin{}
	for _, x := range t.Transactions {
		if x.Outcome == "committed" {
			out[x.ID] = origin{x.ID, x.At}
		}
	}
	for child, parent := range parents {
		if o, ok := out[parent]; ok {
			out[child] = o
		}
	}
	return out
}

func writeSalvageHead(w *bufio.Writer, name string, t *tail.Tail) {
	n, i, u, d := t.Counts()
	fmt.Fprintf(w, "-- What %s wrote after %s on timeline %d, up to %s, and no other server has:\n", name, t.From,
		t.Timeline, t.To)
	fmt.Fprintf(w, "-- %d committed transactions with %d inserts, %d updates and %d deletes.\n", n, i, u, d)
	fmt.Fprintf(w,
		"-- Load it with: psql -v ON_ERROR_STOP=1 -f THIS_FILE, as an account that may create a schema and is\n"+
			"-- no superuser. It fills tables of its own in the schema %s and touches no live table.\n", t.Into)
	fmt.Fprintf(w,
		"-- Each row is what the tail left of it: its transaction and time stand in the first two columns.\n--\n")
	for _, x := range t.Transactions {
		fmt.Fprintf(w, "-- transaction %d %s %s\n", x.ID, x.Outcome, x.At.Format(time.RFC3339Nano))
		switch {
		case x.Partial:
			fmt.Fprintln(w, "--     began before that, in log that is no longer there: what it wrote first is not in this file")
		case x.Outcome == "committed":
			t.Holds = append(t.Holds, x.Name())
		}
		if x.Schema {
			fmt.Fprintln(w, "--     changed definitions: compare the two servers' pg_dump --schema-only")
		}
		for _, c := range x.Changes {
			fmt.Fprintf(w, "--     %s: %d inserted, %d updated, %d deleted\n",
				tail.Comment(c.Table), c.Inserts, c.Updates, c.Deletes)
		}
	}
}

// salvageTable saves the rows of one table. Columns of types that somebody made are
// saved as text: loading them runs nothing of those types.
func salvageTable(ctx context.Context, c *pgx.Conn, w *bufio.Writer, target, table string, spots []string,
	committed map[uint32]origin, each func(from origin, spot, row string)) error {
	var columns string
	err := c.QueryRow(ctx,
		"select string_agg(quote_ident(attname) || ' ' || case when atttypid < 16384 then format_type(atttypid, "+
			"atttypmod) else 'text' end, ', ' order by attnum) from pg_attribute where attrelid = "+literal(table)+"::regclass "+
			"and attnum > 0 and not attisdropped").Scan(&columns)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "create table %s (tail_transaction bigint, tail_time timestamptz, %s);\n", target,
		columns)
	asJSON, err := rowAsJSON(ctx, c, table)
	if err != nil {
		return err
	}
	const batch = 2000
	for len(spots) > 0 {
		n := min(batch, len(spots))
		rows, err := c.Query(ctx, "select xmin::text, ctid::text, "+asJSON+" from only "+table+" t where ctid = any("+
			literal("{\""+strings.Join(spots[:n], `","`)+"\"}")+"::tid[])")
		if err != nil {
			return err
		}
		spots = spots[n:]
		for rows.Next() {
			var xmin, spot, row string
			if err := rows.Scan(&xmin, &spot, &row); err != nil {
				return err
			}
			id, _ := strconv.ParseUint(xmin, 10, 32)
			from, ok := committed[uint32(id)]
			if !ok {
				continue // a row of before the fork in the same block
			}
			each(from, spot, row)
			fmt.Fprintf(w,
				"insert into %s select * from jsonb_populate_record(null::%s, jsonb_build_object('tail_transaction', %d, "+
					"'tail_time', '%s') || %s);\n", target, target, from.id, from.at.Format(time.RFC3339Nano), literal(row))
		}
		if err := rows.Err(); err != nil {
			return err
		}
	}
	return nil
}
