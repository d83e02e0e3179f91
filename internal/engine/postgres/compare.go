package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// compareState is the agent's part of a comparison: on the primary the
// sessions that hold writes, and everywhere the sessions whose view stands
// still. Both end by themselves.
type compareState struct {
	sync.Mutex
	holders  []*pgx.Conn
	heldTill time.Time
	views    map[string]*pgx.Conn // by database
	opened   time.Time
	// sequences are no part of a view: they are read when it is opened, while nobody
	// writes.
	sequences []verb.TableSum
}

// viewLimit bounds the life of a forgotten view: an old one keeps dead rows.
const viewLimit = 6 * time.Hour

// Hold implements engine.Comparer. It takes a share lock on every table, which
// waits for running writers and stops new ones, for at most the given time,
// and opens this server's own view under it. A writer that does not finish
// makes it give way and try again: others never queue behind it for long.
func (e *Engine) Hold(ctx context.Context, seconds float64) (verb.Held, error) {
	e.endCompare(ctx)
	if err := e.letReaderIn(ctx); err != nil {
		return verb.Held{}, err
	}
	names, err := e.databases(ctx, e.pool)
	if err != nil {
		return verb.Held{}, err
	}
	for try := range 30 {
		patience := min(lockPatience*time.Duration(2+try)/2, time.Second)
		if err = e.tryHold(ctx, names, seconds, patience); err == nil {
			break
		}
		e.endCompare(ctx)
		select {
		case <-ctx.Done():
			return verb.Held{}, fmt.Errorf("hold writes on %s: %w", e.cfg.Name, err)
		case <-time.After(time.Duration(50+20*try) * time.Millisecond):
		}
	}
	if err != nil {
		return verb.Held{}, fmt.Errorf("writes on %s could not be held for a moment: %w", e.cfg.Name, err)
	}
	// A committed message flushes all that was written before it.
	var at string
	if err := e.pool.QueryRow(ctx, "select "+unsynced+", pg_logical_emit_message(true, '"+markPrefix+
		"', 'hold')::text").Scan(nil, &at); err != nil {
		e.endCompare(ctx)
		return verb.Held{}, e.explain(err)
	}
	return verb.Held{At: at}, nil
}

// lockPatience is how long a hold waits for running writers at first. Everybody
// else waits behind it as long.
const lockPatience = 150 * time.Millisecond

func (e *Engine) tryHold(ctx context.Context, databases []string, seconds float64, patience time.Duration) error {
	e.compare.Lock()
	defer e.compare.Unlock()
	for _, db := range databases {
		c, err := e.connect(ctx, db, e.cfg.SocketDir, e.cfg.Port)
		if err != nil {
			return err
		}
		e.compare.holders = append(e.compare.holders, c)
		var tables string
		if err := c.QueryRow(ctx,
			"select coalesce(string_agg(c.oid::regclass::text, ', ' order by c.oid), '') from pg_class c join pg_namespace "+
				"n on n.oid = relnamespace where "+comparedTables).Scan(&tables); err != nil {
			return err
		}
		if tables == "" {
			continue
		}
		if _, err := c.Exec(ctx, fmt.Sprintf("begin; set local lock_timeout = %d; lock table %s in share mode",
			patience.Milliseconds(), tables)); err != nil {
			return err
		}
	}
	if err := e.openViews(ctx, databases); err != nil {
		return err
	}
	limit := time.Duration(seconds * float64(time.Second))
	till := time.Now().Add(limit)
	e.compare.heldTill = till
	// Writes go on at the deadline, whatever becomes of the service.
	time.AfterFunc(limit, func() {
		e.compare.Lock()
		defer e.compare.Unlock()
		if e.compare.heldTill.Equal(till) {
			for _, c := range e.compare.holders {
				c.Close(context.Background())
			}
		}
	})
	return nil
}

// openViews opens one repeatable-read session a database. Texts of values
// depend on a few settings, which are the same for every server here.
func (e *Engine) openViews(ctx context.Context, databases []string) error {
	e.compare.views, e.compare.opened, e.compare.sequences = map[string]*pgx.Conn{}, time.Now(), nil
	for _, db := range databases {
		c, err := e.connectReader(ctx, db, e.cfg.SocketDir, e.cfg.Port)
		if err != nil {
			return fmt.Errorf("read database %s on %s as %s: %w", db, e.cfg.Name, verb.ReaderUser, err)
		}
		e.compare.views[db] = c
		if _, err := c.Exec(ctx,
			"set datestyle = 'ISO'; set intervalstyle = 'postgres'; set timezone = 'UTC'; set extra_float_digits = 3; set "+
				"bytea_output = 'hex'; set search_path = ''; begin isolation level repeatable read read only; select "+
				"txid_current_snapshot()"); err != nil {
			return err
		}
		list, err := sequencesOf(ctx, c, db)
		if err != nil {
			return err
		}
		e.compare.sequences = append(e.compare.sequences, list...)
	}
	opened := e.compare.opened
	time.AfterFunc(viewLimit, func() {
		e.compare.Lock()
		same := e.compare.opened.Equal(opened)
		e.compare.Unlock()
		if same {
			e.endCompare(context.Background())
		}
	})
	return nil
}

