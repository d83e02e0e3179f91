package position

import (
	"testing"
)

func TestLacksAndReaches(t *testing.T) {
	for _, c := range []struct {
		engine, at, want string
		lacks            int64
		known            bool
	}{
		{EnginePostgres, "0/2000000", "0/2000000", 0, true}, {EnginePostgres, "0/1FFFF00", "0/2000000", 0x100, true},
		{EnginePostgres, "0/3000000", "0/2000000", 0, true},
		{EnginePostgres, "", "0/2000000", 0, false}, {EnginePostgres, "0/1", "nonsense", 0, false},
		{EngineMariaDB, "1-11-100", "1-11-105", 5, true}, {EngineMariaDB, "1-12-105", "1-11-105", 0, true},
		{EngineMariaDB, "1-11-100,2-5-7", "1-11-100,2-5-9", 2, true},
		{EngineMariaDB, "1-11-100", "1-11-100,2-5-9", 9, true}, {EngineMariaDB, "", "1-11-3", 3, true},
		{EngineMariaDB, "1-11-3", "", 0, false}, {EngineMariaDB, "x", "1-11-3", 0, false},
		{"other", "1", "2", 0, false},
	} {
		lacks, known := Lacks(c.engine, c.at, c.want)
		if known != c.known || known && lacks.Amount != c.lacks {
			t.Errorf("%s %q lacks %v of %q (%t), want %d (%t)", c.engine, c.at, lacks, c.want, known, c.lacks, c.known)
		}
		if ok, k := Reaches(c.engine, c.at, c.want); k != c.known || ok != (c.known && c.lacks == 0) {
			t.Errorf("%s %q reaches %q: %t %t", c.engine, c.at, c.want, ok, k)
		}
	}
}

// A stop is held strictly for bytes, whose last record is still to come, and
// plainly for transactions.
func TestHoldsStop(t *testing.T) {
	for _, c := range []struct {
		engine, applied, stop string
		want                  bool
	}{
		{EnginePostgres, "0/2000000", "0/2000000", false}, {EnginePostgres, "0/2000078", "0/2000000", true},
		{EnginePostgres, "0/2000078", "", false},
		{EngineMariaDB, "1-11-105", "1-11-105", true}, {EngineMariaDB, "1-11-104", "1-11-105", false},
		{EngineMariaDB, "1-11-105", "", false}, {EngineMariaDB, "1-11-105", "1-11-105,2-1-1", false},
	} {
		if got := HoldsStop(c.engine, c.applied, c.stop); got != c.want {
			t.Errorf("%+v: %t", c, got)
		}
	}
}

func TestLinear(t *testing.T) {
	files := []LogFile{{"b.000001", 1000}, {"b.000002", 500}, {"b.000003", 70}}
	for at, want := range map[string]int64{"b.000001:4": 4, "b.000001:1000": 1000, "b.000002:4": 1004, "b.000003:70": 1570,
		"b.000009:4": -1, "": -1, "b.000001": -1} {
		got, ok := Linear(files, at)
		if ok != (want >= 0) || ok && got != want {
			t.Errorf("%s is at %d (%t), want %d", at, got, ok, want)
		}
	}
}

