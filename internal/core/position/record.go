package position

import "encoding/binary"

// PostgreSQL's log is read here only as far as needed to tell whole records from
// one that breaks off. Sizes and offsets are those of src/include/access/xlog_internal.h
// and xlogrecord.h of version 15, for the default page of 8 kB and a processor that
// stores the low byte first, as Debian's are.
const (
	logPage         = 8192
	shortHeader     = 24 // of a page
	longHeader      = 40 // of a file's first page
	recordHeader    = 24
	headerPage      = 8  // where a page's header has its position, 8 bytes
	headerContinues = 16 // how many bytes of a record begun before follow, 4 bytes
)

// ReadLog returns n bytes of a log from a position on, all within one page, or
// nothing when it does not have them.
type ReadLog func(at LSN, n int) []byte

// headerOf returns the length of the header of the page that begins at l.
func headerOf(l LSN, segment uint64) LSN {
	if uint64(l)%segment == 0 {
		return longHeader
	}
	return shortHeader
}

// RecordEnd returns where a record of a length ends that begins at a position: its
// bytes go around the headers of the pages that it crosses, and the next record
// begins at a multiple of 8.
func RecordEnd(at LSN, length uint32, segment uint64) LSN {
	for left := LSN(length); ; {
		next := at - at%logPage + logPage
		at = firstByte(at, segment)
		if room := next - at; left > room {
			at, left = next, left-room
			continue
		}
		return (at + left + 7) &^ 7
	}
}

// BrokenTo returns where the record that begins at a position would have ended, by
// the length in its first bytes; at itself when no record begins there.
func BrokenTo(read ReadLog, at LSN, segment uint64) LSN {
	if n := lengthAt(read, at, segment); n >= recordHeader {
		return RecordEnd(at, n, segment)
	}
	return at
}

// BreaksOffWithFile reports whether a record begins at a position and goes on in a log
// file that is not there, while its bytes up to the end of the file before are.
func BreaksOffWithFile(read ReadLog, at LSN, segment uint64) bool {
	to := BrokenTo(read, at, segment)
	for page := at - at%logPage + logPage; page < to; page += logPage {
		if _, ok := continues(read, page); !ok {
			return uint64(page)%segment == 0
		}
	}
	return false
}

// lengthAt returns the length of the record that begins at a position, 0 for none.
func lengthAt(read ReadLog, at LSN, segment uint64) uint32 {
	// A file in use for the second time still holds what it held before.
	if _, ok := continues(read, at-at%logPage); !ok {
		return 0
	}
	if b := read(firstByte(at, segment), 4); len(b) == 4 {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

// firstByte returns where the first byte stands of a record that begins at a position:
// after the header, at the beginning of a page.
func firstByte(at LSN, segment uint64) LSN {
	if at%logPage == 0 {
		return at + headerOf(at, segment)
	}
	return at
}

// continues returns how many bytes of a record that began before follow the header
// of a page.
func continues(read ReadLog, page LSN) (n uint32, ok bool) {
	b := read(page, shortHeader)
	if len(b) < shortHeader || LSN(binary.LittleEndian.Uint64(b[headerPage:])) != page {
		return 0, false
	}
	return binary.LittleEndian.Uint32(b[headerContinues:]), true
}

// WholeEnd returns the end of the last whole record before received, the end of the
// bytes that a replica has, which can break off within a record. applied is the end
// of a record: what is before it is whole. Where the log cannot be read it is received.
func WholeEnd(read ReadLog, applied, received LSN, segment uint64) LSN {
	if applied >= received {
		return received
	}
	at := applied
	if n := lengthAt(read, at, segment); n >= recordHeader && RecordEnd(at, n, segment) > received {
		return at // nothing is whole after what was applied, as is most often so
	}
	for page := (received - 1) - (received-1)%logPage; page > applied; page -= logPage {
		if received <= page+headerOf(page, segment) {
			continue // no byte of a record is on it
		}
		n, ok := continues(read, page)
		if !ok {
			return received
		}
		if next := page + headerOf(page, segment) + (LSN(n)+7)&^7; next < page+logPage {
			if next > received {
				continue // its last record began on a page before
			}
			at = next
			if n == 0 {
				at = page // nothing ends here
			}
			break
		}
	}
	for firstByte(at, segment)+4 <= received {
		n := lengthAt(read, at, segment)
		if n < recordHeader {
			return received // a file that ended early is filled up with nothing
		}
		next := RecordEnd(at, n, segment)
		if next > received {
			return at
		}
		at = next
	}
	return min(at, received)
}
