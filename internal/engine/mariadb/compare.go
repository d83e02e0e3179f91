package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// compareState is the agent's part of a comparison: on the primary the session
// that holds writes, and everywhere the session whose view does not move. Both
// end by themselves.
type compareState struct {
	sync.Mutex
	holder   *sql.Conn
	heldTill time.Time
	late     bool
	view     *reader
	opened   time.Time
	// sequences are no part of a view: they are read when it is opened, while nobody
	// writes.
	sequences []verb.TableSum
}

// viewLimit bounds the life of a forgotten view: an old one keeps dead rows.
const viewLimit = 6 * time.Hour

// end closes a session for good, so that nobody gets it back from the pool
// with a lock or a view of its own.
func end(c *sql.Conn) {
	if c != nil {
		c.Raw(func(any) error { return driver.ErrBadConn })
		c.Close()
	}
}

// Hold implements engine.Comparer. The global read lock waits for running
// writers and stops new ones; a writer that does not finish in a second makes
// it give way and try again.
func (e *Engine) Hold(ctx context.Context, seconds float64) (verb.Held, error) {
	e.endCompare()
	var err error
	for try := range 10 {
		var r verb.Held
		if r, err = e.tryHold(ctx, seconds); err == nil {
			return r, nil
		}
		e.endCompare()
		select {
		case <-ctx.Done():
			return r, fmt.Errorf("hold writes on %s: %w", e.cfg.Name, err)
		case <-time.After(time.Duration(100+100*try) * time.Millisecond):
		}
	}
	return verb.Held{}, fmt.Errorf("writes on %s could not be held for a moment: %w", e.cfg.Name, err)
}

func (e *Engine) tryHold(ctx context.Context, seconds float64) (verb.Held, error) {
	e.compare.Lock()
	defer e.compare.Unlock()
	var r verb.Held
	var err error
	if e.compare.view, err = e.openReader(ctx); err != nil { // before the lock, which holds up accounts too
		return r, err
	}
	c, err := e.db.Conn(ctx)
	if err != nil {
		return r, e.explain(err)
	}
	e.compare.holder, e.compare.late = c, false
	if _, err := c.ExecContext(ctx, "set session lock_wait_timeout = 1; flush tables with read lock"); err != nil {
		return r, e.explain(err)
	}
	limit := time.Duration(seconds * float64(time.Second))
	till := time.Now().Add(limit)
	e.compare.heldTill = till
	// Writes go on at the deadline, whatever becomes of the service.
	time.AfterFunc(limit, func() {
		e.compare.Lock()
		defer e.compare.Unlock()
		if e.compare.heldTill.Equal(till) && e.compare.holder != nil {
			end(e.compare.holder)
			e.compare.holder, e.compare.late = nil, true
		}
	})
	if err := e.openView(ctx); err != nil {
		return r, err
	}
	return r, e.explain(c.QueryRowContext(ctx, "select @@global.gtid_binlog_pos").Scan(&r.At))
}

// openView freezes what the reading session sees of the data. Texts of
// values depend on a few settings, which are the same for every server here.
func (e *Engine) openView(ctx context.Context) error {
	c := e.compare.view.Conn
	e.compare.opened = time.Now()
	if _, err := c.ExecContext(ctx,
		"set session time_zone = '+00:00'; set session sql_mode = ''; set names utf8mb4; set session "+
			"group_concat_max_len = 1048576; set session transaction isolation level repeatable read; start transaction "+
			"with consistent snapshot, read only"); err != nil {
		return e.explain(err)
	}
	var err2 error
	if e.compare.sequences, err2 = sequencesOf(ctx, c); err2 != nil {
		return e.explain(err2)
	}
	opened := e.compare.opened
	time.AfterFunc(viewLimit, func() {
		e.compare.Lock()
		same := e.compare.opened.Equal(opened)
		e.compare.Unlock()
		if same {
			e.endCompare()
		}
	})
	return nil
}

