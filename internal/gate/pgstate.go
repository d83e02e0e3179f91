package gate

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"

	"crosstwin/internal/core/position"
	core "crosstwin/internal/core/session"
)

// pgState is what there is of a session, as its server said at a boundary (handbook, "Gate facts",
// 2). What is not in here is either nothing, or named in why.
type pgState struct {
	settings [][2]string
	role     string
	user     string // that the session counts as
	prepared []pgPrepared
	channels []string
	locks    []pgLock
	why      []string // what cannot be carried
	// written is a position that holds all that the session wrote; line the timeline it is on.
	written position.LSN
	line    uint32
}

type pgPrepared struct {
	name, statement string
	types           []uint32
	sql             bool
}

// pgLock is an advisory lock: a whole key, or two halves.
type pgLock struct {
	shared, halves bool
	high, low      uint32
}

// askName is the name of the gate's own statement: a nameless one would end the client's.
const askName = "crosstwin_gate"

// askSQL asks for everything in one statement, by qualified names: the session's search path is
// its user's. Custom settings are asked by the names that are known.
func askSQL(names []string) string {
	sql := `select 's', s.name, s.setting, '' from pg_catalog.pg_settings s
	where s.source operator(pg_catalog.=) 'session'
union all select 'r', pg_catalog.current_setting('role'), session_user::pg_catalog.text, ''
union all select 'p', p.name, p.statement, pg_catalog.concat(p.from_sql, ' ',
	pg_catalog.array_to_string(p.parameter_types::pg_catalog.oid[], ' ')) from pg_catalog.pg_prepared_statements p
	where p.name operator(pg_catalog.<>) '` + askName + `'
union all select 'l', c, '', '' from pg_catalog.pg_listening_channels() c
union all select 'n', 'a cursor WITH HOLD', '', '' from pg_catalog.pg_cursors c where c.is_holdable
union all select 'n', 'a temporary table', '', '' where exists (select from pg_catalog.pg_depend d
	where d.refclassid operator(pg_catalog.=) 2615 and d.refobjid operator(pg_catalog.=) pg_catalog.pg_my_temp_schema())
union all select 'a', pg_catalog.concat(l.mode, ' ', l.objsubid), l.classid::pg_catalog.text, l.objid::pg_catalog.text
	from pg_catalog.pg_locks l where l.locktype operator(pg_catalog.=) 'advisory'
	and l.pid operator(pg_catalog.=) pg_catalog.pg_backend_pid() and l.granted
union all select 'w', w::pg_catalog.text, pg_catalog.pg_walfile_name(w), '' from (select case
	when pg_catalog.pg_is_in_recovery() then null else pg_catalog.pg_current_wal_flush_lsn() end w) x where w is not null`
	for _, n := range names {
		q := "'" + strings.ReplaceAll(n, "'", "''") + "'"
		if strings.Contains(n, `\`) {
			q = "E'" + strings.NewReplacer("'", "''", `\`, `\\`).Replace(n) + "'"
		}
		sql += "\nunion all select 's', " + q + ", v, '' from pg_catalog.current_setting(" + q +
			", true) v where v is not null"
	}
	return sql
}

// query are the messages that ask for a statement's rows in a transaction of its own.
func query(sql string) []pgproto3.Message {
	// It may have stayed behind in a transaction that failed.
	return []pgproto3.Message{&pgproto3.Close{ObjectType: 'S', Name: askName},
		&pgproto3.Parse{Name: askName, Query: sql}, &pgproto3.Bind{PreparedStatement: askName},
		&pgproto3.Execute{}, &pgproto3.Close{ObjectType: 'S', Name: askName}, &pgproto3.Sync{}}
}

// untimed asks without the session's timeout for statements, in the same transaction, and with the
// value that the session has.
func untimed(sql string) []pgproto3.Message {
	const (
		kept  = "pg_catalog.current_setting('crosstwin.statement_timeout')"
		first = "select '', pg_catalog.set_config('crosstwin.statement_timeout', " +
			"pg_catalog.current_setting('statement_timeout'), true), pg_catalog.set_config('statement_timeout', '0', true), ''"
	)
	sql = strings.Replace(sql, "select 's', s.name, s.setting", "select 's', s.name, "+
		"case when s.name operator(pg_catalog.=) 'statement_timeout' then "+kept+" else s.setting end", 1)
	return append([]pgproto3.Message{&pgproto3.Parse{Name: askName, Query: first},
		&pgproto3.Bind{PreparedStatement: askName}, &pgproto3.Execute{}}, query(sql)...)
}

// exchange sends messages that end with one Sync, and returns the answers; the session is the
// caller's (moving). The connection has gone where it fails.
func (s *pgSession) exchange(ctx context.Context, b *pgBackend, list []pgproto3.Message) ([]message, error) {
	answers := make(chan []message, 1)
	s.mu.Lock()
	b.answers = answers
	s.mu.Unlock()
	b.writing.Lock()
	err := b.send(list...)
	b.writing.Unlock()
	if err != nil {
		return nil, err
	}
	select {
	case got := <-answers:
		for _, m := range got {
			if m.kind == 'E' {
				return got, readError(m.body)
			}
		}
		return got, nil
	case <-b.gone:
		return nil, errors.New("the server went away")
	case <-ctx.Done():
		b.conn.Close() // its answers would be taken for the client's
		return nil, ctx.Err()
	}
}

// rows are the columns of a question's answer.
func rows(list []message) (out [][]string) {
	for _, m := range list {
		var r pgproto3.DataRow
		if m.kind != 'D' || r.Decode(m.body) != nil {
			continue
		}
		var row []string
		for _, v := range r.Values {
			row = append(row, string(v))
		}
		out = append(out, row)
	}
	return out
}

// readState makes a state of the answer.
func readState(list []message) (*pgState, error) {
	st := &pgState{}
	for _, r := range rows(list) {
		if len(r) != 4 {
			return nil, errors.New("the session's state cannot be read")
		}
		switch r[0] {
		case "s":
			st.settings = append(st.settings, [2]string{r[1], r[2]})
		case "r":
			st.role, st.user = r[1], r[2]
		case "p":
			p := pgPrepared{name: r[1], statement: r[2]}
			for i, f := range strings.Fields(r[3]) {
				if i == 0 {
					p.sql = f == "t" || f == "true"
					continue
				}
				n, err := strconv.ParseUint(f, 10, 32)
				if err != nil {
					return nil, err
				}
				p.types = append(p.types, uint32(n))
			}
			if p.sql && (!core.BeginsWith(p.statement, "PREPARE") || severalStatements(p.statement)) {
				st.why = append(st.why, "a statement prepared among others")
			}
			st.prepared = append(st.prepared, p)
		case "l":
			st.channels = append(st.channels, r[1])
		case "n":
			st.why = append(st.why, r[1])
		case "a":
			high, err1 := strconv.ParseUint(r[2], 10, 32)
			low, err2 := strconv.ParseUint(r[3], 10, 32)
			if err := errors.Join(err1, err2); err != nil {
				return nil, err
			}
			st.locks = append(st.locks, pgLock{strings.HasPrefix(r[1], "Share"), strings.HasSuffix(r[1], " 2"), uint32(high),
				uint32(low)})
		case "w":
			var line uint64
			var err1, err2 error
			st.written, err1 = position.ParseLSN(r[1])
			if len(r[2]) >= 8 { // a file's name begins with its timeline
				line, err2 = strconv.ParseUint(r[2][:8], 16, 32)
			}
			if err := errors.Join(err1, err2); err != nil {
				return nil, err
			}
			st.line = uint32(line)
		}
	}
	if st.user == "" {
		return nil, errors.New("the session's state is incomplete")
	}
	return st, nil
}

func severalStatements(text string) bool {
	return strings.Contains(strings.TrimRight(strings.TrimSpace(text), ";"), ";")
}

// call asks for a lock without waiting for it.
func (l pgLock) call() string {
	f := "pg_catalog.pg_try_advisory_lock"
	if l.shared {
		f += "_shared"
	}
	key := strconv.FormatInt(int64(uint64(l.high)<<32|uint64(l.low)), 10) // #nosec G115 -- the server shows it unsigned
	if l.halves {
		key = fmt.Sprintf("%d, %d", int32(l.high), int32(l.low)) // #nosec G115 -- likewise
	}
	return "select case when " + f + "(" + key + ") then '' else '" + lockTaken + "' end"
}

// lockTaken is answered where somebody else has a lock.
const lockTaken = "crosstwin: another session has it"

// restore are the messages that make a fresh connection what the session was, up to one Sync.
// Encoding comes first, in which all other texts are, the role last. The nameless statement is the
// client's newest.
func (st *pgState) restore(parsed []message, unnamed []byte) (list []pgproto3.Message) {
	add := func(m ...pgproto3.Message) { list = append(list, m...) }
	set := func(name, value string) {
		add(&pgproto3.Bind{PreparedStatement: askName, Parameters: [][]byte{[]byte(name), []byte(value)}},
			&pgproto3.Execute{})
	}
	run := func(sql string) {
		add(&pgproto3.Parse{Query: sql}, &pgproto3.Bind{}, &pgproto3.Execute{})
	}
	add(&pgproto3.Parse{Name: askName, Query: "select pg_catalog.set_config($1, $2, false)"})
	for _, encoding := range []bool{true, false} {
		for _, x := range st.settings {
			if (x[0] == "client_encoding") == encoding {
				set(x[0], x[1])
			}
		}
		if encoding {
			add(&pgproto3.Sync{})
		}
	}
	for _, c := range st.channels {
		run(`listen "` + strings.ReplaceAll(c, `"`, `""`) + `"`)
	}
	for _, l := range st.locks {
		run(l.call())
	}
	for _, p := range st.prepared {
		if p.sql {
			run(p.statement)
		} else {
			add(&pgproto3.Parse{Name: p.name, Query: p.statement, ParameterOIDs: p.types})
		}
	}
	if st.role != "" && st.role != "none" {
		set("role", st.role)
	}
	add(&pgproto3.Close{ObjectType: 'S', Name: askName}, &pgproto3.Sync{})
	for _, m := range parsed { // a transaction that was lost prepared them, and perhaps in vain
		add(raw(m.body), &pgproto3.Sync{})
	}
	if unnamed != nil {
		add(raw(unnamed), &pgproto3.Sync{})
	}
	return list
}

// raw is a message as the client sent it.
type raw []byte

func (raw) Frontend()                           {}
func (raw) Decode([]byte) error                 { return errors.New("it is written only") }
func (r raw) Encode(dst []byte) ([]byte, error) { return append(dst, r...), nil }

// become makes a connection what the session was. Failed: in a transaction that was ended.
func (b *pgBackend) become(st *pgState, parsed []message, unnamed []byte, failed bool) error {
	list := st.restore(parsed, unnamed)
	must := 2 + len(parsed)
	if unnamed != nil {
		must++
	}
	if failed {
		for _, sql := range []string{"begin", "do $$ begin raise exception using errcode = '" + codeRetry + "'; end $$"} {
			list = append(list, &pgproto3.Parse{Name: askName, Query: sql}, &pgproto3.Bind{PreparedStatement: askName},
				&pgproto3.Execute{}, &pgproto3.Close{ObjectType: 'S', Name: askName}, &pgproto3.Sync{})
		}
		must += 2
	}
	if err := b.send(list...); err != nil {
		return err
	}
	taken := false
	for part := 0; part < must; {
		kind, n, err := b.head()
		if err != nil {
			return err
		}
		body, err := b.body(n)
		if err != nil {
			return err
		}
		switch kind {
		case 'Z':
			part++
		case 'S':
			name, value := pair(body)
			b.params[name] = value
		case 'E':
			if e := readError(body); part < 2 || ends(body) {
				return e
			}
		case 'D':
			if r := rows([]message{{kind, body}}); len(r) == 1 && len(r[0]) == 1 && r[0][0] == lockTaken {
				taken = true
			}
		}
	}
	if taken {
		return errors.New("an advisory lock of the session is another's by now")
	}
	return nil
}

// lostAfter reports whether something that the session wrote may be missing on a server: it wrote
// past the point at which that server's history parted from its own.
func (st *pgState) lostAfter(line position.Line, past []position.Branch) bool {
	if st.written == 0 || st.line == line.Number {
		return false
	}
	for _, b := range past {
		if b.Timeline == st.line {
			return st.written > b.End
		}
	}
	return true
}
