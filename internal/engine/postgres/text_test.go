package postgres

import (
	"testing"

	"crosstwin/internal/core/position"
)

// A log file's name and its first position are one thing, for any file size.
func TestSegment(t *testing.T) {
	for _, bytes := range []uint64{1 << 20, 16 << 20, 1 << 30} {
		for _, n := range []uint64{0, 1, 255, 256, 4095, 4096, 70000} {
			at := position.LSN(n * bytes)
			timeline, begin, ok := segment(position.SegmentName(3, at, bytes), bytes)
			if !ok || timeline != 3 || begin != at {
				t.Errorf("files of %d: %s became %d %s %t", bytes, position.SegmentName(3, at, bytes), timeline, begin, ok)
			}
		}
	}
	for _, name := range []string{"", "00000002.history", "000000010000000000000001.partial", "archive_status",
		"00000001000000000000000Z"} {
		if _, _, ok := segment(name, 16<<20); ok {
			t.Errorf("%q is a log file", name)
		}
	}
}
