package binlog

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"strings"
	"time"

	"crosstwin/internal/core/position"
)

// Group is one transaction of the log: what stands between a GTID event and
// its end.
type Group struct {
	GTID GTID
	At   time.Time // of its commit, as this server logged it
	// Changed is the time of its first change. Every server logs the same,
	// whereas At is a second later on the server that wrote the transaction
	// when it was committed across the border of a second (measured).
	Changed    time.Time
	From, To   uint32 // offsets in the file
	Statements []Query
	Rows       []*Rows
	Tables     []*Table // mapped, in order, each once
	Complete   bool     // its end was seen
	XID        bool     // ended by a transactional commit
	// Fingerprint identifies the content: statements, and the rows of each
	// table by name, with the times of the changes. Offsets, checksums and table numbers are not part
	// of it, nor are the statements that frame it, so the same transaction has it on every
	// server that logged rows.
	Fingerprint string
}

// HasStatements reports whether something of the group was logged as a statement
// instead of rows.
func (g *Group) HasStatements() bool {
	for _, q := range g.Statements {
		if !harmless(q.Text) {
			return true
		}
	}
	return false
}

// WhyNotUndone tells why the group cannot be taken back from its own row
// images; empty when it can. A dump utility's exit code says nothing about it
// (measured: it ends well and leaves other data behind).
func (g *Group) WhyNotUndone() string {
	switch {
	case !g.Complete:
		return "its end is not in the log"
	case g.GTID.Flags&DDL != 0 || g.GTID.Flags&Standalone != 0:
		return "it changes definitions: " + g.firstStatement()
	case g.GTID.Flags&(XAPrepared|XACompleted) != 0:
		return "it belongs to a distributed transaction"
	case g.GTID.Flags&Transactional == 0:
		return "it changed a table of an engine without transactions"
	}
	for _, q := range g.Statements {
		if !harmless(q.Text) {
			return "a statement was logged instead of rows: " + shorten(q.Text)
		}
	}
	touched := map[*Table]bool{}
	for _, r := range g.Rows {
		touched[r.Table] = true
		if r.Table.keyless() {
			return fmt.Sprintf("%s.%s has no primary key: which of equal rows was changed cannot be told", r.Table.Database,
				r.Table.Name)
		}
		if !r.Full && r.Kind != "insert" {
			return fmt.Sprintf("the images of rows of %s.%s are not complete", r.Table.Database, r.Table.Name)
		}
	}
	for _, t := range g.Tables {
		if !touched[t] {
			// A cascade of a foreign key shows as a map without rows.
			return fmt.Sprintf("%s.%s took part without rows of its own in the log (a cascade of a foreign key, perhaps)",
				t.Database, t.Name)
		}
	}
	return ""
}

// keyless reports whether a table is known to have no primary key. Only full
// metadata says it.
func (t *Table) keyless() bool {
	for _, c := range t.Columns {
		if c.Key || c.Name == "" {
			return false
		}
	}
	return true
}

func (g *Group) firstStatement() string {
	if len(g.Statements) == 0 {
		return "its statement is not in the log"
	}
	return shorten(g.Statements[0].Text)
}

// harmless statements frame a transaction and change nothing by themselves.
func harmless(text string) bool {
	word, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(text)), " ")
	return word == "BEGIN" || word == "COMMIT" || word == "SAVEPOINT"
}

func shorten(text string) string {
	const limit = 120
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > limit {
		text = text[:limit] + " …"
	}
	return text
}

// Groups gathers a log's events into groups.
type Groups struct {
	reader *Reader
	open   *Group
	sum    hash.Hash
	// State is what the file's list says of the log before it.
	State position.GTIDState
	// Next is the file that a rotation names.
	Next string
	// Skim says of which groups only the number and the ends are wanted: their rows are not
	// parsed, and they have no fingerprint. nil: of none.
	Skim func(position.GTID) bool

	skims bool // the open group is one of those
}

// NewGroups begins a log.
func NewGroups() *Groups { return &Groups{reader: NewReader()} }

// Read reads all events of b, the content of a log file, and hands over each
// group. It gives the number of bytes read. A log that ends within an event is
// read up to there, without error: the server may be writing it, or have died.
// A group without its end is handed over as not complete.
func (s *Groups) Read(b []byte, each func(*Group) error) (int, error) { return s.read(b, 0, each) }

// ReadFrom is Read from the first group that begins at or after an offset of b.
// The offset may point anywhere: a group is known by its header, whose end is
// its own offset and size, and by its checksum.
func (s *Groups) ReadFrom(b []byte, offset int, each func(*Group) error) (int, error) {
	first, err := s.readFormat(b)
	if err != nil || first == 0 {
		return 0, err
	}
	return s.read(b, s.groupAt(b, max(first, offset)), each)
}

// ReadOn is Read from an offset at which an earlier group ended.
func (s *Groups) ReadOn(b []byte, offset int, each func(*Group) error) (int, error) {
	first, err := s.readFormat(b)
	if err != nil || first == 0 {
		return 0, err
	}
	return s.read(b, max(first, offset), each)
}

// readFormat reads the first event, which says how the rest is to be read, and
// gives its end; 0 when the file is shorter.
func (s *Groups) readFormat(b []byte) (int, error) {
	_, first, err := s.reader.Next(b)
	if errors.Is(err, ErrShort) {
		return 0, nil
	}
	return first, err
}

