package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
)

// showRows puts the rows that were followed under their transactions. Rows of
// what was rolled back, or never ended, are not part of what the tail left.
func (b *tailBuilder) showRows(t *tail.Tail) {
	at := map[uint32]int{}
	for i, x := range t.Transactions {
		if x.Outcome == "committed" {
			at[x.ID] = i
		}
	}
	for _, s := range b.trail.Steps() {
		i, ok := at[b.top(s.Transaction)]
		if !ok {
			continue
		}
		trail := tail.RowTrail{Relation: s.Relation.String(), Made: s.Made, Bulk: s.Bulk, Again: b.top(s.Again)}
		if s.Old != nil {
			trail.Old = s.Old.Spot()
		}
		if s.New != nil {
			trail.New = s.New.Spot()
		}
		x := &t.Transactions[i]
		x.Rows = append(x.Rows, tail.RowChange{Table: trail.Relation, Kind: s.Kind, Columns: []string{}, Trail: &trail})
	}
}

// top returns the transaction under which a subtransaction ended.
func (b *tailBuilder) top(tx uint32) uint32 {
	if p, ok := b.parent[tx]; ok {
		return p
	}
	return tx
}

// nextTransaction finds the first transaction number that was not in use at
// the fork, from the log before it; 0 when none of it is left. Running
// transactions are logged every 15 s, so one whole file before the fork is
// enough; a bound that is too low only leaves values out, it shows no wrong one.
func (e *Engine) nextTransaction(ctx context.Context, timeline uint32, fork position.LSN) (next uint32) {
	c, err := e.control(ctx)
	if err != nil || c.SegmentBytes == 0 {
		return 0
	}
	from := fork - fork%position.LSN(c.SegmentBytes)
	if before := from - position.LSN(c.SegmentBytes); from >= position.LSN(c.SegmentBytes) {
		if _, err := e.Stat(e.Path("pg_wal", position.SegmentName(timeline, before, c.SegmentBytes))); err == nil {
			from = before
		}
	}
	// Its error says only where it ended.
	_, _ = e.dump(ctx, timeline, from, fork, func(r pgtool.Record) { next = r.NextTransaction(next) })
	return next
}

// shownRows collects the last versions of the rows in a listing, while a tail
// is saved.
type shownRows struct {
	tail  *tail.Tail
	rows  map[pgtool.Relation]*tailRows
	found tail.RowsAt
	free  int // how many rows may still be listed that the trail does not name
}

func newShownRows(t *tail.Tail, rows map[pgtool.Relation]*tailRows) *shownRows {
	s := &shownRows{tail: t, rows: rows, found: tail.RowsAt{}, free: tail.ShownRows}
	for _, x := range t.Transactions {
		s.free -= len(x.Rows)
		for _, r := range x.Rows {
			if s.found[r.Trail.Relation] == nil {
				s.found[r.Trail.Relation] = map[string]json.RawMessage{}
			}
			s.found[r.Trail.Relation][r.Trail.New] = nil
		}
	}
	return s
}

// left takes a row as the tail left it. One that no step of the trail left, in
// a page that one record filled with several rows, is one of those.
func (s *shownRows) left(rel pgtool.Relation, table, spot string, from origin, row json.RawMessage) {
	at := s.found[rel.String()]
	if _, wanted := at[spot]; wanted {
		at[spot] = row
		return
	}
	var block, offset uint32
	if _, err := fmt.Sscanf(spot, "(%d,%d)", &block, &offset); err != nil || !s.rows[rel].blocks[block] || s.free <= 0 {
		return
	}
	for i := range s.tail.Transactions {
		if x := &s.tail.Transactions[i]; x.ID == from.id {
			r := tail.RowChange{Table: table, Kind: "insert"}
			r.SetAfter(row)
			x.Rows = append(x.Rows, r)
			s.free--
		}
	}
}

// RowsAt implements engine.Salvager on the running primary. The two servers'
// pages were the same at the fork, so a version that lay at a place then and was
// not replaced since is still there. Places are used again: versions written
// since the fork are left out by their transaction's number.
func (e *Engine) RowsAt(ctx context.Context, a tail.RowsAtArgs) (tail.RowsAt, error) {
	out := tail.RowsAt{}
	if err := e.letReaderIn(ctx); err != nil {
		return nil, err
	}
	if a.Next == 0 {
		return nil, errors.New("no log of before the fork is left, so which row versions are older is not known")
	}
	files := []string{}
	for f := range a.Places {
		files = append(files, f)
	}
	names, err := e.Names(ctx, files)
	if err != nil {
		return nil, err
	}
	databases, err := databasesByNumber(ctx, func(db string) (*pgx.Conn, error) {
		return e.connect(ctx, db, e.cfg.SocketDir, e.cfg.Port)
	})
	if err != nil {
		return nil, err
	}
	for f, spots := range a.Places {
		var r pgtool.Relation
		fmt.Sscanf(f, "%d/%d/%d", &r.Space, &r.Database, &r.File)
		db := databases[r.Database]
		table, ok := strings.CutPrefix(names[f], db+".")
		if !ok || names[f] == tail.SideTable {
			continue
		}
		if out[f], err = e.rowsIn(ctx, db, table, spots, a.Next); err != nil {
			return nil, fmt.Errorf("read rows of %s on %s: %w", table, e.cfg.Name, err)
		}
	}
	return out, nil
}

// rowAsJSON returns an expression for a row t of a table as a JSON text (columns are
// qualified, so none is taken for t). Values of
// types that somebody has made are written by their output functions: to JSON they
// might have a cast, which would run with a superuser's rights.
func rowAsJSON(ctx context.Context, c *pgx.Conn, table string) (string, error) {
	var columns string
	err := c.QueryRow(ctx,
		"select string_agg(case when atttypid < "+firstOwnObject+" then format('t.%1$I', attname) else format('case "+
			"when pg_catalog.num_nulls(t.%1$I) = 0 then pg_catalog.format(%2$L, t.%1$I) end as %1$I', attname, '%s') end, "+
			"', ' order by attnum) from pg_attribute where attrelid = "+
			literal(table)+"::regclass and attnum > 0 and not attisdropped").Scan(&columns)
	return "(select pg_catalog.to_jsonb(" + rowAlias + ")::text from (select " + columns + ") " + rowAlias + ")", err
}

// firstOwnObject is the first object identifier that initdb does not give
// (FirstNormalObjectId).
const firstOwnObject = "16384"

func (e *Engine) rowsIn(ctx context.Context, db, table string, spots []string, next uint32) (map[string]json.RawMessage,
	error) {
	c, err := e.connectReader(ctx, db, e.cfg.SocketDir, e.cfg.Port)
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	asJSON, err := rowAsJSON(ctx, c, table)
	if err != nil {
		return nil, err
	}
	rows, err := c.Query(ctx,
		fmt.Sprintf("select ctid::text, %s from only %s t where ctid = any(%s::tid[]) and age(xmin) > age('%d'::xid)", asJSON,
			table, literal("{\""+strings.Join(spots, `","`)+"\"}"), next))
	if err != nil {
		return nil, err
	}
	out := map[string]json.RawMessage{}
	var spot, row string
	_, err = pgx.ForEachRow(rows, []any{&spot, &row}, func() error {
		out[spot] = json.RawMessage(row)
		return nil
	})
	return out, err
}
