package binlog

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"fmt"
	"io"

	"crosstwin/internal/core/position"
)

// The flags of a GTID event.
const (
	Standalone    = 0x01 // one event, no commit of its own: DDL
	HasCommitID   = 0x02
	Transactional = 0x04
	AllowParallel = 0x08
	Waited        = 0x10
	DDL           = 0x20
	XAPrepared    = 0x40
	XACompleted   = 0x80
)

// GTID is what begins a group of events that belong together.
type GTID struct {
	position.GTID
	Flags byte
}

// ParseGTID reads a GTID event.
func ParseGTID(e Event) (GTID, error) {
	c := cursor{b: e.Body}
	g := GTID{GTID: position.GTID{Server: e.Server}}
	g.Seq = c.little(8)
	g.Domain = uint32(c.little(4))
	g.Flags = byte(c.little(1))
	return g, c.err
}

// ParseGTIDList reads the list at a file's beginning: the state of the log up
// to there.
func ParseGTIDList(e Event) (position.GTIDState, error) {
	c := cursor{b: e.Body}
	n := int(c.little(4) & (1<<28 - 1))
	if n > len(c.b)/16 {
		return position.GTIDState{}, fmt.Errorf("a list of %d GTIDs in %d bytes", n, len(c.b))
	}
	out := position.Tally{}
	for range n {
		g := position.GTID{Domain: uint32(c.little(4)), Server: uint32(c.little(4))}
		g.Seq = c.little(8)
		out.Add(g)
	}
	return out.State(), c.err
}

// Query is a statement.
type Query struct {
	Database string
	Text     string
	Error    uint16
}

// ParseQuery reads a statement, also a compressed one.
func ParseQuery(e Event) (Query, error) {
	c := cursor{b: e.Body}
	c.take(4 + 4) // thread, seconds
	db := int(c.little(1))
	q := Query{Error: uint16(c.little(2))}
	c.take(int(c.little(2))) // variables of the session
	q.Database = string(c.take(db))
	c.take(1)
	if c.err != nil {
		return q, fmt.Errorf("statement: %w", c.err)
	}
	text := c.b
	if e.Type == QueryCompressedEvent {
		var err error
		if text, err = inflate(text); err != nil {
			return q, fmt.Errorf("compressed statement: %w", err)
		}
	}
	q.Text = string(text)
	return q, nil
}

// largestInflated bounds what a compressed event may grow to: the server's own
// limit for an event is 1 GiB.
const largestInflated = 1 << 30

// inflate undoes the log's compression: a byte that says how many bytes the
// length takes, the length, and a zlib stream.
func inflate(b []byte) ([]byte, error) {
	c := cursor{b: b}
	head := c.little(1)
	if c.err == nil && head&0x80 == 0 {
		return nil, fmt.Errorf("compression header %02x is not known", head)
	}
	n := c.big(int(head & 7))
	if c.err != nil {
		return nil, c.err
	}
	r, err := zlib.NewReader(bytes.NewReader(c.b))
	if err != nil {
		return nil, err
	}
	return readExactly(r, n)
}

func readExactly(r io.Reader, n uint64) ([]byte, error) {
	if n > largestInflated {
		return nil, fmt.Errorf("a length of %d bytes is more than an event can hold", n)
	}
	var out bytes.Buffer
	if _, err := io.Copy(&out, io.LimitReader(r, int64(n)+1)); err != nil {
		return nil, err
	}
	if uint64(out.Len()) != n {
		return nil, fmt.Errorf("it inflates to %d bytes, not to %d", out.Len(), n)
	}
	return out.Bytes(), nil
}

// inflateColumn undoes the compression of a COMPRESSED column: an empty value,
// a plain one behind a zero byte, or a header as above whose bit 3 says that
// the stream has no zlib wrapping.
func inflateColumn(b []byte) ([]byte, error) {
	if len(b) == 0 || b[0] == 0 {
		return b[min(1, len(b)):], nil
	}
	c := cursor{b: b}
	head := c.little(1)
	if head&0xf0 != 0x80 {
		return nil, fmt.Errorf("column compression %02x is not known", head)
	}
	n := c.big(int(head & 7))
	if c.err != nil {
		return nil, c.err
	}
	if head&8 != 0 {
		return readExactly(flate.NewReader(bytes.NewReader(c.b)), n)
	}
	r, err := zlib.NewReader(bytes.NewReader(c.b))
	if err != nil {
		return nil, err
	}
	return readExactly(r, n)
}

// Table is a table as its map event describes it.
type Table struct {
	ID       uint64
	Database string
	Name     string
	Columns  []Column
}

// Column is one column of a table. Name and the texts of enumerations are
// there only when the server writes full metadata (binlog_row_metadata=FULL).
type Column struct {
	Type     byte
	Meta     uint16
	Nullable bool
	Unsigned bool
	Binary   bool // bytes, not characters
	Name     string
	Values   []string // of an ENUM or SET
	Key      bool     // part of the primary key
}

