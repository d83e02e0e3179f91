package tail

import (
	"encoding/json"
	"strings"
	"testing"
)

// Rows whose values are read by place: what is found on either side, and a note
// for each side that is not.
func TestFill(t *testing.T) {
	const boats = "1663/5/16400"
	row := func(kind, from, to string, change func(*RowTrail)) RowChange {
		trail := RowTrail{Relation: boats, Old: from, New: to}
		if change != nil {
			change(&trail)
		}
		return RowChange{Table: boats, Kind: kind, Columns: []string{}, Trail: &trail}
	}
	at := func(rows map[string]string) RowsAt {
		out := RowsAt{boats: {}}
		for spot, r := range rows {
			out[boats][spot] = json.RawMessage(r)
		}
		return out
	}
	old := at(map[string]string{"(0,1)": `{"name":"tub","id":7,"crew":2}`})
	left := at(map[string]string{"(0,2)": `{"name":"ship","id":7,"masts":null}`})
	again := func(r *RowTrail) { r.Again = 812 }
	for _, c := range []struct {
		name          string
		row           RowChange
		before, after RowsAt
		want          string
	}{
		{"an update, with a column more and one less", row("update", "(0,1)", "(0,2)", nil), old, left,
			`id=7, crew 2 -> –, masts – -> null, name "tub" -> "ship"`},
		{"an insert", row("insert", "", "(0,2)", nil), old, left, `id=7, masts=null, name="ship"`},
		{"a delete", row("delete", "(0,1)", "", nil), old, left, `id=7, crew=2, name="tub"`},
		{"not saved yet", row("update", "(0,1)", "(0,2)", nil), old, nil, `id=7, crew=2, name="tub"`},
		{"changed on both sides", row("update", "(9,9)", "(0,2)", nil), old, left,
			`id=7, masts=null, name="ship" (gull has changed this row too since the fork, or removed it)`},
		{"changed again in the tail", row("update", "(0,1)", "(0,8)", again), old, left,
			`id=7, crew=2, name="tub" (after: changed again by transaction 812)`},
		{"made in the tail", row("update", "(0,8)", "(0,2)", func(r *RowTrail) { r.Made = true }), old, left,
			`id=7, masts=null, name="ship" (before: what an earlier transaction of this tail left)`},
		{"in a page filled in bulk", row("delete", "(9,9)", "", func(r *RowTrail) { r.Bulk = true }), old, left,
			`(before: not on gull: changed there since the fork, or written by this tail)`},
		{"gull is away", row("delete", "(0,1)", "", nil), nil, left, `(before: not known, gull could not be asked)`},
	} {
		tail := Tail{Transactions: []Transaction{{Rows: []RowChange{c.row}}}}
		tail.FillAfter(c.after)
		tail.FillBefore("gull", c.before, "gull could not be asked")
		if got := tail.Transactions[0].Rows[0].Words(); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

func TestNamedRows(t *testing.T) {
	trail := func(file string) RowChange {
		return RowChange{Table: file, Kind: "delete", Trail: &RowTrail{Relation: file, Old: "(0,1)"}}
	}
	tail := Tail{Next: 9, Unnamed: true,
		Transactions: []Transaction{{ID: 8, Rows: []RowChange{trail("1/5/1"), trail("1/5/2"), trail("1/5/3")}}}}
	ask := tail.Places()
	tail.Name(map[string]string{"1/5/1": "bookings.public.boats", "1/5/2": SideTable})
	if rows := tail.Transactions[0].Rows; len(rows) != 1 || rows[0].Table != "bookings.public.boats" ||
		len(ask.Places) != 3 || ask.Next != 9 {
		t.Errorf("%+v %+v", rows, ask)
	}
	// Two listings are of one tail if it is the same transactions.
	other := tail
	other.Transactions = []Transaction{{ID: 8, Last: "0/5"}}
	if !tail.SameAs(&tail) || tail.SameAs(&other) || tail.SameAs(&Tail{From: "0/4"}) {
		t.Error("tails are mixed up")
	}
	long := RowChange{Kind: "insert", Columns: []string{"a"}, After: []string{strings.Repeat("x", 100)}}
	if w := long.Words(); len([]rune(w)) != longValue+3 {
		t.Errorf("%q", w)
	}
}
