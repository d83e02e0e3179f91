package gate

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"crosstwin/internal/core/position"
	core "crosstwin/internal/core/session"
)

// mariaState is what there is of a session, as its server said at a boundary (handbook, "Gate
// facts", 2): the variables that differ from those of its login, and what else can be asked.
type mariaState struct {
	variables map[string]*string
	users     []userVariable
	database  string
	role      string
	lastID    string
	lastGTID  string
	why       []string // what cannot be carried
}

// userVariable is one of the session's own: a number as its text, all else in hex.
type userVariable struct{ name, kind, text, charset string }

// variablesSQL lists the variables of sessions that can be set back. What has no global value is
// no setting (timestamp, insert_id): setting it would do something else.
const variablesSQL = "select lower(variable_name), variable_type from information_schema.system_variables " +
	"where variable_scope = 'SESSION' and read_only = 'NO' and global_value is not null and " +
	"variable_name not in ('gtid_seq_no', 'pseudo_slave_mode', 'pseudo_thread_id', 'wsrep_gtid_seq_no', 'server_id') " +
	"order by 1 limit 10000"

// variables are the names with their types, asked once of each server's process.
func (s *mariaSession) variables(b *mariaBackend) (map[string]string, error) {
	key := b.Name + " " + b.process
	s.g.mu.Lock()
	have := s.g.variables[key]
	s.g.mu.Unlock()
	if have != nil {
		return have, nil
	}
	rows, _, err := b.ask(variablesSQL, s.noEnds)
	if err != nil {
		return nil, err
	}
	have = map[string]string{}
	for _, r := range rows {
		if len(r) == 2 && r[0] != nil && r[1] != nil {
			have[*r[0]] = *r[1]
		}
	}
	if len(have) == 0 {
		return nil, errors.New("the server names no variables")
	}
	s.g.mu.Lock()
	defer s.g.mu.Unlock()
	if len(s.g.variables) > 50 {
		clear(s.g.variables)
	}
	s.g.variables[key] = have
	return have, nil
}

// asksMore are what is asked beside the variables.
const asksMore = "database(), current_role(), last_insert_id(), @@last_gtid, @@sql_log_bin"

// userVariablesSQL lists a session's own variables. The view shows texts converted and cut, so
// these are asked once more, as they are.
const userVariablesSQL = "select variable_name, variable_type, variable_value, character_set_name from " +
	"information_schema.user_variables order by 1 limit 10000"

// countsSQL are the statements that leave what is listed nowhere.
const countsSQL = "select lower(variable_name), variable_value from information_schema.session_status where " +
	"variable_name in ('Com_create_temporary_table', 'Com_ha_open', 'Com_lock_tables', 'Com_prepare_sql') and " +
	"variable_value > 0 limit 100"

var countReasons = map[string]string{"com_create_temporary_table": "a temporary table",
	"com_ha_open": "an open HANDLER", "com_lock_tables": "LOCK TABLES", "com_prepare_sql": "a statement prepared in SQL"}

// values asks for all variables at once.
func (s *mariaSession) values(b *mariaBackend) (names []string, values map[string]*string, more []*string, err error) {
	kinds, err := s.variables(b)
	if err != nil {
		return nil, nil, nil, err
	}
	names = slices.Sorted(maps.Keys(kinds))
	rows, _, err := b.ask("select @@session."+strings.Join(names, ", @@session.")+", "+asksMore+" limit 1", s.noEnds)
	if err != nil {
		return nil, nil, nil, err
	}
	if len(rows) != 1 || len(rows[0]) != len(names)+5 {
		return nil, nil, nil, errors.New("the session's variables cannot be read")
	}
	values = map[string]*string{}
	for i, n := range names {
		values[n] = rows[0][i]
	}
	if b.untimed != nil {
		values[timeLimit] = b.untimed
	}
	return names, values, rows[0][len(names):], nil
}

// timeLimit is the variable that bounds how long a session's statements take; timedOut is the error
// of one that took longer.
const (
	timeLimit = "max_statement_time"
	timedOut  = 1969
)

// ask asks one of the gate's own questions, without the session's limit where that was lifted.
func (b *mariaBackend) ask(sql string, noEnds bool) ([][]*string, *core.Exchange, error) {
	if b.untimed != nil {
		sql = "set statement " + timeLimit + " = 0 for " + sql
	}
	return b.command(core.ComQuery, sql, noEnds)
}

// lift lifts the session's limit for the gate's questions. It may hit this one too, which is short.
func (b *mariaBackend) lift(noEnds bool) error {
	for tries := 0; ; tries++ {
		rows, _, err := b.command(core.ComQuery, "select @@session."+timeLimit+" limit 1", noEnds)
		if err == nil && len(rows) == 1 && len(rows[0]) == 1 {
			b.untimed = rows[0][0]
			return nil
		}
		if tries == 10 || err == nil {
			return errors.Join(err, errors.New("the time that the session gives its statements cannot be read"))
		}
	}
}