// The column types of the log.
const (
	typeDecimal    = 0
	typeTiny       = 1
	typeShort      = 2
	typeLong       = 3
	typeFloat      = 4
	typeDouble     = 5
	typeNull       = 6
	typeTimestamp  = 7
	typeLongLong   = 8
	typeInt24      = 9
	typeDate       = 10
	typeTime       = 11
	typeDatetime   = 12
	typeYear       = 13
	typeNewDate    = 14
	typeVarchar    = 15
	typeBit        = 16
	typeTimestamp2 = 17
	typeDatetime2  = 18
	typeTime2      = 19
	typeBlobZ      = 140
	typeVarcharZ   = 141
	typeNewDecimal = 246
	typeEnum       = 247
	typeSet        = 248
	typeTinyBlob   = 249
	typeMedBlob    = 250
	typeLongBlob   = 251
	typeBlob       = 252
	typeVarString  = 253
	typeString     = 254
	typeGeometry   = 255
)

// tableID reads the number by which row events name a table.
func tableID(c *cursor, fixed int) uint64 {
	if fixed == 6 {
		return c.little(4) // logs of very old servers
	}
	return c.little(6)
}

func parseTable(b []byte, fixed int) (*Table, error) {
	c := &cursor{b: b}
	t := &Table{ID: tableID(c, fixed)}
	c.take(2)
	t.Database = string(c.take(int(c.little(1))))
	c.take(1)
	t.Name = string(c.take(int(c.little(1))))
	c.take(1)
	n := c.count(8)
	types := c.take(n)
	meta := &cursor{b: c.take(int(min(c.packed(), 1<<31)))}
	for _, ty := range types {
		t.Columns = append(t.Columns, readMeta(ty, meta))
	}
	nullable := c.take((n + 7) / 8)
	for i := range t.Columns {
		t.Columns[i].Nullable = bit(nullable, i)
	}
	for len(c.b) > 0 && c.err == nil && meta.err == nil {
		kind := c.little(1)
		t.describe(byte(kind), &cursor{b: c.take(int(min(c.packed(), 1<<31)))})
	}
	if c.err == nil {
		c.err = meta.err
	}
	if c.err != nil {
		return nil, fmt.Errorf("map of table %s.%s: %w", t.Database, t.Name, c.err)
	}
	return t, nil
}

func bit(b []byte, i int) bool { return i/8 < len(b) && b[i/8]&(1<<(i%8)) != 0 }

// readMeta reads the few bytes that say more about a column's type.
func readMeta(ty byte, m *cursor) Column {
	col := Column{Type: ty}
	switch ty {
	case typeFloat, typeDouble, typeBlob, typeTinyBlob, typeMedBlob, typeLongBlob, typeGeometry, typeBlobZ, typeTimestamp2,
		typeDatetime2, typeTime2:
		col.Meta = uint16(m.little(1))
	case typeVarchar, typeVarcharZ, typeBit:
		col.Meta = uint16(m.little(2))
	case typeNewDecimal, typeEnum, typeSet, typeString, typeVarString:
		col.Meta = uint16(m.big(2))
	}
	if ty == typeString || ty == typeVarString {
		// The upper byte is the real type, with two bits of the length in it.
		real, length := byte(col.Meta>>8), col.Meta&0xff
		if real&0x30 != 0x30 {
			length |= uint16(real&0x30^0x30) << 4
			real |= 0x30
		}
		col.Type, col.Meta = real, length
	}
	return col
}

// The kinds of further description behind a table map.
const (
	describesSignedness = 1
	describesCharset    = 2 // one for most columns, and those that differ
	describesCharsets   = 3 // one a column
	describesNames      = 4
	describesSets       = 5
	describesEnums      = 6
	describesKey        = 8
	describesKeyPrefix  = 9
)

// describe takes in further description. What is damaged there is left out: it
// does not change how rows are read, but for signedness, which stands first.
func (t *Table) describe(kind byte, c *cursor) {
	switch kind {
	case describesSignedness:
		i := 0
		for j := range t.Columns {
			if t.Columns[j].numeric() {
				t.Columns[j].Unsigned = i/8 < len(c.b) && c.b[i/8]&(0x80>>(i%8)) != 0
				i++
			}
		}
	case describesCharset, describesCharsets:
		t.describeCharsets(kind, c)
	case describesNames:
		for j := range t.Columns {
			t.Columns[j].Name = c.text()
		}
	case describesSets, describesEnums:
		want := byte(typeSet)
		if kind == describesEnums {
			want = typeEnum
		}
		for j := range t.Columns {
			if t.Columns[j].Type == want {
				for range c.count(8) {
					t.Columns[j].Values = append(t.Columns[j].Values, c.text())
				}
			}
		}
	case describesKey, describesKeyPrefix:
		for len(c.b) > 0 && c.err == nil {
			if i := c.packed(); i < uint64(len(t.Columns)) {
				t.Columns[i].Key = true
			}
			if kind == describesKeyPrefix {
				c.packed()
			}
		}
	}
}

// binaryCharset is the number of the character set of bytes.
const binaryCharset = 63

