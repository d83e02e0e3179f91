// Package position holds places in a log and the histories they belong to.
//
// A position says how far a server has come; a history says along which line
// of writes. Two positions compare only within one history: PostgreSQL gives
// each promotion a new timeline number, and two servers that both promoted
// from the same point use the same number for different writes. So a Line,
// the identity of a history, also carries the fingerprint of its first record.
//
// Everything here is a small comparable value with Parse and String, in the
// manner of net/netip. Positions cross the wire in the server's own text form.
package position

import (
	"fmt"
	"strconv"
	"strings"
)

// LSN is a byte offset in PostgreSQL's write-ahead log. The zero LSN is
// invalid, as it is for the server (documentation, "pg_lsn type").
type LSN uint64

// ParseLSN reads the server's text form: two hexadecimal numbers of at most
// 32 bits each, parted by a slash, such as "16/B374D848".
func ParseLSN(s string) (LSN, error) {
	hi, lo, ok := strings.Cut(s, "/")
	if !ok {
		return 0, fmt.Errorf("position %q: not a log position of the form X/Y", s)
	}
	h, err := hex32(hi)
	if err != nil {
		return 0, fmt.Errorf("position %q: %w", s, err)
	}
	l, err := hex32(lo)
	if err != nil {
		return 0, fmt.Errorf("position %q: %w", s, err)
	}
	return LSN(h<<32 | l), nil
}

func hex32(s string) (uint64, error) {
	if len(s) == 0 || len(s) > 8 {
		return 0, fmt.Errorf("%q is not a hexadecimal number of 1 to 8 digits", s)
	}
	for _, c := range s {
		if (c < '0' || c > '9') && (c < 'a' || c > 'f') && (c < 'A' || c > 'F') {
			return 0, fmt.Errorf("%q is not a hexadecimal number", s)
		}
	}
	return strconv.ParseUint(s, 16, 32)
}

// String returns the server's text form.
func (l LSN) String() string { return fmt.Sprintf("%X/%X", uint32(l>>32), uint32(l)) }

// Valid reports whether l is a position at all.
func (l LSN) Valid() bool { return l != 0 }

// Since returns the bytes of log from other to l, negative when l is earlier.
func (l LSN) Since(other LSN) int64 { return int64(l) - int64(other) }

// MarshalText implements encoding.TextMarshaler; the zero LSN is empty text.
func (l LSN) MarshalText() ([]byte, error) {
	if l == 0 {
		return []byte{}, nil
	}
	return []byte(l.String()), nil
}

// UnmarshalText implements encoding.TextUnmarshaler.
func (l *LSN) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*l = 0
		return nil
	}
	v, err := ParseLSN(string(b))
	if err == nil {
		*l = v
	}
	return err
}

// SegmentName returns the name of the log file that holds l on a timeline, for
// segments of size bytes (16 MiB unless initdb was told otherwise).
func SegmentName(timeline uint32, l LSN, size uint64) string {
	if size == 0 {
		size = 16 << 20
	}
	n, per := uint64(l)/size, uint64(1<<32)/size
	return fmt.Sprintf("%08X%08X%08X", timeline, n/per, n%per)
}
