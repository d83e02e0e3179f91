package binlog

import (
	"os"
	"testing"
)

// Whatever the bytes are, reading them ends, in order, without a panic.
func FuzzGroups(f *testing.F) {
	b, err := os.ReadFile("testdata/small.binlog")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add(b[:len(b)/2])
	f.Fuzz(func(t *testing.T, b []byte) {
		n, err := NewGroups().Read(b, func(g *Group) error { g.WhyNotUndone(); return nil })
		if n < 0 || n > len(b) {
			t.Errorf("read %d of %d bytes, %v", n, len(b), err)
		}
		// Without checksums more of the decoding is reached.
		r := NewReader()
		r.format = &Format{fixed: make([]byte, 171)}
		for at := 0; at < len(b); {
			e, n, err := r.Next(b[at:])
			if err != nil || n == 0 {
				break
			}
			if e.IsRows() {
				r.ParseRows(e)
			}
			ParseQuery(e)
			ParseGTIDList(e)
			at += n
		}
	})
}
