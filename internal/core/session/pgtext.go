package session

import (
	"slices"
	"strings"
)

// PGText is what a text in PostgreSQL's language can do.
type PGText struct {
	// Commits: it commits a transaction, or prepares that. Ends: it can commit the one that it runs
	// in, or something behind it.
	Commits, Ends bool
	// Over: it takes the transaction back that it runs in, so that what follows is no part of it.
	Over bool
	// Parts: a part of it can have been committed when it is ended outside of a transaction.
	Parts bool
	// Settings are the names with a dot that it sets for the session. No server shows them in a
	// list: they are carried because their names are known.
	Settings []string
	// Hidden: it sets one whose name only it knows.
	Hidden bool
	// Locks: it may take an advisory lock, which outlasts its transaction.
	Locks bool
	// Prepares: it prepares a statement, in SQL; Executes: it carries one out.
	Prepares, Executes bool
	// ReadOnly: it is one statement, which begins a transaction that writes nothing and may run on
	// a replica.
	ReadOnly bool
}

// wholes are the first words of statements that are committed as a whole or not at all. CALL and
// DO can commit several times outside of a transaction, and so do VACUUM and what is like it.
var wholes = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "MERGE", "WITH", "VALUES", "TABLE", "COPY", "EXECUTE",
	"FETCH", "MOVE", "DECLARE", "CLOSE", "BEGIN", "START", "SET", "RESET", "SHOW", "SAVEPOINT", "RELEASE", "ROLLBACK",
	"ABORT", "LOCK", "LISTEN", "UNLISTEN", "NOTIFY", "PREPARE", "DEALLOCATE", "DISCARD", "TRUNCATE", "("}

// ReadPG reads a text.
func ReadPG(text string) (out PGText) {
	list := statements(postgresSyntax.tokens(text))
	for _, s := range list {
		out.Ends = out.Ends || out.Over
		out.read(s)
	}
	out.Ends = out.Ends || out.Commits
	out.Parts = out.Parts || out.Ends
	out.ReadOnly = len(list) == 1 && readOnly(list[0])
	return out
}

func (x *PGText) read(s []token) {
	has := func(words ...string) bool {
		return slices.ContainsFunc(s, func(t token) bool { return t.is(words...) })
	}
	switch {
	case s[0].is("COMMIT", "END"), begins(s, "PREPARE", "TRANSACTION"):
		x.Commits = true
	case s[0].is("ROLLBACK", "ABORT") && !has("TO", "PREPARED"):
		x.Over = true
	case s[0].is("SET"):
		x.reads(s[1:])
	case s[0].is("DO"):
		x.block(s)
	}
	x.Parts = x.Parts || !s[0].is(wholes...) || has("PREPARED")
	x.Prepares = x.Prepares || s[0].is("PREPARE")
	x.Executes = x.Executes || s[0].is("EXECUTE")
	for _, args := range calls(s, "set_config") {
		x.setConfig(args)
	}
	x.Locks = x.Locks || slices.ContainsFunc(s, func(t token) bool {
		return t.kind != symbol && strings.Contains(strings.ToUpper(t.text), "ADVISORY")
	})
}

// block reads what a DO block sets. It can commit, but outside of a transaction only.
func (x *PGText) block(s []token) {
	for _, t := range s {
		if t.kind != literal {
			continue
		}
		all := postgresSyntax.tokens(dollarBody(t.text))
		dynamic := slices.ContainsFunc(all, func(t token) bool { return t.is("EXECUTE") })
		for i, w := range all {
			if w.is("SET") {
				x.reads(all[i+1:])
			}
			x.Hidden = x.Hidden || dynamic && w.kind == literal && begins(postgresSyntax.tokens(w.text), "SET")
		}
		for _, args := range calls(all, "set_config") {
			x.setConfig(args)
		}
	}
}

// dollarBody is what stands between the marks of a dollar-quoted text; another text is its own.
func dollarBody(s string) string {
	if tag := strings.IndexByte(strings.TrimPrefix(s, "$"), '$'); strings.HasPrefix(s, "$") && tag >= 0 {
		mark := s[:tag+2]
		return strings.TrimSuffix(s[len(mark):], mark)
	}
	return s
}

// readOnly reports whether a statement begins a transaction that writes nothing. One of isolation
// level SERIALIZABLE cannot run on a replica.
func readOnly(s []token) bool {
	if !s[0].is("BEGIN") && !begins(s, "START", "TRANSACTION") {
		return false
	}
	only := false
	for i, t := range s {
		switch {
		case t.is("SERIALIZABLE", "WRITE", "NOT"):
			return false
		case t.is("READ") && i+1 < len(s) && s[i+1].is("ONLY"):
			only = true
		}
	}
	return only
}

// reads reads SET [SESSION] NAME.NAME = ….
func (x *PGText) reads(s []token) {
	if len(s) > 0 && s[0].is("LOCAL") {
		return // gone with its transaction
	}
	if len(s) > 0 && s[0].is("SESSION") {
		s = s[1:]
	}
	var name strings.Builder
	for i, t := range s {
		part := i%2 == 0 && (t.kind == word || t.kind == quoted)
		if !part && !(i%2 == 1 && t.is(".")) {
			break
		}
		if t.kind == word {
			name.WriteString(strings.ToLower(t.text))
		} else {
			name.WriteString(t.text)
		}
	}
	x.setting(name.String())
}

// setConfig reads the arguments of set_config(name, value, is_local).
func (x *PGText) setConfig(args []token) {
	depth, from := 0, 0
	var list [][]token
	for i, t := range args {
		switch {
		case t.is("("):
			depth++
		case t.is(")") && depth > 0:
			depth--
		case depth == 0 && t.is(",", ")"):
			list = append(list, args[from:i])
			from = i + 1
		}
		if depth == 0 && t.is(")") && from == i+1 {
			break
		}
	}
	if len(list) >= 3 && len(list[2]) > 0 && (list[2][0].is("TRUE") || list[2][0].kind == literal &&
		strings.HasPrefix("true", strings.ToLower(list[2][0].text))) {
		return // gone with its transaction
	}
	if len(list) == 0 || len(list[0]) == 0 || list[0][0].kind != literal {
		x.Hidden = true
		return
	}
	x.setting(list[0][0].text)
}

// mostSettings bounds how many names are kept of a session.
const mostSettings = 200

func (x *PGText) setting(name string) {
	if !strings.Contains(name, ".") || slices.Contains(x.Settings, name) {
		return // the server lists it
	}
	if len(x.Settings) >= mostSettings || len(name) > 200 {
		x.Hidden = true
		return
	}
	x.Settings = append(x.Settings, name)
}

// BeginsWith reports whether a text's first word is one.
func BeginsWith(text, first string) bool {
	all := postgresSyntax.tokens(text)
	return len(all) > 0 && all[0].is(first)
}
