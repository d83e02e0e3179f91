// Package binlog decodes MariaDB's binary log (and relay log) from bytes. It
// does no I/O: a caller hands over the content of a file, or what a dump
// stream carries, and gets events.
//
// A file begins with four magic bytes and a format description event, which
// says how long each event's fixed part is and whether events end in a
// checksum; Reader keeps that and the table maps that row events refer to.
// Every length is checked against the event: damaged input is an error, never
// a guess, because what is read here decides what may be undone.
//
// Sources: the server's documentation of the replication protocol, and logs of
// MariaDB 10.11 held against mariadb-binlog's own reading of them.
package binlog

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"time"
)

// Magic are the first bytes of every log file.
var Magic = []byte{0xfe, 'b', 'i', 'n'}

// Type is the kind of an event.
type Type byte

// The kinds of event that 10.11 writes.
const (
	QueryEvent            Type   = 2
	StopEvent             Type   = 3
	RotateEvent           Type   = 4
	IntVarEvent           Type   = 5
	RandEvent             Type   = 13
	UserVarEvent          Type   = 14
	FormatEvent           Type   = 15
	XIDEvent              Type   = 16
	TableMapEvent         Type   = 19
	WriteRowsEvent        Type   = 23
	UpdateRowsEvent       Type   = 24
	DeleteRowsEvent       Type   = 25
	IncidentEvent         Type   = 26
	HeartbeatEvent        Type   = 27
	WriteRowsV2Event      Type   = 30
	UpdateRowsV2Event     Type   = 31
	DeleteRowsV2Event     Type   = 32
	XAPrepareEvent        Type   = 38
	AnnotateEvent         Type   = 160
	CheckpointEvent       Type   = 161
	GTIDEvent             Type   = 162
	GTIDListEvent         Type   = 163
	EncryptionEvent       Type   = 164
	QueryCompressedEvent  Type   = 165
	WriteCompressedEvent  Type   = 166
	UpdateCompressedEvent Type   = 167
	DeleteCompressedEvent Type   = 168
	WriteCompressedV2     Type   = 169
	UpdateCompressedV2    Type   = 170
	DeleteCompressedV2    Type   = 171
	headerBytes                  = 19
	checksumBytes                = 4
	formatServerBytes            = 50
	flagInUse             uint16 = 1
)

// Header is what every event begins with.
type Header struct {
	At     time.Time // to the second
	Type   Type
	Server uint32
	Size   uint32 // of the whole event, checksum included
	End    uint32 // offset after the event; 0 in events made up by a sender
	Flags  uint16
}

// Event is one event: its header and its body without the checksum.
type Event struct {
	Header
	Body []byte
}

// ErrShort says that the bytes end within an event: a torn log, or more is to
// come.
var ErrShort = errors.New("the log ends within an event")

// Format is what the format description event says.
type Format struct {
	Version  string
	Checksum bool
	fixed    []byte // length of each event type's fixed part, from type 1 on
}

// fixedOf returns the length of the fixed part of a type.
func (f *Format) fixedOf(t Type) int {
	if f == nil || int(t) < 1 || int(t) > len(f.fixed) {
		return 0
	}
	return int(f.fixed[t-1])
}

// Reader reads the events of one log in order.
type Reader struct {
	format *Format
	tables map[uint64]*Table
}

// NewReader makes a reader; the first event has to be a format description.
func NewReader() *Reader { return &Reader{tables: map[uint64]*Table{}} }

// Format returns the log's format once it was read.
func (r *Reader) Format() *Format { return r.format }

// Next reads the first event of b and gives the number of bytes it takes.
// Magic bytes at the beginning are passed over.
func (r *Reader) Next(b []byte) (Event, int, error) {
	skipped := 0
	if len(b) >= len(Magic) && string(b[:len(Magic)]) == string(Magic) {
		skipped = len(Magic)
		b = b[skipped:]
	}
	if len(b) < headerBytes {
		return Event{}, 0, ErrShort
	}
	h := Header{At: time.Unix(int64(binary.LittleEndian.Uint32(b)), 0).UTC(), Type: Type(b[4]),
		Server: binary.LittleEndian.Uint32(b[5:]),
		Size:   binary.LittleEndian.Uint32(b[9:]), End: binary.LittleEndian.Uint32(b[13:]),
		Flags: binary.LittleEndian.Uint16(b[17:])}
	if h.Size < headerBytes {
		return Event{}, 0, fmt.Errorf("event of type %d: a size of %d bytes is less than its header", h.Type, h.Size)
	}
	if uint64(len(b)) < uint64(h.Size) {
		return Event{}, 0, ErrShort
	}
	e := Event{Header: h, Body: b[headerBytes:h.Size]}
	if err := r.take(&e, b[:h.Size]); err != nil {
		return Event{}, 0, err
	}
	return e, skipped + int(h.Size), nil
}