func (t *Table) describeCharsets(kind byte, c *cursor) {
	var texts []int
	for j := range t.Columns {
		if t.Columns[j].textual() {
			texts = append(texts, j)
		}
	}
	if kind == describesCharsets {
		for _, j := range texts {
			t.Columns[j].Binary = c.packed() == binaryCharset && c.err == nil
		}
		return
	}
	common := c.packed()
	for _, j := range texts {
		t.Columns[j].Binary = common == binaryCharset && c.err == nil
	}
	for len(c.b) > 0 && c.err == nil {
		i, set := c.packed(), c.packed()
		if i < uint64(len(texts)) && c.err == nil {
			t.Columns[texts[i]].Binary = set == binaryCharset
		}
	}
}

func (c Column) textual() bool {
	switch c.Type {
	case typeString, typeVarString, typeVarchar, typeVarcharZ, typeBlob, typeTinyBlob, typeMedBlob, typeLongBlob,
		typeBlobZ:
		return true
	}
	return false
}

// numeric columns are those that the log says signedness of; YEAR is among them.
func (c Column) numeric() bool {
	switch c.Type {
	case typeYear, typeTiny, typeShort, typeInt24, typeLong, typeLongLong, typeFloat, typeDouble, typeNewDecimal:
		return true
	}
	return false
}

// Change is what a row event did to one row.
type Change struct {
	Before []Value // of an update or a delete
	After  []Value // of an insert or an update
}

// Rows are the rows of one event. A Value that was not logged (the event's
// image is not full) is Absent.
type Rows struct {
	Table   *Table
	Kind    string // insert, update or delete
	Full    bool   // every column is in the image, before and after
	Changes []Change
}

// rowKinds tells of each row event what it does and how it is written.
var rowKinds = map[Type]struct {
	kind           string
	second, packed bool
}{
	WriteRowsEvent: {"insert", false, false}, UpdateRowsEvent: {"update", false, false},
	DeleteRowsEvent:  {"delete", false, false},
	WriteRowsV2Event: {"insert", true, false}, UpdateRowsV2Event: {"update", true, false},
	DeleteRowsV2Event:    {"delete", true, false},
	WriteCompressedEvent: {"insert", false, true}, UpdateCompressedEvent: {"update", false, true},
	DeleteCompressedEvent: {"delete", false, true},
	WriteCompressedV2:     {"insert", true, true}, UpdateCompressedV2: {"update", true, true},
	DeleteCompressedV2: {"delete", true, true},
}

// IsRows reports whether an event carries rows.
func (e Event) IsRows() bool { _, ok := rowKinds[e.Type]; return ok }

// ParseRows reads a row event; its table map was read before.
func (r *Reader) ParseRows(e Event) (*Rows, error) {
	k, ok := rowKinds[e.Type]
	if !ok {
		return nil, fmt.Errorf("event of type %d carries no rows", e.Type)
	}
	c := &cursor{b: e.Body}
	id := tableID(c, r.format.fixedOf(WriteRowsEvent))
	c.take(2)
	if k.second {
		c.take(int(c.little(2)) - 2)
	}
	t := r.tables[id]
	if t == nil {
		return nil, fmt.Errorf("rows of table number %d, which no event before described", id)
	}
	rows := &Rows{Table: t, Kind: k.kind, Full: true}
	width := c.packed()
	if c.err == nil && width != uint64(len(t.Columns)) {
		return nil, fmt.Errorf("rows with %d columns of table %s.%s, which has %d", width, t.Database, t.Name, len(t.Columns))
	}
	n := len(t.Columns)
	first := c.take((n + 7) / 8)
	second := first
	if k.kind == "update" {
		second = c.take((n + 7) / 8)
	}
	for i := range n {
		rows.Full = rows.Full && bit(first, i) && bit(second, i)
	}
	if c.err == nil && k.packed {
		plain, err := inflate(c.b)
		if err != nil {
			return nil, fmt.Errorf("compressed rows of %s.%s: %w", t.Database, t.Name, err)
		}
		c.b = plain
	}
	for len(c.b) > 0 && c.err == nil {
		var ch Change
		switch k.kind {
		case "insert":
			ch.After = t.row(c, first)
		case "delete":
			ch.Before = t.row(c, first)
		default:
			ch.Before = t.row(c, first)
			ch.After = t.row(c, second)
		}
		rows.Changes = append(rows.Changes, ch)
		if n == 0 {
			break
		}
	}
	if c.err != nil {
		return nil, fmt.Errorf("rows of table %s.%s: %w", t.Database, t.Name, c.err)
	}
	return rows, nil
}

// row reads one row image: a bitmap of NULLs over the columns that are there,
// then their values.
func (t *Table) row(c *cursor, present []byte) []Value {
	n := 0
	for i := range t.Columns {
		if bit(present, i) {
			n++
		}
	}
	nulls := c.take((n + 7) / 8)
	out := make([]Value, len(t.Columns))
	j := 0
	for i := range t.Columns {
		if !bit(present, i) {
			out[i].Absent = true
			continue
		}
		if bit(nulls, j) {
			out[i].Null = true
		} else if c.err == nil {
			out[i] = t.Columns[i].value(c)
		}
		j++
	}
	if n == 0 {
		c.fail("rows without columns")
	}
	return out
}