// Snapshot implements engine.Comparer on a replica: once it has applied the
// held position it opens its view.
func (e *Engine) Snapshot(ctx context.Context, a verb.Snapshot) error {
	e.endCompare()
	ctx, cancel := context.WithTimeout(ctx, time.Duration(a.Seconds*float64(time.Second)))
	defer cancel()
	for {
		// The position as a replica: its own log names a transaction before the
		// data shows it.
		at, err := e.text(ctx, "select @@global.gtid_slave_pos")
		if err != nil {
			return fmt.Errorf("%s has not applied %s within the hold: %w", e.cfg.Name, a.Hold.At, err)
		}
		if ok, _ := position.Reaches(position.EngineMariaDB, at, a.Hold.At); ok {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	e.compare.Lock()
	defer e.compare.Unlock()
	var err error
	if e.compare.view, err = e.openReader(ctx); err != nil {
		return err
	}
	return e.openView(ctx)
}

// Release implements engine.Comparer. It fails when the deadline had ended the
// hold before: then the views may stand at different positions.
func (e *Engine) Release(context.Context) error {
	e.compare.Lock()
	defer e.compare.Unlock()
	if e.compare.late || e.compare.holder != nil && time.Now().After(e.compare.heldTill) {
		end(e.compare.holder)
		e.compare.holder = nil
		return fmt.Errorf("the hold on %s ended before every server had opened its view: ask again", e.cfg.Name)
	}
	if e.compare.holder == nil {
		return fmt.Errorf("%s holds no writes", e.cfg.Name)
	}
	end(e.compare.holder)
	e.compare.holder = nil
	return nil
}

// Forget implements engine.Comparer.
func (e *Engine) Forget(context.Context) error {
	e.endCompare()
	return nil
}

func (e *Engine) endCompare() {
	e.compare.Lock()
	defer e.compare.Unlock()
	end(e.compare.holder)
	e.compare.view.close()
	e.compare.holder, e.compare.view = nil, nil
}

// tableShape is one table that can be summed.
type tableShape struct {
	schema, table string
	bytes         int64
	row           string // expression for the text of a whole row
	key           string // expression for a hash of its primary key
	shown         string // expression for the primary key as a person writes it
}

func (t tableShape) from() string { return name(t.schema) + "." + name(t.table) }

// shapes lists the users' tables of the transactional engine: of others no
// moment can be held.
func shapes(ctx context.Context, c *sql.Conn, where string, args ...any) ([]tableShape, error) {
	rows, err := c.QueryContext(ctx,
		"select t.table_schema, t.table_name, coalesce(t.data_length, 0), col.column_name, col.column_key = 'PRI' from "+
			"information_schema.tables t join information_schema.columns col on col.table_schema = t.table_schema and "+
			"col.table_name = t.table_name where t.table_type = 'BASE TABLE' and t.engine = 'InnoDB' and t.table_schema "+
			"not in "+systemSchemas+where+" order by 1, 2, col.ordinal_position", args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []tableShape
	var columns, keys []string
	flush := func() {
		if n := len(out); n > 0 {
			out[n-1].row = joined(columns)
			if len(keys) > 0 {
				out[n-1].key, out[n-1].shown = joined(keys), readable(keys)
			}
		}
		columns, keys = nil, nil
	}
	for rows.Next() {
		var s tableShape
		var column string
		var key bool
		if err := rows.Scan(&s.schema, &s.table, &s.bytes, &column, &key); err != nil {
			return nil, err
		}
		if n := len(out); n == 0 || out[n-1].schema != s.schema || out[n-1].table != s.table {
			flush()
			out = append(out, s)
		}
		columns = append(columns, name(column))
		if key {
			keys = append(keys, name(column))
		}
	}
	flush()
	return out, rows.Err()
}

// joined returns an expression for several columns without ambiguity: a hash of the
// bytes of each, NULL apart from the empty text. A hash of each, because a text of
// several large values is too long for the server, and becomes NULL (measured).
func joined(columns []string) string {
	var parts []string
	for _, c := range columns {
		parts = append(parts, "ifnull(md5("+c+"), '-')")
	}
	return "concat_ws(',', " + strings.Join(parts, ", ") + ")"
}

// readable is joined for people: keys as a person writes them.
func readable(columns []string) string {
	var parts []string
	for _, c := range columns {
		parts = append(parts, "ifnull(cast("+c+" as char), '-')")
	}
	return "concat_ws(',', " + strings.Join(parts, ", ") + ")"
}

// sequencesOf reads all sequences: they have no engine of their own, and no view.
func sequencesOf(ctx context.Context, c *sql.Conn) ([]verb.TableSum, error) {
	var names [][2]string
	err := eachRow(ctx, c, "select table_schema, table_name from information_schema.tables where table_type = "+
		"'SEQUENCE' and table_schema not in "+
		systemSchemas, func(schema, table string) { names = append(names, [2]string{schema, table}) })
	if err != nil {
		return nil, err
	}
	var out []verb.TableSum
	for _, n := range names {
		s := verb.TableSum{Table: n[0] + "." + n[1], Rows: 1, Sequence: true}
		if err := c.QueryRowContext(ctx,
			"select concat_ws(' ', next_not_cached_value, cycle_count, increment, minimum_value, maximum_value) from "+
				name(n[0])+"."+name(n[1])).Scan(&s.Sum); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// leftOutOf lists what holds data and is not compared: of other engines no moment
// can be held.
func leftOutOf(ctx context.Context, c *sql.Conn) (out []verb.TableSum, err error) {
	return out, eachRow(ctx, c,
		"select concat(table_schema, '.', table_name), concat(engine, ': it cannot be read as of one moment') from "+
			"information_schema.tables where table_type = 'BASE TABLE' and engine <> 'InnoDB' and table_schema not in "+
			systemSchemas, func(table, why string) { out = append(out, verb.TableSum{Table: table, Left: why}) })
}

// warning returns what the server said of the statement before, empty when nothing.
func warning(ctx context.Context, c *sql.Conn) (text string, err error) {
	rows, err := c.QueryContext(ctx, "show warnings limit 1")
	if err != nil {
		return "", err
	}
	defer rows.Close()
	for rows.Next() {
		var level, number string
		if err := rows.Scan(&level, &number, &text); err != nil {
			return "", err
		}
	}
	return text, rows.Err()
}

// hashes returns two expressions of 15 hexadecimal digits each of a row's hash.
func hashes(row string) (string, string) {
	return "cast(conv(left(md5(" + row + "), 15), 16, 10) as unsigned)",
		"cast(conv(right(md5(" + row + "), 15), 16, 10) as unsigned)"
}

// Sums implements engine.Comparer: for every table the number of rows and the
// sums of two hashes a row, which no order of rows changes.
func (e *Engine) Sums(ctx context.Context, progress engine.Progress) ([]verb.TableSum, error) {
	e.compare.Lock()
	defer e.compare.Unlock()
	if e.compare.view == nil {
		return nil, fmt.Errorf("%s has no open view of its data", e.cfg.Name)
	}
	tables, err := shapes(ctx, e.compare.view.Conn, "")
	if err != nil {
		return nil, e.explain(err)
	}
	var done, total int64
	for _, t := range tables {
		total += t.bytes
	}
	out := slices.Clone(e.compare.sequences)
	left, err := leftOutOf(ctx, e.compare.view.Conn)
	if err != nil {
		return nil, e.explain(err)
	}
	out = append(out, left...)
	for _, t := range tables {
		s := verb.TableSum{Table: t.schema + "." + t.table, Bytes: t.bytes}
		progress("summing "+s.Table, done, total)
		a, b := hashes(t.row)
		if err := e.compare.view.QueryRowContext(ctx,
			"select count(*), concat(coalesce(sum("+a+"), 0), ' ', coalesce(sum("+b+"), 0)) from "+t.from()).Scan(&s.Rows,
			&s.Sum); err != nil {
			return nil, fmt.Errorf("sum %s on %s: %w", s.Table, e.cfg.Name, err)
		}
		if s.Left, err = warning(ctx, e.compare.view.Conn); err != nil {
			return nil, e.explain(err)
		}
		done += t.bytes
		out = append(out, s)
	}
	return out, nil
}

// bucketCount is into how many parts a table's keys are spread to find the rows
// that differ.
const bucketCount = 1024

// Rows implements engine.Comparer.
func (e *Engine) Rows(ctx context.Context, a verb.Rows) (verb.RowSums, error) {
	e.compare.Lock()
	defer e.compare.Unlock()
	var out verb.RowSums
	if e.compare.view == nil {
		return out, fmt.Errorf("%s has no open view of its data", e.cfg.Name)
	}
	schema, table, _ := strings.Cut(a.Table, ".")
	list, err := shapes(ctx, e.compare.view.Conn, " and t.table_schema = ? and t.table_name = ?", schema, table)
	if err != nil || len(list) != 1 {
		return out, e.explain(errors.Join(err, missing(len(list), a.Table)))
	}
	t := list[0]
	if t.key == "" {
		return verb.RowSums{NoKey: true}, nil
	}
	bucket := fmt.Sprintf("crc32(%s) & %d", t.key, bucketCount-1)
	h, _ := hashes(t.row)
	if len(a.Buckets) == 0 {
		out.Buckets = map[int]string{}
		return out, eachRow(ctx, e.compare.view.Conn,
			"select "+bucket+", concat(count(*), ' ', sum("+h+")) from "+t.from()+" group by 1",
			func(k int, v string) { out.Buckets[k] = v })
	}
	out.Rows = map[string]string{}
	in := strings.Trim(strings.ReplaceAll(fmt.Sprint(a.Buckets), " ", ","), "[]")
	return out, eachRow(ctx, e.compare.view.Conn,
		"select "+t.shown+", "+h+" from "+t.from()+" where "+bucket+" in ("+in+") limit 100000",
		func(k, v string) { out.Rows[k] = v })
}

func missing(n int, table string) error {
	if n != 1 {
		return fmt.Errorf("there is no table %s", table)
	}
	return nil
}

// eachRow reads rows of a key and a text.
func eachRow[K any](ctx context.Context, c *sql.Conn, query string, each func(K, string)) error {
	rows, err := c.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var k K
		var v string
		if err := rows.Scan(&k, &v); err != nil {
			return err
		}
		each(k, v)
	}
	return rows.Err()
}