// take checks and strips the checksum and remembers what later events need.
func (r *Reader) take(e *Event, whole []byte) error {
	if e.Type == FormatEvent {
		f, err := parseFormat(e.Body)
		if err != nil {
			return err
		}
		r.format, r.tables = f, map[uint64]*Table{}
	}
	if r.format == nil {
		return fmt.Errorf("event of type %d before the format description", e.Type)
	}
	if r.format.Checksum {
		if len(e.Body) < checksumBytes {
			return fmt.Errorf("event of type %d has no room for its checksum", e.Type)
		}
		n := len(whole) - checksumBytes
		if got, want := checksum(whole[:n], e.Type), binary.LittleEndian.Uint32(whole[n:]); got != want {
			return fmt.Errorf("event of type %d that ends at %d: its checksum is %08x, not %08x: the log is damaged", e.Type,
				e.End, got, want)
		}
		e.Body = e.Body[:len(e.Body)-checksumBytes]
	}
	if e.Type == EncryptionEvent {
		return errors.New("the log is encrypted: it cannot be read without the server's keys")
	}
	if e.Type == TableMapEvent {
		t, err := parseTable(e.Body, r.format.fixedOf(TableMapEvent))
		if err != nil {
			return err
		}
		r.tables[t.ID] = t
	}
	return nil
}

// checksum is over the event as it stood before the file was in use.
func checksum(b []byte, t Type) uint32 {
	if t == FormatEvent && len(b) >= headerBytes {
		c := append([]byte(nil), b...)
		flags := binary.LittleEndian.Uint16(c[17:]) &^ flagInUse
		binary.LittleEndian.PutUint16(c[17:], flags)
		b = c
	}
	return crc32.ChecksumIEEE(b)
}

func parseFormat(b []byte) (*Format, error) {
	const fixed = 2 + formatServerBytes + 4 + 1
	if len(b) < fixed+1+checksumBytes {
		return nil, errors.New("the format description is too short")
	}
	if v := binary.LittleEndian.Uint16(b); v != 4 {
		return nil, fmt.Errorf("binary log version %d is not known: only version 4 is", v)
	}
	if b[fixed-1] != headerBytes {
		return nil, fmt.Errorf("event headers of %d bytes are not known", b[fixed-1])
	}
	f := &Format{Version: cString(b[2 : 2+formatServerBytes])}
	algorithm := b[len(b)-checksumBytes-1]
	if algorithm > 1 {
		return nil, fmt.Errorf("checksum algorithm %d is not known", algorithm)
	}
	f.Checksum = algorithm == 1
	f.fixed = append([]byte(nil), b[fixed:len(b)-checksumBytes-1]...)
	return f, nil
}

func cString(b []byte) string {
	for i, c := range b {
		if c == 0 {
			return string(b[:i])
		}
	}
	return string(b)
}

// cursor reads a body from front to back; after the first fault everything
// reads as zero and err stays.
type cursor struct {
	b   []byte
	err error
}

func (c *cursor) take(n int) []byte {
	if c.err != nil || n < 0 || n > len(c.b) {
		if c.err == nil {
			c.err = fmt.Errorf("the event ends %d bytes too early", n-len(c.b))
		}
		return nil
	}
	out := c.b[:n]
	c.b = c.b[n:]
	return out
}

// little reads an unsigned number of n bytes, the least significant first.
func (c *cursor) little(n int) uint64 {
	var v uint64
	for i, x := range c.take(n) {
		v |= uint64(x) << (8 * i)
	}
	return v
}

// big reads an unsigned number of n bytes, the most significant first.
func (c *cursor) big(n int) uint64 {
	var v uint64
	for _, x := range c.take(n) {
		v = v<<8 | uint64(x)
	}
	return v
}

// packed reads a number of variable length (protocol, "length-encoded integer").
func (c *cursor) packed() uint64 {
	switch first := c.little(1); first {
	case 251:
		c.fail("a length that says NULL")
		return 0
	case 252:
		return c.little(2)
	case 253:
		return c.little(3)
	case 254:
		return c.little(8)
	default:
		return first
	}
}

// count reads a packed number of things that take at least one byte each, so
// that a damaged number cannot ask for more memory than there are bytes.
func (c *cursor) count(perThing int) int {
	n := c.packed()
	if c.err == nil && n > uint64(len(c.b)*8/max(1, perThing))+8 {
		c.fail("a count larger than the event")
	}
	if c.err != nil {
		return 0
	}
	return int(n)
}

func (c *cursor) text() string { return string(c.take(int(min(c.packed(), 1<<31)))) }

func (c *cursor) fail(why string) {
	if c.err == nil {
		c.err = errors.New(why)
	}
}
