package tail

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"
)

// Tail is the writes after the fork that only one server has.
type Tail struct {
	Timeline     uint32        `json:"timeline"`
	From         string        `json:"from"`
	To           string        `json:"to"`
	Bytes        int64         `json:"bytes"`
	Transactions []Transaction `json:"transactions"`
	// Next is the first transaction number that was not yet in use at the fork
	// (PostgreSQL; 0: not known): a row version of an older one lay there then.
	Next uint32 `json:"next,omitempty"`
	// Unnamed is set while tables are given by file number, because the
	// database was not opened to look up their names.
	Unnamed bool   `json:"unnamed"`
	Saved   string `json:"saved,omitempty"` // file of the salvage on the agent's host
	// Into is the schema (MariaDB: the database) that loading the file fills.
	Into string `json:"into,omitempty"`
	// Digest is that of the saved file (SHA-256), Holds are the committed
	// transactions that were written into it.
	Digest string   `json:"digest,omitempty"`
	Holds  []string `json:"holds,omitempty"`
}

// NotSaved returns the first committed transaction that the saved file lacks.
func (t *Tail) NotSaved() (string, bool) {
	held := map[string]bool{}
	for _, n := range t.Holds {
		held[n] = true
	}
	for _, x := range t.Transactions {
		if x.Outcome == "committed" && !held[x.Name()] {
			return x.Name(), true
		}
	}
	return "", false
}

// WithoutValues returns a listing that says what was written where, and no value of it:
// rows are counted, statements left out.
func (t *Tail) WithoutValues() *Tail {
	if t == nil {
		return nil
	}
	out := *t
	out.Transactions = slices.Clone(t.Transactions)
	for i := range out.Transactions {
		out.Transactions[i].Rows, out.Transactions[i].Statements = nil, nil
	}
	return &out
}

// Transaction is one transaction of a tail.
type Transaction struct {
	ID      uint32    `json:"id,omitempty"`
	GTID    string    `json:"gtid,omitempty"` // MariaDB
	At      time.Time `json:"at"`
	Outcome string    `json:"outcome"` // committed, aborted or unfinished
	First   string    `json:"first"`
	Last    string    `json:"last"`
	Schema  bool      `json:"schema"` // it changed definitions
	Changes []Change  `json:"changes"`
	// Partial: it was open at the fork, and what it wrote before that is in no log that
	// is left (PostgreSQL).
	Partial bool `json:"partial,omitempty"`
	// Statements were logged instead of rows, or frame a change of definitions.
	Statements []string `json:"statements,omitempty"`
	// Rows are the first rows with their values, where the log holds them.
	Rows []RowChange `json:"rows,omitempty"`
	// File holds it; Bytes is its size in the log; Origin the server id under
	// which it was written (MariaDB).
	File   string `json:"file,omitempty"`
	Bytes  int64  `json:"bytes,omitempty"`
	Origin uint32 `json:"origin,omitempty"`
	// Records counts its log records by kind (PostgreSQL).
	Records map[string]int `json:"records,omitempty"`
	// Unsafe tells why its statements may give another result when they are run
	// again (MariaDB).
	Unsafe string `json:"unsafe,omitempty"`
	// WhyNotUndone tells why it cannot be undone from the log (MariaDB).
	WhyNotUndone string `json:"why_not_undone,omitempty"`
}

// Unfinished is the outcome of a transaction that has not ended in what was read.
const Unfinished = "unfinished"

// Name returns the transaction's name: its GTID or its number.
func (t Transaction) Name() string {
	if t.GTID != "" {
		return t.GTID
	}
	return fmt.Sprint(t.ID)
}

// Change counts what a transaction did to one table.
type Change struct {
	Table   string `json:"table"`
	Inserts int    `json:"inserts"`
	Updates int    `json:"updates"`
	Deletes int    `json:"deletes"`
}

// Counts sums up the committed transactions of a tail.
func (t *Tail) Counts() (committed, inserts, updates, deletes int) {
	for _, x := range t.Transactions {
		if x.Outcome != "committed" {
			continue
		}
		committed++
		for _, c := range x.Changes {
			inserts, updates, deletes = inserts+c.Inserts, updates+c.Updates, deletes+c.Deletes
		}
	}
	return
}

// SideTable stands, in place of a table's name, for a file that holds no rows
// of its own: large values of a table, an index, a sequence.
const SideTable = "-"

// Files returns the file numbers that the listing of a tail names.
func (t *Tail) Files() []string {
	seen := map[string]bool{}
	out := []string{}
	for _, x := range t.Transactions {
		for _, c := range x.Changes {
			if !seen[c.Table] {
				seen[c.Table] = true
				out = append(out, c.Table)
			}
		}
	}
	return out
}

// Name puts table names in the place of file numbers and drops side tables.
func (t *Tail) Name(names map[string]string) {
	t.Unnamed = false
	for i := range t.Transactions {
		out := []Change{}
		for _, c := range t.Transactions[i].Changes {
			switch n := names[c.Table]; n {
			case SideTable:
				continue
			case "":
				c.Table = "file " + c.Table + " (no such table there)"
			default:
				c.Table = n
			}
			out = append(out, c)
		}
		sort.SliceStable(out, func(a, b int) bool { return out[a].Table < out[b].Table })
		t.Transactions[i].Changes = out
		t.Transactions[i].nameRows(names)
	}
}

// Touches reports whether a transaction changed a table, given as schema.table,
// as the table alone or as any longer form; an empty name fits all.
func (t *Transaction) Touches(table string) bool {
	if table == "" {
		return true
	}
	for _, c := range t.Changes {
		if c.Table == table || strings.HasSuffix(c.Table, "."+table) {
			return true
		}
	}
	return false
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

// SameAs reports whether two listings are of the same tail: one fork, the same
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

// Places returns where the versions of before the fork lie, for the primary to
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

// Lacks reports whether rows wait for the tail to be saved to have their values.
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
