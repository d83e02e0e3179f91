package verb

import (
	"encoding/json"
	"fmt"
	"sort"
	"strings"
)

// RowChange is one row before and after, as texts of its columns in order.
// PostgreSQL's log names places, not values: those of before are read on the
// primary, where the version of before the fork still lies unless it was changed
// there too; those of after on the server with the tail, when it is saved.
type RowChange struct {
	Table   string   `json:"table"`
	Kind    string   `json:"kind"` // insert, update or delete
	Columns []string `json:"columns"`
	Before  []string `json:"before,omitempty"`
	After   []string `json:"after,omitempty"`
	// Note says in words why a side is not shown.
	Note string `json:"note,omitempty"`
	// Trail tells where the row's versions lie (PostgreSQL).
	Trail *RowTrail `json:"trail,omitempty"`
}

// RowTrail tells where the versions of a changed row lie, and what of them
// cannot be read any more.
type RowTrail struct {
	Relation string `json:"relation"`      // tablespace/database/file
	Old      string `json:"old,omitempty"` // place before, as (block,offset)
	New      string `json:"new,omitempty"` // place after
	// Made is set when an earlier transaction of the tail wrote the old version;
	// Again names the later one that replaced the new version.
	Made  bool   `json:"made,omitempty"`
	Again uint32 `json:"again,omitempty"`
	// Bulk is set when the old version may be one of several rows that one
	// record of the tail wrote.
	Bulk bool `json:"bulk,omitempty"`
}

// RowsAtArgs asks for row versions by place, by relation. Only versions of
// transactions older than Next are given.
type RowsAtArgs struct {
	Next   uint32              `json:"next"`
	Places map[string][]string `json:"places"`
}

// RowsAt gives rows as JSON objects, by relation and place.
type RowsAt map[string]map[string]json.RawMessage

// ShownRows bounds the rows with values in a listing; the saved file has all.
const ShownRows = 500

// SetBefore puts in the values of before, from a JSON object by column.
func (r *RowChange) SetBefore(row json.RawMessage) { r.set(row, true) }

// SetAfter puts in the values of after.
func (r *RowChange) SetAfter(row json.RawMessage) { r.set(row, false) }

func (r *RowChange) set(row json.RawMessage, before bool) {
	var values map[string]json.RawMessage
	if json.Unmarshal(row, &values) != nil {
		return
	}
	sides := [2]map[string]string{byColumn(r.Columns, r.Before), byColumn(r.Columns, r.After)}
	side := map[string]string{}
	for name, v := range values {
		side[name] = string(v)
	}
	sides[map[bool]int{true: 0, false: 1}[before]] = side
	r.Columns = columnsOf(sides[:]...)
	r.Before, r.After = inOrder(r.Columns, sides[0]), inOrder(r.Columns, sides[1])
}

func byColumn(columns, row []string) map[string]string {
	if row == nil {
		return nil
	}
	out := map[string]string{}
	for i, c := range columns {
		if i < len(row) {
			out[c] = row[i]
		}
	}
	return out
}

// columnsOf gives all names in order. A number of rows comes first: by it a
// person finds the row again.
func columnsOf(sides ...map[string]string) []string {
	seen := map[string]bool{}
	out := []string{}
	for _, s := range sides {
		for c := range s {
			if !seen[c] {
				seen[c] = true
				out = append(out, c)
			}
		}
	}
	sort.Slice(out, func(i, j int) bool {
		if (out[i] == "id") != (out[j] == "id") {
			return out[i] == "id"
		}
		return out[i] < out[j]
	})
	return out
}

// absent stands for a column that one side does not have.
const absent = "–"

func inOrder(columns []string, side map[string]string) []string {
	if side == nil {
		return nil
	}
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = absent
		if v, ok := side[c]; ok {
			out[i] = v
		}
	}
	return out
}

// nameRows puts table names in the place of file numbers and drops rows of
// side tables.
func (t *Transaction) nameRows(names map[string]string) {
	out := []RowChange{}
	for _, r := range t.Rows {
		if r.Trail == nil || names[r.Table] == SideTable {
			continue
		}
		if n := names[r.Table]; n != "" {
			r.Table = n
			out = append(out, r)
		}
	}
	t.Rows = out
}