// readState asks a server what there is of the session. Base are the variables of its login.
func (s *mariaSession) readState(b *mariaBackend, base map[string]*string) (*mariaState, error) {
	names, values, more, err := s.values(b)
	if err != nil {
		return nil, err
	}
	st := &mariaState{variables: map[string]*string{}, database: value(more[0]), role: value(more[1]),
		lastID: value(more[2]), lastGTID: value(more[3])}
	for _, n := range names {
		was, there := base[n]
		if now := values[n]; there && (now == nil) != (was == nil) || there && now != nil && *now != *was {
			st.variables[n] = now
		}
	}
	if value(more[4]) == "0" {
		st.why = append(st.why, "sql_log_bin switched off")
	}
	if st.users, err = s.userVariables(b); err != nil {
		return nil, err
	}
	rows, _, err := b.ask(countsSQL, s.noEnds)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if reason := countReasons[value(r[0])]; reason != "" {
			st.why = append(st.why, reason)
		}
	}
	return st, nil
}

// userVariables asks for the session's own variables.
func (s *mariaSession) userVariables(b *mariaBackend) (list []userVariable, err error) {
	rows, _, err := b.ask(userVariablesSQL, s.noEnds)
	if err != nil {
		return nil, err
	}
	var texts []int
	var ask []string
	for i, r := range rows {
		if len(r) != 4 {
			return nil, errors.New("the session's own variables cannot be read")
		}
		v := userVariable{value(r[0]), value(r[1]), value(r[2]), value(r[3])}
		switch {
		case r[2] == nil:
			v.kind = "NULL"
		case !v.isNumber():
			texts, ask = append(texts, i), append(ask, "hex(@"+quoteName(v.name)+")")
		}
		list = append(list, v)
	}
	if len(texts) == 0 {
		return list, nil
	}
	rows, _, err = b.ask("select "+strings.Join(ask, ", ")+" limit 1", s.noEnds)
	if err != nil || len(rows) != 1 || len(rows[0]) != len(texts) {
		return nil, errors.Join(err, errors.New("the session's own variables cannot be read"))
	}
	for i, at := range texts {
		list[at].text = value(rows[0][i])
	}
	return list, nil
}

func (u userVariable) isNumber() bool {
	return (u.kind == "INT" || u.kind == "INT UNSIGNED" || u.kind == "DECIMAL" || u.kind == "DOUBLE") && numeric(u.text)
}

func quoteName(s string) string { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }

func value(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// restore are the statements that make a fresh connection what the session was. What the client's
// character sets are is set last, in which the texts of its prepared statements are.
func (st *mariaState) restore(kinds map[string]string) (list []string) {
	for _, u := range st.users {
		list = append(list, "set @"+quoteName(u.name)+" = "+u.literal())
	}
	if st.role != "" {
		list = append(list, "set role "+quoteName(st.role))
	}
	if st.lastID != "" && st.lastID != "0" {
		list = append(list, "set last_insert_id = "+st.lastID)
	}
	var set []string
	for _, late := range []bool{false, true} {
		for _, n := range slices.Sorted(maps.Keys(st.variables)) {
			if strings.Contains(n, "character_set") || strings.Contains(n, "collation") {
				if !late {
					continue
				}
			} else if late {
				continue
			}
			set = append(set, "@@session."+n+" = "+variableLiteral(st.variables[n], kinds[n]))
		}
	}
	if len(set) > 0 {
		list = append(list, "set "+strings.Join(set, ", "))
	}
	return list
}

// literal is a user variable's value, in a form that needs no character set to be read.
func (u userVariable) literal() string {
	switch {
	case u.kind == "NULL":
		return "null"
	case u.isNumber():
		if u.kind == "DOUBLE" && !strings.ContainsAny(u.text, "eE") {
			return u.text + "e0"
		}
		return u.text
	case u.charset == "":
		return "x'" + u.text + "'"
	}
	return "_" + u.charset + " x'" + u.text + "'"
}

func numeric(s string) bool {
	_, err := strconv.ParseFloat(s, 64)
	return err == nil && strings.Trim(s, "+-.0123456789eE") == ""
}

// variableLiteral is the value of a variable of a type.
func variableLiteral(v *string, kind string) string {
	switch {
	case v == nil:
		return "null"
	case numeric(*v) && (strings.Contains(kind, "INT") || kind == "DOUBLE" || kind == "BOOLEAN"):
		return *v
	case kind == "BOOLEAN":
		return map[bool]string{true: "1", false: "0"}[strings.EqualFold(*v, "ON")]
	}
	return "x'" + fmt.Sprintf("%x", *v) + "'"
}

// holds reports whether a server holds a transaction, by what its log holds last of each server
// (gtid_binlog_state, gtid_current_pos).
func holds(lastGTID string, states ...string) bool {
	want, err := position.ParseGTID(lastGTID)
	if lastGTID == "" {
		return true
	}
	if err != nil {
		return false
	}
	for _, list := range states {
		for _, t := range strings.Split(list, ",") {
			if g, err := position.ParseGTID(strings.TrimSpace(t)); err == nil && g.Domain == want.Domain &&
				g.Server == want.Server && g.Seq >= want.Seq {
				return true
			}
		}
	}
	return false
}
