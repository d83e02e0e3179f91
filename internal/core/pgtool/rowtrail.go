package pgtool

import (
	"fmt"
	"regexp"
	"strconv"
)

// Place is where one version of a row lies: a line pointer in a page of its
// table. The server calls it ctid.
type Place struct {
	Relation Relation
	Block    uint32
	Offset   int
}

// Spot returns the place within its table as the server prints a ctid.
func (p Place) Spot() string { return fmt.Sprintf("(%d,%d)", p.Block, p.Offset) }

// Step is what one transaction did to one row: from the version that it found
// to the version that it left.
type Step struct {
	Transaction uint32
	Kind        string // insert, update or delete
	Relation    Relation
	// Old is where the row lay before (nil: inserted), New where the
	// transaction left it (nil: removed).
	Old, New *Place
	// Made is set when the old version was written by an earlier transaction
	// of the same trail, Again by which later one the new version was replaced.
	Made  bool
	Again uint32
	// Bulk is set when the page of the old version was also written to by a
	// record with several rows: the version may be one of them.
	Bulk bool

	kept bool
}

// RowTrail follows rows from version to version through a stretch of log. The
// log names no values, but places; the values are read where the versions still
// lie: those of before the stretch on a server that went another way, the last
// ones on the server that wrote them.
type RowTrail struct {
	limit int
	steps []*Step
	last  map[Place]*Step   // by the place at which a row was left
	bulk  map[BlockRef]bool // pages that one record filled with several rows
}

// NewRowTrail makes a trail that keeps at most limit steps, the first ones.
func NewRowTrail(limit int) *RowTrail {
	return &RowTrail{limit: limit, last: map[Place]*Step{}, bulk: map[BlockRef]bool{}}
}

// Add takes the next record of the log. Rows that one record wrote several of
// have no places in it and are left out.
func (t *RowTrail) Add(r Record) {
	a, ok := r.RowAction()
	if !ok || a.Where.Relation.Catalog() {
		return
	}
	if a.Offset == 0 {
		if len(t.steps) < t.limit {
			t.bulk[a.Where] = true
		}
		return
	}
	at := Place{a.Where.Relation, a.Where.Block, a.Offset}
	switch a.Kind {
	case "insert":
		t.left(t.begin(r.Transaction, a.Kind, nil), &at)
	case "update":
		old, ok := r.oldPlace()
		if !ok {
			return
		}
		s := t.last[old]
		delete(t.last, old)
		if s == nil || s.Transaction != r.Transaction {
			s = t.after(s, r.Transaction, a.Kind, old)
		}
		t.left(s, &at)
	case "delete":
		s := t.last[at]
		delete(t.last, at)
		switch {
		case s == nil || s.Transaction != r.Transaction:
			t.after(s, r.Transaction, a.Kind, at)
		case s.Kind == "insert":
			s.Kind, s.New = "", nil // made and removed by one transaction: nothing
		default:
			s.Kind, s.New = "delete", nil
		}
	}
}

// after begins a step on a row that the step before, if any, left.
func (t *RowTrail) after(before *Step, tx uint32, kind string, old Place) *Step {
	s := t.begin(tx, kind, &old)
	if before != nil {
		before.Again = tx
		s.Made = true
	}
	return s
}

func (t *RowTrail) begin(tx uint32, kind string, old *Place) *Step {
	s := &Step{Transaction: tx, Kind: kind, Old: old}
	if len(t.steps) < t.limit {
		s.kept = true
		t.steps = append(t.steps, s)
	}
	if old != nil {
		s.Relation = old.Relation
		s.Bulk = t.bulk[BlockRef{old.Relation, old.Block}]
	}
	return s
}

func (t *RowTrail) left(s *Step, at *Place) {
	s.New, s.Relation = at, at.Relation
	if s.kept { // of the others nothing is asked, and there may be millions
		t.last[*at] = s
	}
}

// Undo forgets the steps of a transaction that was rolled back: the versions
// that it replaced are the rows' last ones again.
func (t *RowTrail) Undo(tx uint32) {
	for _, s := range t.steps {
		if s.Again == tx && s.New != nil {
			s.Again, t.last[*s.New] = 0, s
		}
		if s.Transaction != tx {
			continue
		}
		if s.New != nil && t.last[*s.New] == s {
			delete(t.last, *s.New)
		}
		s.Kind = ""
	}
}

// Steps returns what was gathered, in the order of the log.
func (t *RowTrail) Steps() []Step {
	out := []Step{}
	for _, s := range t.steps {
		if s.Kind != "" {
			out = append(out, *s)
		}
	}
	return out
}

// oldPlace returns where the row of an update lay before. The record names the
// page of the new version first, and the old one's only if it is another.
func (r Record) oldPlace() (Place, bool) {
	m := oldTuple.FindStringSubmatch(r.Description)
	if m == nil || len(r.Blocks) == 0 {
		return Place{}, false
	}
	off, err := strconv.Atoi(m[1])
	b := r.Blocks[len(r.Blocks)-1]
	return Place{b.Relation, b.Block, off}, err == nil && off > 0
}

var nextTransaction = regexp.MustCompile(`^(?:RUNNING_XACTS nextXid |CHECKPOINT_(?:ONLINE|SHUTDOWN) .*; xid \d+:)(\d+)`)

// NextTransaction returns the lowest transaction number that no record seen so
// far can belong to: that after the record's own or, in records that tell it,
// the next to be given out. It takes the bound so far (0: none) and gives the
// new one. Numbers wrap around at 2^32.
func (r Record) NextTransaction(bound uint32) uint32 {
	next := uint32(0)
	if r.Transaction != 0 {
		next = r.Transaction + 1
	}
	if n, tells := r.TellsNext(); tells {
		next = n
	}
	if next == 0 || bound != 0 && int32(next-bound) <= 0 {
		return bound
	}
	return next
}

// TellsNext returns the next transaction number to be given out, of a record that tells it.
func (r Record) TellsNext() (next uint32, tells bool) {
	m := nextTransaction.FindStringSubmatch(r.Description)
	if m == nil {
		return 0, false
	}
	n, err := strconv.ParseUint(m[1], 10, 32)
	return uint32(n), err == nil
}
