package session

import "testing"

// What clients send and servers answer: lower-case words would be clearer, but these are the
// protocol's own letters. ">" is the client, "<" the server; Z is followed by the status.
func play(u *Units, course string) {
	for i := 0; i < len(course); i += 2 {
		switch who, what := course[i], course[i+1]; {
		case who == '>':
			u.Forward(what)
		case what == 'G':
			u.CopyIn()
		default:
			u.Ready(what)
		}
	}
}

func TestUnits(t *testing.T) {
	for name, c := range map[string]struct {
		course            string
		boundary, between bool
		pending           int
	}{
		"just logged in":                  {"", true, true, 0},
		"a query under way":               {">Q", false, true, 1},
		"a query answered":                {">Q<I", true, true, 0},
		"in a transaction":                {">Q<T", false, true, 0},
		"in a failed transaction":         {">Q<E", false, true, 0},
		"prepared, not ended":             {">P>B>E", false, false, 0},
		"flushed without Sync":            {">P>B>E>H", false, false, 0},
		"prepared and ended":              {">P>B>E>S", false, true, 1},
		"prepared and answered":           {">P>B>E>S<I", true, true, 0},
		"a pipeline, half answered":       {">P>B>E>S>B>E>S<I", false, true, 1},
		"a pipeline, answered":            {">P>B>E>S>B>E>S<I<I", true, true, 0},
		"copy in a query":                 {">Q<G>d>d", false, true, 1},
		"copy in a query, ended":          {">Q<G>d>c", false, false, 1},
		"copy in a query, answered":       {">Q<G>d>c<I", true, true, 0},
		"extended copy swallows the Sync": {">P>B>E>S<G", false, false, 0},
		"extended copy, data":             {">P>B>E>S<G>d>d", false, false, 0},
		"extended copy, ended":            {">P>B>E>S<G>d>c>S", false, true, 1},
		"extended copy, answered":         {">P>B>E>S<G>d>c>S<I", true, true, 0},
		"extended copy sent all at once":  {">P>B>E>d>c>S<G", false, true, 1},
		"... and answered":                {">P>B>E>d>c>S<G<I", true, true, 0},
		"a unit before the copy":          {">P>B>E>S>B>E>S<I<G>d>c>S<I", true, true, 0},
		"a stray end of a copy":           {">Q<G>d<I>c", true, true, 0},
		"a function called":               {">F<I", true, true, 0},
	} {
		var u Units
		play(&u, c.course)
		if u.AtBoundary() != c.boundary || u.Between() != c.between || u.Pending() != c.pending {
			t.Errorf("%s: boundary %t, between %t, pending %d", name, u.AtBoundary(), u.Between(), u.Pending())
		}
	}
}

func TestLose(t *testing.T) {
	var u Units
	play(&u, ">Q<T>P>B>E>S>B>E>S>B")
	if answers, unfinished := u.Lose(Failed); answers != 2 || !unfinished || u.Status() != Failed || !u.Quiet() {
		t.Errorf("%d %t %c", answers, unfinished, u.Status())
	}
}

// Whatever comes in whatever order: a boundary is claimed only with everything answered.
func FuzzUnits(f *testing.F) {
	f.Add(">P>B>E>S<G>d>c>S<I")
	f.Fuzz(func(t *testing.T, course string) {
		var u Units
		if len(course)%2 == 1 {
			course = course[1:]
		}
		play(&u, course)
		if u.AtBoundary() && (u.Pending() > 0 || u.Status() != Idle) {
			t.Errorf("%q", course)
		}
		u.Lose(Idle)
		if !u.AtBoundary() {
			t.Errorf("%q: no boundary after all is lost", course)
		}
	})
}
