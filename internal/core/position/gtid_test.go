package position

import (
	"slices"
	"testing"
)

func TestGTID(t *testing.T) {
	for in, want := range map[string]GTID{"0-1-1": {0, 1, 1},
		"4294967295-4294967295-18446744073709551615": {1<<32 - 1, 1<<32 - 1, 1<<64 - 1}} {
		if g, err := ParseGTID(in); err != nil || g != want || g.String() != in {
			t.Errorf("%s: %v %v", in, g, err)
		}
	}
	for _, bad := range []string{"", "1", "1-2", "1-2-3-4", "1-2-", "-1-2-3", "1-2-+3", "1-2- 3", "4294967296-1-1",
		"1-1-18446744073709551616", "1_0-1-1"} {
		if g, err := ParseGTID(bad); err == nil {
			t.Errorf("%q was read as %s", bad, g)
		}
	}
	for _, bad := range []string{"1-1-1,1-2-2", "x", "1-1-1,2"} {
		if p, err := ParseGTIDPosition(bad); err == nil {
			t.Errorf("%q was read as %s", bad, p)
		}
	}
	if _, err := ParseGTIDState("1-1-1,1-1-2"); err == nil {
		t.Error("a server stands twice in one domain")
	}
}

func position(t *testing.T, s string) GTIDPosition {
	t.Helper()
	p, err := ParseGTIDPosition(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestGTIDPosition(t *testing.T) {
	for _, c := range []struct {
		a, b    string
		reaches bool
		lacks   uint64
	}{
		{"1-1-5", "1-1-5", true, 0}, {"1-1-5", "1-2-5", true, 0}, {"1-1-5", "1-1-6", false, 1}, {"1-1-5", "", true, 0},
		{"", "1-1-5", false, 5},
		{"1-1-5,2-1-9", "1-3-4", true, 0}, {"1-1-5", "1-1-5,2-1-9", false, 9}, {"2-1-1, 1-1-5", "1-1-7,2-1-3", false, 4},
	} {
		a, b := position(t, c.a), position(t, c.b)
		if got := a.Reaches(b); got != c.reaches {
			t.Errorf("%s reaches %s: %t", a, b, got)
		}
		if got := a.Lacks(b); got != c.lacks {
			t.Errorf("%s lacks %d of %s", a, got, b)
		}
	}
}

// The three cases of a returning primary, as they look on real servers.
func TestGTIDStateExtra(t *testing.T) {
	for _, c := range []struct{ a, b, extra string }{
		{"1-1-5", "1-1-3,1-3-6", "1-1-5"},       // wrote two that the new primary lacks
		{"1-1-3", "1-1-3,1-3-6", ""},            // nothing of its own
		{"1-1-3,1-2-9", "1-1-3,1-3-6", "1-2-9"}, // a server that the other never saw
		{"1-1-3,2-1-1", "1-1-3,1-3-6", "2-1-1"}, // another domain, which the server itself would accept
		{"1-1-3,1-3-6", "1-1-3,1-3-6", ""},      // equal: no proof of kinship
	} {
		a, err1 := ParseGTIDState(c.a)
		b, err2 := ParseGTIDState(c.b)
		if got := joinGTIDs(a.Extra(b)); err1 != nil || err2 != nil || got != c.extra {
			t.Errorf("%s beyond %s: %q, want %q", c.a, c.b, got, c.extra)
		}
	}
}

func TestForkOf(t *testing.T) {
	type entry struct {
		seq   uint64
		print string
	}
	e := func(seq uint64, print string) entry { return entry{seq, print} }
	number := func(x entry) uint64 { return x.seq }
	same := func(x, y entry) bool { return x == y }
	common := []entry{e(1, "a"), e(2, "b"), e(3, "c")}
	for _, c := range []struct {
		name     string
		a, b     []entry
		inA, inB int
		ok       bool
	}{
		{"equal", common, common, 3, 3, true},
		{"one is ahead", append(slices.Clone(common), e(4, "d")), common, 3, 3, true},
		{"a number used twice", append(slices.Clone(common), e(4, "d")), append(slices.Clone(common), e(4, "other")), 3, 3,
			true},
		{"logs begin at different places", common, common[1:], 3, 2, true},
		{"the other way round", common[2:], common, 1, 3, true},
		{"apart from the first shared number", common, []entry{e(2, "x"), e(3, "y")}, 1, 0, true},
		{"no overlap", common[:1], []entry{e(7, "z")}, 0, 0, false},
		{"nothing", nil, common, 0, 0, false},
	} {
		inA, inB, ok := ForkOf(c.a, c.b, number, same)
		if inA != c.inA || inB != c.inB || ok != c.ok {
			t.Errorf("%s: %d %d %t", c.name, inA, inB, ok)
		}
		if y, x, ok := ForkOf(c.b, c.a, number, same); x != c.inA || y != c.inB || ok != c.ok {
			t.Errorf("%s, turned round: %d %d %t", c.name, x, y, ok)
		}
	}
}

func TestCoordinates(t *testing.T) {
	c, err := ParseCoordinates("wren-bin.000003:1234")
	if err != nil || c.File != "wren-bin.000003" || c.Offset != 1234 || c.String() != "wren-bin.000003:1234" {
		t.Errorf("%v %v", c, err)
	}
	for _, bad := range []string{"", "x", ":1", "x:", "x:-1", "a/b:1", "a:b:1"} {
		if c, err := ParseCoordinates(bad); err == nil {
			t.Errorf("%q was read as %s", bad, c)
		}
	}
	files := []LogFile{{"a", 100}, {"b", 200}, {"c", 50}}
	for _, x := range []struct {
		from, to string
		n        int64
		ok       bool
	}{{"a:10", "a:60", 50, true}, {"a:10", "b:5", 95, true}, {"a:10", "c:1", 291, true}, {"b:5", "a:10", 0, false},
		{"a:60", "a:10", 0, false}, {"z:1", "c:1", 0, false}, {"a:1", "z:1", 0, false}} {
		from, _ := ParseCoordinates(x.from)
		to, _ := ParseCoordinates(x.to)
		if n, ok := BytesBetween(files, from, to); n != x.n || ok != x.ok {
			t.Errorf("%s to %s: %d %t", x.from, x.to, n, ok)
		}
	}
}

func FuzzGTIDPosition(f *testing.F) {
	for _, s := range []string{"", "1-2-3", "1-1-5,2-1-9", " 3-1-1 , 2-2-2"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if p, err := ParseGTIDPosition(s); err == nil {
			again, err := ParseGTIDPosition(p.String())
			if err != nil || again != p || !p.Reaches(p) || p.Lacks(p) != 0 {
				t.Errorf("%q: %v %v %v", s, p, again, err)
			}
		}
		if st, err := ParseGTIDState(s); err == nil && len(st.Extra(st)) != 0 {
			t.Errorf("%q goes beyond itself", s)
		}
		if c, err := ParseCoordinates(s); err == nil && c.String() != s && c.File+":" != s[:len(c.File)+1] {
			t.Errorf("%q became %s", s, c)
		}
	})
}

func TestGTIDStateUnapplied(t *testing.T) {
	for _, c := range []struct{ state, applied, want string }{
		{"", "", ""}, {"0-11-7", "0-11-7", ""}, {"0-11-7", "0-11-5", "0-11-7"}, {"0-11-7", "", "0-11-7"},
		{"0-11-7,0-12-9", "0-11-7", ""}, // its own were written, not applied
		{"0-11-7,0-12-9,0-13-8", "0-11-7", "0-13-8"},
		{"0-11-7,1-11-3", "0-11-7", "1-11-3"}, // each domain by itself
		{"0-11-7", "0-11-9", ""},              // its log lost what its data has
	} {
		state, err := ParseGTIDState(c.state)
		if err != nil {
			t.Fatal(err)
		}
		applied, err := ParseGTIDPosition(c.applied)
		if err != nil {
			t.Fatal(err)
		}
		if got := joinGTIDs(state.Unapplied(applied, 12)); got != c.want {
			t.Errorf("%q with %q applied: %q, want %q", c.state, c.applied, got, c.want)
		}
	}
}

// Positions and states are values: made in any order they are equal, and what is made from
// one leaves it as it was.
func TestGTIDsAreValues(t *testing.T) {
	g := func(s string) GTID { x, _ := ParseGTID(s); return x }
	p, q := position(t, "2-1-9, 1-1-5"), PositionOf(g("1-1-5"), g("2-3-4"), g("2-1-9"))
	if p != q || (p != GTIDPosition{}) != !p.IsZero() || !(GTIDPosition{}).IsZero() {
		t.Errorf("%s, %s", p, q)
	}
	if r := p.With(g("1-2-6")).With(g("3-1-1")); r.String() != "1-2-6,2-1-9,3-1-1" || p.String() != "1-1-5,2-1-9" {
		t.Errorf("%s from %s", r, p)
	}
	s, err := ParseGTIDState("1-2-3,1-1-5")
	tally := s.Tally()
	tally.Add(g("1-1-6"), g("2-1-1"))
	if err != nil || s != StateOf(g("1-1-4"), g("1-2-3"), g("1-1-5")) || tally.State().String() != "1-1-6,1-2-3,2-1-1" ||
		s.With(g("1-1-6")).With(g("2-1-1")) != tally.State() || s.Last() != position(t, "1-1-5") {
		t.Errorf("%s %s %v", s, tally.State(), err)
	}
}
