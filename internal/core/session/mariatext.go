package session

import (
	"slices"
	"strconv"
	"strings"
)

// MariaText is what a text in MariaDB's language can do.
type MariaText struct {
	// Ends: it can commit the transaction that it runs in. Most statements that define something
	// do so without saying it (documentation, "SQL Statements That Cause an Implicit Commit"), so
	// all count but those that are known not to.
	Ends bool
	// Begins: it begins a transaction, first of all. It commits the one that is under way.
	Begins bool
	// Rollback: it is one statement, which takes all back.
	Rollback bool
	// Parts: a part of it can have been committed when it is ended outside of a transaction.
	Parts bool
	// ReadOnly: it is one statement, which begins a transaction that writes nothing.
	ReadOnly bool
	// Holds is what it leaves in the session that can be neither asked nor carried; empty: nothing.
	Holds string
	// Kill is the connection that it ends, written from KillAt up to KillEnd.
	Kill            int64
	KillAt, KillEnd int
}

// keepsOn are the first words of statements that commit nothing.
var keepsOn = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "REPLACE", "SAVEPOINT", "ROLLBACK", "SHOW", "WITH",
	"VALUES", "EXPLAIN", "DESCRIBE", "DESC", "SET", "USE", "DO", "("}

// ReadMaria reads a text.
func ReadMaria(text string) (out MariaText) {
	list := statements(mariaSyntax.tokens(text))
	over := false
	for i, s := range list {
		out.Ends = out.Ends || over // behind the end of the transaction
		over = over || takesBack(s)
		if i == 0 && (begins(s, "START", "TRANSACTION") || begins(s, "BEGIN") && len(s) <= 2) {
			out.Begins = true
			continue
		}
		out.read(s)
	}
	out.Parts = out.Ends || len(list) > 1
	if len(list) == 1 {
		out.Rollback = takesBack(list[0])
		out.ReadOnly = begins(list[0], "START", "TRANSACTION", "READ", "ONLY") && len(list[0]) == 4
	}
	return out
}

// takesBack reports whether a statement takes the whole transaction back.
func takesBack(s []token) bool {
	return s[0].is("ROLLBACK") && !slices.ContainsFunc(s, func(t token) bool { return t.is("TO") })
}

func (x *MariaText) read(s []token) {
	if !s[0].is(keepsOn...) || setsAutocommit(s) {
		x.Ends = true
	}
	if begins(s, "ROLLBACK") && len(s) > 1 && s[len(s)-1].is("CHAIN") {
		x.Ends = true
	}
	switch {
	case len(calls(s, "get_lock")) > 0:
		x.Holds = "a lock by GET_LOCK"
	case s[0].is("FLUSH") && slices.ContainsFunc(s, func(t token) bool { return t.is("LOCK", "EXPORT") }):
		x.Holds = "a lock by FLUSH TABLES"
	case begins(s, "BACKUP", "STAGE"), begins(s, "BACKUP", "LOCK"):
		x.Holds = "a lock by BACKUP"
	case s[0].is("XA"):
		x.Holds = "an XA transaction"
	}
	if s[0].is("KILL") {
		x.kill(s)
	}
}

func setsAutocommit(s []token) bool {
	return s[0].is("SET") && slices.ContainsFunc(s, func(t token) bool { return strings.EqualFold(t.text, "autocommit") })
}

func (x *MariaText) kill(s []token) {
	last := s[len(s)-1]
	n, err := strconv.ParseInt(last.text, 10, 64)
	byQuery := slices.ContainsFunc(s, func(t token) bool { return t.is("ID", "USER") })
	if err == nil && last.kind == number && !byQuery {
		x.Kill, x.KillAt, x.KillEnd = n, last.at, last.at+len(last.text)
	}
}