func TestParted(t *testing.T) {
	state := func(s string) GTIDState {
		g, err := ParseGTIDState(s)
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	kin := Line{System: "c", Number: 3, Fingerprint: "m"}
	for _, c := range []struct {
		name          string
		engine        string
		mine, primary Standing
		after         bool
		want          Apart
	}{
		{"the same", EngineMariaDB, Standing{Line: kin, State: state("1-11-5")},
			Standing{Line: kin, State: state("1-11-5"), Server: 11}, true, Apart{}},
		{"behind", EngineMariaDB, Standing{Line: Line{System: "c", Number: 2, Fingerprint: "l"}, State: state("1-11-4")},
			Standing{Line: kin, State: state("1-11-5"), Server: 11}, true, Apart{}},
		{"a moment ahead of an older look", EngineMariaDB, Standing{State: state("1-11-9")},
			Standing{State: state("1-11-5"), Server: 11}, false, Apart{}},
		{"ahead of a newer look", EngineMariaDB, Standing{State: state("1-11-9")},
			Standing{State: state("1-11-5"), Server: 11}, true, Apart{How: PartedExtra, Text: "1-11-9"}},
		{"writes of its own", EngineMariaDB, Standing{State: state("1-11-5,1-12-6")},
			Standing{State: state("1-11-5"), Server: 11}, false, Apart{How: PartedExtra, Text: "1-12-6"}},
		{"another domain", EngineMariaDB, Standing{State: state("1-11-5,9-12-1")},
			Standing{State: state("1-11-5"), Server: 11}, false, Apart{How: PartedExtra, Text: "9-12-1"}},
		{"nothing known of the primary", EngineMariaDB, Standing{State: state("1-11-5")}, Standing{}, true, Apart{}},
		{"another cluster", EngineMariaDB, Standing{Line: Line{System: "d"}}, Standing{Line: kin}, true,
			Apart{How: PartedOrigin, At: "d", Fork: "c"}},
		{"same term, other mark", EngineMariaDB, Standing{Line: Line{System: "c", Number: 3, Fingerprint: "n"}},
			Standing{Line: kin}, true, Apart{How: PartedNumber, History: "term 3"}},
		{"past the fork", EnginePostgres, Standing{Line: Line{System: "7", Number: 1}, At: "0/3000000"},
			Standing{Line: Line{System: "7", Number: 2, Began: 0x2000000}, Past: []Branch{{Timeline: 1, End: 0x2000000}}}, true,
			Apart{How: PartedPast, At: "0/3000000", Fork: "0/2000000"}},
		{"before the fork", EnginePostgres, Standing{Line: Line{System: "7", Number: 1}, At: "0/1000000"},
			Standing{Line: Line{System: "7", Number: 2, Began: 0x2000000}, Past: []Branch{{Timeline: 1, End: 0x2000000}}}, true,
			Apart{}},
	} {
		got := Parted(c.engine, c.mine, c.primary, c.after)
		if got != c.want {
			t.Errorf("%s: %+v, want %+v", c.name, got, c.want)
		}
	}
}

func TestGTIDStateGrows(t *testing.T) {
	s, err := ParseGTIDState("1-11-5,2-11-9")
	if err != nil {
		t.Fatal(err)
	}
	grown := s.With(GTID{1, 12, 6}).With(GTID{1, 11, 7})
	if grown.String() != "1-11-7,1-12-6,2-11-9" || s.String() != "1-11-5,2-11-9" {
		t.Errorf("%s from %s", grown, s)
	}
	p, _ := ParseGTIDPosition("1-11-5")
	q, _ := ParseGTIDPosition("1-12-7,3-1-1")
	if got := joinGTIDs(p.Missing(q)); got != "1-12-7,3-1-1" {
		t.Error(got)
	}
	if got := q.Missing(p); len(got) != 0 {
		t.Error(got)
	}
}

// Where a server left the primary's history, as far as observations show it.
func TestForkBetween(t *testing.T) {
	pg := func(at string, number uint32, past ...Branch) Standing {
		return Standing{Line: Line{System: "7", Number: number}, Past: past, At: at}
	}
	my := func(state string) Standing {
		s, err := ParseGTIDState(state)
		if err != nil {
			t.Fatal(err)
		}
		return Standing{State: s}
	}
	left := Branch{Timeline: 1, End: 0x3000000}
	for name, c := range map[string]struct {
		engine        string
		mine, primary Standing
		found         bool
		want          Fork
	}{
		"past the fork": {EnginePostgres, pg("0/3000400", 1), pg("0/3001000", 2, left), true,
			Fork{At: "0/3000000", TailBytes: 0x400, TailCount: -1, SinceBytes: 0x1000}},
		"short of the fork": {EnginePostgres, pg("0/2FFFF00", 1), pg("0/3001000", 2, left), false, Fork{}},
		"end not known": {EnginePostgres, pg("", 1), pg("0/3001000", 2, left), true,
			Fork{At: "0/3000000", TailBytes: -1, TailCount: -1, SinceBytes: 0x1000}},
		"one history":   {EnginePostgres, pg("0/3000400", 2, left), pg("0/3001000", 2, left), false, Fork{}},
		"nothing known": {EnginePostgres, pg("0/3000400", 0), pg("0/3001000", 2, left), false, Fork{}},
		"transactions": {EngineMariaDB, my("1-11-105"), my("1-11-100,1-12-103"), true,
			Fork{At: "1-11-100", TailBytes: -1, TailCount: 5, SinceBytes: -1}},
		"all there": {EngineMariaDB, my("1-11-100"), my("1-11-100,1-12-103"), false, Fork{}},
		"writes of its own only": {EngineMariaDB, my("1-11-100,1-13-101"), my("1-11-100,1-12-103"), true,
			Fork{TailBytes: -1, TailCount: -1, SinceBytes: -1}},
	} {
		got, found := ForkBetween(c.engine, c.mine, c.primary)
		if found != c.found || found && got != c.want {
			t.Errorf("%s: %t %+v, want %t %+v", name, found, got, c.found, c.want)
		}
	}
}

// What a server holds beyond the end of another's log counts only where it goes on from there.
func TestBeyond(t *testing.T) {
	pg := func(line uint32, at string) Standing { return Standing{Line: Line{Number: line}, At: at} }
	my := func(at, state string) Standing {
		g, err := ParseGTIDState(state)
		if err != nil {
			t.Fatal(err)
		}
		return Standing{At: at, State: g}
	}
	for name, c := range map[string]struct {
		engine string
		mine   Standing
		end    string
		amount int64
	}{
		"the same history, less":                 {EnginePostgres, pg(2, "0/40"), "0/50", 0},
		"the same history, more":                 {EnginePostgres, pg(2, "0/60"), "0/50", 16},
		"an earlier primary's tail":              {EnginePostgres, pg(1, "0/60"), "0/50", 0},
		"a later history":                        {EnginePostgres, pg(3, "0/60"), "0/50", 16},
		"less":                                   {EngineMariaDB, my("1-12-440", "1-11-400,1-12-440"), "1-12-450", 0},
		"more, and applied":                      {EngineMariaDB, my("1-12-455", "1-11-400,1-12-455"), "1-12-450", 5},
		"more, received only":                    {EngineMariaDB, my("1-12-455", "1-11-400"), "1-12-450", 5},
		"a history that is not known":            {EnginePostgres, pg(0, "0/60"), "0/50", 16},
		"what its log holds is not known":        {EngineMariaDB, my("1-11-500", ""), "1-12-450", 50},
		"a tail of its own":                      {EngineMariaDB, my("1-11-500", "1-11-500"), "1-12-450", 0},
		"what was written after":                 {EngineMariaDB, my("1-13-455", "1-12-450,1-13-455"), "1-12-450", 5},
		"the end is from before the role change": {EngineMariaDB, my("1-12-455", "1-11-400,1-12-455"), "1-11-398", 57},
		"a domain more":                          {EngineMariaDB, my("1-12-450,2-11-3", "1-12-450,2-11-3"), "1-12-450", 3},
		"one domain parted, one went on": {EngineMariaDB, my("1-11-500,2-12-7", "1-11-500,2-12-7"),
			"1-12-450,2-12-5", 2},
	} {
		d, known := Beyond(c.engine, c.mine, Line{Number: 2}, c.end)
		if d.Amount != c.amount || !known && c.amount != 0 {
			t.Errorf("%s: %+v %t, want %d", name, d, known, c.amount)
		}
	}
}
