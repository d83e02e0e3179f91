package session

import (
	"slices"
	"strings"
)

// PGText is what a text in PostgreSQL's language can do.
type PGText struct {
	// Ends: it can commit the transaction that it runs in.
	Ends bool
	// Commit: it is one statement, which commits.
	Commit bool
	// Settings are the names with a dot that it sets for the session. No server shows them in a
	// list: they are carried because their names are known.
	Settings []string
	// Hidden: it sets one whose name only it knows.
	Hidden bool
	// Locks: it may take an advisory lock, which outlasts its transaction.
	Locks bool
}

// ReadPG reads a text.
func ReadPG(text string) (out PGText) {
	all := postgresSyntax.tokens(text)
	list := statements(all)
	for _, s := range list {
		out.read(s)
	}
	out.Commit = len(list) == 1 && list[0][0].is("COMMIT", "END")
	return out
}

func (x *PGText) read(s []token) {
	// CALL can commit only outside of a transaction, and a DO block as well.
	if s[0].is("COMMIT", "END") || begins(s, "PREPARE", "TRANSACTION") {
		x.Ends = true
	}
	if s[0].is("SET") {
		x.reads(s[1:])
	}
	for _, args := range calls(s, "set_config") {
		x.setConfig(args)
	}
	x.Locks = x.Locks || slices.ContainsFunc(s, func(t token) bool {
		return (t.kind == word || t.kind == quoted) && strings.Contains(strings.ToUpper(t.text), "ADVISORY")
	})
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
