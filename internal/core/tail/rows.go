package tail

import (
	"encoding/json"
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

// RowsAt returns rows as JSON objects, by relation and place.
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

// columnsOf returns all names in order. A number of rows comes first: by it a
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

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// longValue is how much of a value is shown in a line of text.
const longValue = 40

// Words returns a changed row in one line: an update with what stays of the
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