// groupAt returns the offset of the first group at or after an offset; the end of
// b when there is none.
func (s *Groups) groupAt(b []byte, at int) int {
	for ; at+headerBytes <= len(b); at++ {
		if Type(b[at+4]) != GTIDEvent {
			continue
		}
		size := int(binary.LittleEndian.Uint32(b[at+9:]))
		if size < headerBytes || at+size > len(b) || binary.LittleEndian.Uint32(b[at+13:]) != uint32(at+size) {
			continue
		}
		if _, _, err := s.reader.Next(b[at : at+size]); err == nil {
			return at
		}
	}
	return len(b)
}

func (s *Groups) read(b []byte, at int, each func(*Group) error) (int, error) {
	for at < len(b) {
		e, n, err := s.reader.Next(b[at:])
		if errors.Is(err, ErrShort) {
			break
		}
		if err != nil {
			return at, fmt.Errorf("at byte %d: %w", at, err)
		}
		done, err := s.add(e, uint32(at))
		if err != nil {
			return at, fmt.Errorf("at byte %d: %w", at, err)
		}
		at += n
		if done != nil {
			if err := each(done); err != nil {
				return at, err
			}
		}
	}
	if s.open != nil {
		g := s.finish()
		g.Complete = false
		return at, each(g)
	}
	return at, nil
}

func (s *Groups) finish() *Group {
	g := s.open
	if !s.skims {
		g.Fingerprint = hex.EncodeToString(s.sum.Sum(nil)[:16])
	}
	s.open = nil
	return g
}

// add takes in one event and gives the group that it ends, if it ends one.
func (s *Groups) add(e Event, at uint32) (*Group, error) {
	switch e.Type {
	case GTIDListEvent:
		var err error
		s.State, err = ParseGTIDList(e)
		return nil, err
	case RotateEvent:
		if len(e.Body) > 8 {
			s.Next = string(e.Body[8:])
		}
		return nil, nil
	case GTIDEvent:
		return s.begin(e, at)
	}
	if s.open == nil {
		return nil, nil // what stands between groups changes no data
	}
	s.open.To = e.End
	if s.open.Changed.IsZero() && (e.IsRows() || e.Type == QueryEvent || e.Type == QueryCompressedEvent) {
		s.open.Changed = e.At
	}
	switch {
	case s.skims && (e.Type == TableMapEvent || e.IsRows()):
		return nil, nil
	case e.Type == TableMapEvent:
		return nil, s.addTable(e)
	case e.IsRows():
		return nil, s.addRows(e)
	case e.Type == QueryEvent, e.Type == QueryCompressedEvent:
		return s.addQuery(e)
	case e.Type == XIDEvent, e.Type == XAPrepareEvent:
		s.open.Complete, s.open.XID = true, true
		return s.finish(), nil
	case e.Type == IncidentEvent:
		return nil, errors.New("the server logged that it lost events here")
	}
	return nil, nil
}

func (s *Groups) begin(e Event, at uint32) (*Group, error) {
	var torn *Group
	if s.open != nil {
		torn = s.finish() // the next group began without this one's end
	}
	g, err := ParseGTID(e)
	if err != nil {
		return nil, err
	}
	s.open = &Group{GTID: g, At: e.At, From: at, To: e.End}
	s.skims = s.Skim != nil && s.Skim(g.GTID)
	s.sum = sha256.New()
	fmt.Fprintf(s.sum, "%s\n", g.GTID)
	return torn, nil
}

func (s *Groups) addTable(e Event) error {
	t, err := parseTable(e.Body, s.reader.format.fixedOf(TableMapEvent))
	if err != nil {
		return err
	}
	known := s.reader.tables[t.ID]
	for _, x := range s.open.Tables {
		if x == known {
			return nil
		}
		if x.ID == t.ID && x.Database == t.Database && x.Name == t.Name {
			s.reader.tables[t.ID] = x // mapped again within the group
			return nil
		}
	}
	s.open.Tables = append(s.open.Tables, known)
	return nil
}

func (s *Groups) addRows(e Event) error {
	rows, err := s.reader.ParseRows(e)
	if err != nil {
		return err
	}
	s.open.Rows = append(s.open.Rows, rows)
	fmt.Fprintf(s.sum, "%d %s %s.%s\n", e.At.Unix(), rows.Kind, rows.Table.Database, rows.Table.Name)
	for _, ch := range rows.Changes {
		for _, image := range [][]Value{ch.Before, ch.After} {
			hashRow(s.sum, image)
		}
	}
	return nil
}

// hashRow writes a row without ambiguity: each value behind its length.
func hashRow(h hash.Hash, row []Value) {
	var n [8]byte
	for _, v := range row {
		binary.LittleEndian.PutUint64(n[:], uint64(len(v.Text))<<2)
		if v.Null {
			n[0] |= 1
		}
		if v.Absent {
			n[0] |= 2
		}
		h.Write(n[:])
		h.Write([]byte(v.Text))
	}
	h.Write([]byte{'\n'})
}

func (s *Groups) addQuery(e Event) (*Group, error) {
	q, err := ParseQuery(e)
	if err != nil {
		return nil, err
	}
	s.open.Statements = append(s.open.Statements, q)
	// How a group is framed differs: what changed a table without transactions ends by a
	// statement where it was written, and like any other where it was applied (measured).
	if !harmless(q.Text) {
		fmt.Fprintf(s.sum, "%s: %s\n", q.Database, q.Text)
	}
	word := strings.ToUpper(strings.TrimSpace(q.Text))
	ends := word == "COMMIT" || word == "ROLLBACK" || strings.HasPrefix(word, "XA COMMIT") ||
		strings.HasPrefix(word, "XA ROLLBACK")
	if ends || s.open.GTID.Flags&Standalone != 0 {
		s.open.Complete = true
		return s.finish(), nil
	}
	return nil, nil
}
