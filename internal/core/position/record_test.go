package position

import (
	"encoding/binary"
	"testing"
)

// writtenLog is a log of records of given lengths as a server writes it, page by
// page, from a position on; ends are those of its records.
func writtenLog(began LSN, segment uint64, lengths ...uint32) (read ReadLog, ends []LSN) {
	pages := map[LSN][]byte{}
	put := func(at LSN, b []byte, left int) {
		page := at - at%logPage
		if pages[page] == nil {
			pages[page] = make([]byte, logPage)
			binary.LittleEndian.PutUint64(pages[page][headerPage:], uint64(page))
			binary.LittleEndian.PutUint32(pages[page][headerContinues:], uint32(left))
		}
		copy(pages[page][at-page:], b)
	}
	at := began
	for _, n := range lengths {
		b := make([]byte, n)
		binary.LittleEndian.PutUint32(b, n)
		for i := range b[4:] {
			b[4+i] = 0xff
		}
		for first := true; len(b) > 0; first = false {
			left := len(b)
			if first {
				left = 0
			}
			at = firstByte(at, segment)
			k := min(len(b), int(logPage-at%logPage))
			put(at, b[:k], left)
			at, b = at+LSN(k), b[k:]
		}
		at = (at + 7) &^ 7
		ends = append(ends, at)
	}
	return func(at LSN, n int) []byte {
		p, in := pages[at-at%logPage], int(at%logPage)
		if p == nil || in+n > logPage {
			return nil
		}
		return p[in : in+n]
	}, ends
}

const testSegment = 4 * logPage // so that its longer header is met often

func TestRecordEnd(t *testing.T) {
	at := LSN(testSegment + 40)
	_, ends := writtenLog(at, testSegment, 114, 8128, 24, 30000, 100000, 8130, 49)
	for i, n := range []uint32{114, 8128, 24, 30000, 100000, 8130, 49} {
		if got := RecordEnd(at, n, testSegment); got != ends[i] {
			t.Errorf("record %d of %d bytes at %s ends at %s, want %s", i, n, at, got, ends[i])
		}
		at = ends[i]
	}
	// Measured with pg_waldump: gull's last record, cut off by a kill at 0/7002000.
	if got := RecordEnd(0x7000178, 8200, 16<<20); got != 0x7002198 {
		t.Errorf("a record of 8200 bytes at 0/7000178 ends at %s", got)
	}
}

// Wherever a log is cut off, what is whole is told, from any record on.
func TestWholeEnd(t *testing.T) {
	began := LSN(testSegment + 40)
	read, ends := writtenLog(began, testSegment, 114, 8000, 24, 30000, 8104, 100000, 24, 24, 16336, 49)
	for received := began; received <= ends[len(ends)-1]; received += 8 {
		cut := func(at LSN, n int) []byte {
			if at+LSN(n) > received {
				return nil
			}
			return read(at, n)
		}
		want := began
		for _, e := range ends {
			if e <= received {
				want = e
			}
		}
		for _, applied := range []LSN{began, ends[1], ends[4]} {
			if got := WholeEnd(cut, applied, received, testSegment); applied <= want && got != want {
				t.Fatalf("received up to %s, applied up to %s: whole up to %s, want %s", received, applied, got, want)
			}
		}
	}
}

func TestBrokenTo(t *testing.T) {
	began := LSN(testSegment + 40)
	read, ends := writtenLog(began, testSegment, 114, 30000)
	for name, c := range map[string]struct{ at, want LSN }{
		"a record": {ends[0], ends[1]}, "no record": {ends[1], ends[1]},
		"no page": {ends[1] + 8*logPage, ends[1] + 8*logPage},
	} {
		if got := BrokenTo(read, c.at, testSegment); got != c.want {
			t.Errorf("%s at %s: broken off to %s, want %s", name, c.at, got, c.want)
		}
	}
	stale := func(at LSN, n int) []byte { return read(at-16*logPage, n) }
	if at := ends[0] + 16*logPage; BrokenTo(stale, at, testSegment) != at {
		t.Error("what a file held before its second use was taken for a record")
	}
}

// A file that ended early is filled up: nothing is missing there.
func TestWholeEndOfAFileThatEndedEarly(t *testing.T) {
	began := LSN(testSegment + 40)
	read, ends := writtenLog(began, testSegment, 114, 24)
	padded := func(at LSN, n int) []byte {
		if b := read(at, n); b != nil {
			return b
		}
		b := make([]byte, logPage)
		binary.LittleEndian.PutUint64(b[headerPage:], uint64(at-at%logPage))
		return b[at%logPage : at%logPage+LSN(n)]
	}
	if got := WholeEnd(padded, ends[0], 2*testSegment, testSegment); got != 2*testSegment {
		t.Errorf("whole up to %s, want %s", got, LSN(2*testSegment))
	}
}

func TestBreaksOffWithFile(t *testing.T) {
	began := LSN(testSegment + 40)
	read, ends := writtenLog(began, testSegment, 114, 3*testSegment)
	for cut := began; cut < ends[1]; cut += logPage / 2 {
		upTo := func(at LSN, n int) []byte {
			if at+LSN(n) > cut {
				return nil
			}
			return read(at, n)
		}
		// Of the page that is cut off, its header may be there.
		page := (cut + logPage - shortHeader) &^ (logPage - 1)
		if got, want := BreaksOffWithFile(upTo, ends[0], testSegment), page > ends[0] && page%testSegment == 0; got != want {
			t.Errorf("cut off at %s: breaks off with its file: %v, want %v", cut, got, want)
		}
	}
	if BreaksOffWithFile(read, ends[0], testSegment) || BreaksOffWithFile(read, ends[1], testSegment) {
		t.Error("a log with whole records alone breaks off")
	}
}