// Snapshot implements engine.Comparer on a replica: once it has applied the
// held position it opens its view.
func (e *Engine) Snapshot(ctx context.Context, a verb.Snapshot) error {
	e.endCompare(ctx)
	ctx, cancel := context.WithTimeout(ctx, time.Duration(a.Seconds*float64(time.Second)))
	defer cancel()
	if _, err := position.ParseLSN(a.Hold.At); err != nil {
		return err
	}
	for {
		var passed bool
		if err := e.pool.QueryRow(ctx, "select coalesce(pg_last_wal_replay_lsn() >= "+literal(a.Hold.At)+
			", true)").Scan(&passed); err != nil {
			return fmt.Errorf("%s has not applied %s within the hold: %w", e.cfg.Name, a.Hold.At, err)
		}
		if passed {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	if err := e.letReaderIn(ctx); err != nil {
		return err
	}
	names, err := e.databases(ctx, e.pool)
	if err != nil {
		return err
	}
	e.compare.Lock()
	defer e.compare.Unlock()
	return e.openViews(ctx, names)
}

// Release implements engine.Comparer. It fails when the deadline had ended the
// hold before: then the views may stand at different positions.
func (e *Engine) Release(ctx context.Context) error {
	e.compare.Lock()
	defer e.compare.Unlock()
	if len(e.compare.holders) == 0 {
		return fmt.Errorf("%s holds no writes", e.cfg.Name)
	}
	late := time.Now().After(e.compare.heldTill)
	for _, c := range e.compare.holders {
		late = late || c.IsClosed()
		c.Close(ctx)
	}
	e.compare.holders = nil
	if late {
		return fmt.Errorf("the hold on %s ended before every server had opened its view: ask again", e.cfg.Name)
	}
	return nil
}

// Forget implements engine.Comparer.
func (e *Engine) Forget(ctx context.Context) error {
	e.endCompare(ctx)
	return nil
}

func (e *Engine) endCompare(ctx context.Context) {
	e.compare.Lock()
	defer e.compare.Unlock()
	for _, c := range e.compare.holders {
		c.Close(ctx)
	}
	for _, c := range e.compare.views {
		c.Close(ctx)
	}
	e.compare.holders, e.compare.views = nil, nil
}

// rowHash returns two independent 64-bit hashes of a row's text. The text is made by
// output functions alone: a cast may be a function of whoever owns the table, and
// would run with a superuser's rights.
const rowHash = "pg_catalog.hashtextextended(pg_catalog.format('%%s', " + rowAlias + "), %d)"

// rowAlias names a row of a table in a query. A column of that name would be taken
// for it, so it is one that nobody gives a column.
const rowAlias = `"a row of Cross Twin's"`

// Sums implements engine.Comparer: for every table the number of rows and the
// sums of two hashes a row, which no order of rows changes.
func (e *Engine) Sums(ctx context.Context, progress engine.Progress) ([]verb.TableSum, error) {
	e.compare.Lock()
	defer e.compare.Unlock()
	if len(e.compare.views) == 0 {
		return nil, fmt.Errorf("%s has no open view of its data", e.cfg.Name)
	}
	out := slices.Clone(e.compare.sequences)
	for db, c := range e.compare.views {
		left, err := leftOutOf(ctx, c, db)
		if err != nil {
			return nil, e.explain(err)
		}
		out = append(out, left...)
		tables, err := tablesOf(ctx, c)
		if err != nil {
			return nil, e.explain(err)
		}
		var done, total int64
		for _, t := range tables {
			total += t.Bytes
		}
		for _, t := range tables {
			progress("summing "+db+"."+t.Table, done, total)
			sql := fmt.Sprintf("select count(*), coalesce(sum("+rowHash+"), 0)::text || ' ' || coalesce(sum("+rowHash+
				"), 0)::text from only %s "+rowAlias, 0, 1, t.Table)
			if err := c.QueryRow(ctx, sql).Scan(&t.Rows, &t.Sum); err != nil {
				return nil, fmt.Errorf("sum %s.%s on %s: %w", db, t.Table, e.cfg.Name, err)
			}
			done += t.Bytes
			if t.Rows == 0 && strings.HasPrefix(t.Table, "pg_catalog.") {
				continue // no large objects
			}
			t.Table = db + "." + t.Table
			out = append(out, t)
		}
	}
	return out, nil
}

// comparedTables are the users' tables, and the one that holds large objects.
const comparedTables = "relkind = 'r' and relpersistence = 'p' and nspname <> 'information_schema' and nspname " +
	"not like 'pg\\_toast%' and (nspname <> 'pg_catalog' or relname in ('pg_largeobject', 'pg_largeobject_metadata'))"

// sequencesOf reads the sequences of a database. A primary logs a sequence some
// values ahead, and a replica holds what was logged: that is what is compared.
func sequencesOf(ctx context.Context, c *pgx.Conn, db string) ([]verb.TableSum, error) {
	rows, err := c.Query(ctx,
		"select quote_ident(nspname) || '.' || quote_ident(relname), seqincrement from pg_sequence join pg_class c on "+
			"c.oid = seqrelid join pg_namespace n on n.oid = relnamespace where relpersistence = 'p'")
	if err != nil {
		return nil, err
	}
	type sequence struct {
		name      string
		increment int64
	}
	list, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (s sequence, err error) {
		return s, r.Scan(&s.name, &s.increment)
	})
	if err != nil {
		return nil, err
	}
	var out []verb.TableSum
	for _, s := range list {
		x := verb.TableSum{Table: db + "." + s.name, Rows: 1, Sequence: true}
		if err := c.QueryRow(ctx, fmt.Sprintf("select last_value + log_cnt * (%d)::bigint || ' ' || is_called from %s",
			s.increment, s.name)).Scan(&x.Sum); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// leftOutOf lists what holds data and is not compared.
func leftOutOf(ctx context.Context, c *pgx.Conn, db string) ([]verb.TableSum, error) {
	rows, err := c.Query(ctx,
		`select quote_ident(nspname) || '.' || quote_ident(relname), case
			when relkind = 'm' then 'materialized view: it cannot be read as of one moment'
			when relkind = 'f' then 'foreign table: its data is elsewhere'
			else 'unlogged: it is empty on a replica' end
		from pg_class c join pg_namespace n on n.oid = relnamespace
		where (relkind in ('m', 'f') or relkind = 'r' and relpersistence = 'u')
		  and nspname not in ('pg_catalog', 'information_schema')`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (t verb.TableSum, err error) {
		err = r.Scan(&t.Table, &t.Left)
		t.Table = db + "." + t.Table
		return t, err
	})
}

func tablesOf(ctx context.Context, c *pgx.Conn) ([]verb.TableSum, error) {
	rows, err := c.Query(ctx,
		"select quote_ident(nspname) || '.' || quote_ident(relname), pg_relation_size(c.oid) from pg_class c join "+
			"pg_namespace n on n.oid = relnamespace where "+comparedTables+" order by 1")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(r pgx.CollectableRow) (verb.TableSum, error) {
		var t verb.TableSum
		return t, r.Scan(&t.Table, &t.Bytes)
	})
}

// bucketCount is into how many parts a table's keys are spread to find the rows
// that differ.
const bucketCount = 1024

// Rows implements engine.Comparer.
func (e *Engine) Rows(ctx context.Context, a verb.Rows) (verb.RowSums, error) {
	e.compare.Lock()
	defer e.compare.Unlock()
	db, table := cutTable(a.Table)
	c := e.compare.views[db]
	if c == nil {
		return verb.RowSums{}, fmt.Errorf("%s has no open view of database %s", e.cfg.Name, db)
	}
	var key *string
	if err := c.QueryRow(ctx,
		"select string_agg('pg_catalog.format(''%s'', ' || quote_ident(attname) || ')', ' || '','' || ' order by "+
			"array_position(i.indkey, attnum)) from pg_index i join pg_attribute on attrelid = indrelid and attnum = "+
			"any(indkey) where indisprimary and indrelid = "+literal(table)+"::regclass").Scan(&key); err != nil {
		return verb.RowSums{}, e.explain(err)
	}
	if key == nil {
		return verb.RowSums{NoKey: true}, nil
	}
	bucket := fmt.Sprintf("(pg_catalog.hashtextextended(%s, 0) & %d)", *key, bucketCount-1)
	if len(a.Buckets) == 0 {
		out := verb.RowSums{Buckets: map[int]string{}}
		rows, err := c.Query(ctx, fmt.Sprintf("select %s::int, count(*) || ' ' || sum("+rowHash+
			")::text from only %s "+rowAlias+" group by 1", bucket, 0, table))
		if err != nil {
			return out, e.explain(err)
		}
		for rows.Next() {
			var b int
			var s string
			if err := rows.Scan(&b, &s); err != nil {
				return out, err
			}
			out.Buckets[b] = s
		}
		return out, rows.Err()
	}
	out := verb.RowSums{Rows: map[string]string{}}
	list := ""
	for i, b := range a.Buckets {
		if i > 0 {
			list += ","
		}
		list += fmt.Sprint(b)
	}
	rows, err := c.Query(ctx, fmt.Sprintf("select %s, "+rowHash+"::text from only %s "+rowAlias+" where %s in (%s) "+
		"limit 100000",
		*key, 0, table, bucket, list))
	if err != nil {
		return out, e.explain(err)
	}
	for rows.Next() {
		var k, s string
		if err := rows.Scan(&k, &s); err != nil {
			return out, err
		}
		out.Rows[k] = s
	}
	return out, rows.Err()
}

func cutTable(s string) (db, table string) {
	for i := range s {
		if s[i] == '.' {
			return s[:i], s[i+1:]
		}
	}
	return "", s
}
