package position

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestLSN(t *testing.T) {
	for _, c := range []struct {
		in   string
		want LSN
		out  string
	}{
		{"0/0", 0, "0/0"}, {"16/B374D848", 0x16B374D848, "16/B374D848"}, {"FFFFFFFF/FFFFFFFF", ^LSN(0), "FFFFFFFF/FFFFFFFF"},
		{"0/01529d60", 0x1529d60, "0/1529D60"},
	} {
		got, err := ParseLSN(c.in)
		if err != nil || got != c.want || got.String() != c.out {
			t.Errorf("%s: %v %v", c.in, got, err)
		}
	}
	for _, bad := range []string{"", "/", "0/", "/0", "1", "0/123456789", "x/1", "0/-1", "0/0x1", " 0/1", "0/1 "} {
		if l, err := ParseLSN(bad); err == nil {
			t.Errorf("%q was read as %s", bad, l)
		}
	}
	b, _ := json.Marshal(struct{ A, B LSN }{1 << 32, 0})
	var back struct{ A, B LSN }
	if err := json.Unmarshal(b, &back); err != nil || back.A != 1<<32 || back.B != 0 ||
		!strings.Contains(string(b), `"1/0"`) {
		t.Errorf("%s %v %v", b, back, err)
	}
	if got := SegmentName(2, 0x5000028, 0); got != "000000020000000000000005" {
		t.Error(got)
	}
	if got := SegmentName(1, LSN(3)<<32|0x10000000, 64<<20); got != "000000010000000300000004" {
		t.Error(got)
	}
}

func history(t *testing.T, current uint32, text string) History {
	t.Helper()
	h, err := ParseHistory(current, text)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func TestHistoryFork(t *testing.T) {
	const to3 = "1\t0/5000000\tno recovery target specified\n\n2\t0/7000100\tno recovery target specified\n"
	for _, c := range []struct {
		name     string
		mine     History
		theirs   History
		fork     LSN
		timeline uint32
		same     bool
		strange  bool
	}{
		{"equal", history(t, 3, to3), history(t, 3, to3), ^LSN(0), 3, true, false},
		{"old primary", history(t, 1, ""), history(t, 2, "1 0/5000000 x"), 0x5000000, 1, false, false},
		{"two promotions behind", history(t, 1, ""), history(t, 3, to3), 0x5000000, 1, false, false},
		{"one promotion behind", history(t, 2, "1 0/5000000 x"), history(t, 3, to3), 0x7000100, 2, false, false},
		{"went its own way", history(t, 4, "1 0/5000000 x\n2 0/6000000 x"), history(t, 3, to3), 0x6000000, 2, false, false},
		{"both promoted, other points", history(t, 2, "1 0/4000000 x"), history(t, 2, "1 0/5000000 x"), 0x4000000, 1, false,
			false},
		{"no common beginning", history(t, 5, "4 0/1000000 x"), history(t, 2, "1 0/5000000 x"), 0, 0, false, true},
	} {
		fork, tli, same, err := c.mine.Fork(c.theirs)
		if (err != nil) != c.strange || fork != c.fork || tli != c.timeline || same != c.same {
			t.Errorf("%s: %s on %d, same %t, %v", c.name, fork, tli, same, err)
		}
		if back, _, _, _ := c.theirs.Fork(c.mine); back != fork {
			t.Errorf("%s: the fork is %s one way and %s the other", c.name, fork, back)
		}
	}
	for _, bad := range []string{"1", "x 0/1 y", "0 0/1 y", "1 zz y", "2 0/1 x\n1 0/2 x", "1 0/2 x\n2 0/1 x", "3 0/1 x",
		"4 0/1 x"} {
		if h, err := ParseHistory(3, bad); err == nil {
			t.Errorf("%q was read as %v", bad, h)
		}
	}
}

func TestLineCompare(t *testing.T) {
	a := Line{"77", 2, 0x5000000, "END_OF_RECOVERY time 1"}
	other, unknown, first := a, a, Line{"77", 1, 0, ""}
	other.Fingerprint, unknown.Fingerprint = "END_OF_RECOVERY time 2", ""
	for _, c := range []struct {
		a, b Line
		want Kinship
	}{{a, a, Kin}, {a, other, Stranger}, {a, unknown, Unknown}, {unknown, unknown, Unknown}, {first, first, Kin},
		{first, Line{"78", 1, 0, ""}, Stranger}, {a, first, Stranger}} {
		if got := c.a.Compare(c.b); got != c.want {
			t.Errorf("%v and %v: %s, want %s", c.a, c.b, got, c.want)
		}
	}
}

func FuzzParseLSN(f *testing.F) {
	for _, s := range []string{"0/0", "16/B374D848", "FFFFFFFF/FFFFFFFF", "x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if l, err := ParseLSN(s); err == nil {
			if back, err := ParseLSN(l.String()); err != nil || back != l {
				t.Errorf("%q: %s reads back as %s %v", s, l, back, err)
			}
		}
	})
}

func FuzzParseHistory(f *testing.F) {
	f.Add(uint32(3), "1\t0/5000000\tno recovery target specified\n\n2\t0/7000100\tx\n")
	f.Add(uint32(2), "# nothing\n")
	f.Fuzz(func(t *testing.T, current uint32, s string) {
		h, err := ParseHistory(current, s)
		if err != nil {
			return
		}
		fork, _, same, err := h.Fork(h)
		if err != nil || !same || fork != ^LSN(0) {
			t.Errorf("a history parts from itself: %q at %s %v", s, fork, err)
		}
		for i := 1; i < len(h.Past); i++ {
			if h.Past[i].Timeline <= h.Past[i-1].Timeline || h.Past[i].End < h.Past[i-1].End {
				t.Errorf("%q goes back: %v", s, h.Past)
			}
		}
	})
}