// SameAs tells whether two listings are of the same tail: one fork, the same
// transactions at the same positions. What else stands in the log after the
// last of them, such as the checkpoint of an orderly stop, changes no row.
func (t *Tail) SameAs(u *Tail) bool {
	if t.Timeline != u.Timeline || t.From != u.From || len(t.Transactions) != len(u.Transactions) {
		return false
	}
	for i, x := range t.Transactions {
		if y := u.Transactions[i]; x.Name() != y.Name() || x.First != y.First || x.Last != y.Last || x.Outcome != y.Outcome {
			return false
		}
	}
	return true
}

// Places gives where the versions of before the fork lie, for the primary to
// look up.
func (t *Tail) Places() RowsAtArgs {
	out := RowsAtArgs{Next: t.Next, Places: map[string][]string{}}
	for _, x := range t.Transactions {
		for _, r := range x.Rows {
			if r.Trail != nil && r.Trail.Old != "" && !r.Trail.Made && r.Before == nil {
				out.Places[r.Trail.Relation] = append(out.Places[r.Trail.Relation], r.Trail.Old)
			}
		}
	}
	return out
}

// FillBefore puts in what the primary holds of before the fork; what it does
// not hold any more, it has changed itself. A nil found: it was not asked, and
// why tells the reason.
func (t *Tail) FillBefore(primary string, found RowsAt, why string) {
	t.rows(func(r *RowChange) {
		if r.Kind == "insert" {
			return
		}
		row, ok := found[r.Trail.Relation][r.Trail.Old]
		switch {
		case r.Trail.Made:
			r.Note = join(r.Note, "before: what an earlier transaction of this tail left")
		case ok:
			r.SetBefore(row)
		case found != nil && r.Trail.Bulk:
			r.Note = join(r.Note, "before: not on "+primary+": changed there since the fork, or written by this tail")
		case found != nil:
			r.Note = join(r.Note, primary+" has changed this row too since the fork, or removed it")
		default:
			r.Note = join(r.Note, "before: not known, "+why)
		}
	})
}

// FillAfter puts in the rows as the tail left them; a nil found: they are read
// when the tail is saved, which a listing says once and not for each row.
func (t *Tail) FillAfter(found RowsAt) {
	t.rows(func(r *RowChange) {
		if r.Kind == "delete" {
			return
		}
		row := found[r.Trail.Relation][r.Trail.New]
		switch {
		case len(row) > 0:
			r.SetAfter(row)
		case r.Trail.Again != 0:
			r.Note = join(r.Note, fmt.Sprintf("after: changed again by transaction %d", r.Trail.Again))
		case found != nil:
			r.Note = join(r.Note, "after: no such row there")
		}
	})
}

// Lacks tells whether rows wait for the tail to be saved to have their values.
func (t *Tail) Lacks() bool {
	lacks := false
	t.rows(func(r *RowChange) { lacks = lacks || t.Saved == "" && r.Kind != "delete" && r.After == nil })
	return lacks
}

// rows visits the rows whose values are read by place.
func (t *Tail) rows(visit func(*RowChange)) {
	for i := range t.Transactions {
		for j := range t.Transactions[i].Rows {
			if r := &t.Transactions[i].Rows[j]; r.Trail != nil {
				visit(r)
			}
		}
	}
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// longValue is how much of a value is shown in a line of text.
const longValue = 40

// Words gives a changed row in one line: an update with what stays of the
// columns left out, but for the first, which mostly is the key.
func (r RowChange) Words() string {
	var parts []string
	for i, c := range r.Columns {
		before, after := shortened(r.Before, i), shortened(r.After, i)
		switch {
		case r.Before == nil:
			parts = append(parts, c+"="+after)
		case r.After == nil:
			parts = append(parts, c+"="+before)
		case i < len(r.Before) && i < len(r.After) && r.Before[i] != r.After[i]:
			parts = append(parts, c+" "+before+" -> "+after)
		case i == 0:
			parts = append(parts, c+"="+before)
		}
	}
	line := strings.Join(parts, ", ")
	if r.Note == "" {
		return line
	}
	if line != "" {
		line += " "
	}
	return line + "(" + r.Note + ")"
}

func shortened(row []string, i int) string {
	if i >= len(row) {
		return "?"
	}
	if v := []rune(row[i]); len(v) > longValue {
		return string(v[:longValue]) + "…"
	}
	return row[i]
}
