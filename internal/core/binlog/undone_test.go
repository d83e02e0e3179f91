package binlog

import (
	"strings"
	"testing"

	"crosstwin/internal/core/position"
)

// What can be taken back is decided on the events alone: every clue that a
// transaction cannot be restored from its images forbids it.
func TestEveryClueForbidsUndo(t *testing.T) {
	keyed := &Table{ID: 1, Database: "cargo", Name: "balances",
		Columns: []Column{{Name: "port_id", Key: true}, {Name: "containers"}}}
	keyless := &Table{ID: 2, Database: "cargo", Name: "heap", Columns: []Column{{Name: "a"}}}
	nameless := &Table{ID: 3, Database: "cargo", Name: "old", Columns: []Column{{}, {}}}
	rows := func(table *Table, kind string, full bool) *Rows {
		return &Rows{Table: table, Kind: kind, Full: full, Changes: []Change{{}}}
	}
	for _, c := range []struct {
		name   string
		change func(g *Group)
		why    string
	}{
		{"rows with full images", func(*Group) {}, ""},
		{"an insert whose image is not full", func(g *Group) { g.Rows = []*Rows{rows(keyed, "insert", false)} }, ""},
		{"an update whose image is not full", func(g *Group) { g.Rows[0].Full = false },
			"images of rows of cargo.balances are not complete"},
		{"a delete whose image is not full", func(g *Group) { g.Rows = []*Rows{rows(keyed, "delete", false)} },
			"not complete"},
		{"frames and savepoints", func(g *Group) {
			g.Statements = []Query{{Text: "BEGIN"}, {Text: "savepoint `s`"},
				{Text: "COMMIT"}}
		}, ""},
		{"a statement among rows", func(g *Group) {
			g.Statements = []Query{{Text: "BEGIN"}, {Text: "update  balances\nset containers = 0"}}
		}, "logged instead of rows: update balances set containers = 0"},
		{"a long statement", func(g *Group) {
			g.Statements = []Query{{Text: "insert into x values (" +
				strings.Repeat("1,", 200)}}
		}, " …"},
		{"definitions", func(g *Group) {
			g.GTID.Flags, g.Statements = DDL|Standalone, []Query{{Text: "alter table balances add x int"}}
		}, "it changes definitions: alter table balances add x int"},
		{"definitions without their statement", func(g *Group) { g.GTID.Flags = DDL }, "its statement is not in the log"},
		{"standing alone", func(g *Group) { g.GTID.Flags = Standalone | Transactional }, "it changes definitions"},
		{"prepared elsewhere", func(g *Group) { g.GTID.Flags |= XAPrepared }, "distributed transaction"},
		{"completed elsewhere", func(g *Group) { g.GTID.Flags |= XACompleted }, "distributed transaction"},
		{"an engine without transactions", func(g *Group) { g.GTID.Flags = HasCommitID }, "without transactions"},
		{"a table mapped without rows", func(g *Group) { g.Tables = append(g.Tables, nameless) },
			"cargo.old took part without rows"},
		{"no primary key", func(g *Group) { g.Tables, g.Rows = []*Table{keyless}, []*Rows{rows(keyless, "insert", true)} },
			"cargo.heap has no primary key"},
		{"keys not told by the log", func(g *Group) {
			g.Tables, g.Rows = []*Table{nameless},
				[]*Rows{rows(nameless, "delete", true)}
		}, ""},
		{"a torn end", func(g *Group) { g.Complete = false }, "its end is not in the log"},
	} {
		g := &Group{GTID: GTID{position.GTID{Domain: 1, Server: 11, Seq: 5}, Transactional | HasCommitID}, Complete: true,
			Tables: []*Table{keyed}, Rows: []*Rows{rows(keyed, "update", true)}}
		c.change(g)
		if got := g.WhyNotUndone(); (got == "") != (c.why == "") || !strings.Contains(got, c.why) {
			t.Errorf("%s: %q, want %q", c.name, got, c.why)
		}
	}
	quiet := &Group{Statements: []Query{{Text: "BEGIN"}, {Text: " commit "}}}
	if quiet.HasStatements() {
		t.Error("what frames a transaction counts as a statement")
	}
	if quiet.Statements = append(quiet.Statements, Query{Text: "delete from x"}); !quiet.HasStatements() {
		t.Error("a statement is not seen")
	}
}

// Damaged lengths and torn ends are errors or the end, never a guess.
func TestShortInput(t *testing.T) {
	for _, b := range [][]byte{nil, Magic, append(append([]byte(nil), Magic...), make([]byte, headerBytes-1)...)} {
		n, err := NewGroups().Read(b, func(*Group) error { t.Error("a transaction out of nothing"); return nil })
		if err != nil || n > len(b) {
			t.Errorf("%d bytes: %d %v", len(b), n, err)
		}
	}
	bad := append(append([]byte(nil), Magic...), make([]byte, 64)...)
	if _, err := NewGroups().Read(bad, func(*Group) error { return nil }); err == nil {
		t.Error("zeros pass for a log")
	}
}
