package agent

import (
	"errors"
	"log/slog"
	"testing"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

func replica(change func(o *observation.Server)) *observation.Server {
	o := &observation.Server{Process: observation.Process{Running: true, Accepting: true, Role: observation.Replica,
		Identity: "7 100 boot"},
		Log:  observation.Log{ServerID: 12, GTIDState: "1-11-40,1-12-3", Line: position.Line{System: "77"}},
		Data: observation.Data{System: "77"}}
	if change != nil {
		change(o)
	}
	return o
}

// An agent touches no data that is not its cluster's.
func TestForeign(t *testing.T) {
	for name, c := range map[string]struct {
		s    state
		o    func(o *observation.Server)
		want bool
	}{
		"the cluster's":                {state{System: "77"}, nil, false},
		"another cluster's":            {state{System: "78"}, nil, true},
		"another cluster's, once ours": {state{System: "78", Ours: true}, nil, true},
		"the cluster's is not known":   {state{}, nil, false},
		"no name, never ours":          {state{System: "77"}, func(o *observation.Server) { o.Data.System = "" }, true},
		"neither has a name":           {state{}, func(o *observation.Server) { o.Data.System = "" }, false},
		"neither has a name, open beside the primary": {state{Guard: guard.State{Accepted: 1}},
			func(o *observation.Server) { o.Data.System, o.Process.Role = "", observation.Primary }, true},
		"neither has a name, the primary itself": {state{Guard: guard.State{Accepted: 1, Owner: true}},
			func(o *observation.Server) { o.Data.System, o.Process.Role = "", observation.Primary }, false},
		"neither has a name, the primary of before": {state{Guard: guard.State{Accepted: 2}, Ours: true},
			func(o *observation.Server) { o.Data.System, o.Process.Role = "", observation.Primary }, false},
		"no name, ours before": {state{System: "77", Ours: true},
			func(o *observation.Server) { o.Data.System = "" }, false},
		"empty": {state{System: "77"},
			func(o *observation.Server) { o.Data.System, o.Data.Empty = "", true }, false},
		"our own copy, interrupted": {state{System: "77"},
			func(o *observation.Server) { o.Data.System, o.Data.Unfinished = "", observation.UnfinishedSeed }, false},
		"another cluster's, and it stands": {state{System: "78"},
			func(o *observation.Server) { o.Process = observation.Process{} }, true},
	} {
		if got := foreign(replica(c.o), c.s); got != c.want {
			t.Errorf("%s: %t", name, got)
		}
	}
}

// Only the owner of an undisputed term, restarted since it was open, is opened
// again.
func TestMayReopen(t *testing.T) {
	own := guard.State{Noted: 3, Accepted: 3, Owner: true}
	for name, c := range map[string]struct {
		g      guard.State
		opened string
		term   int64
		o      func(o *observation.Server)
		want   bool
	}{
		"restarted":                   {own, "6 90 boot", 3, nil, true},
		"read-only since it was open": {own, "7 100 boot", 3, nil, false},
		"never open here":             {own, "", 3, nil, false},
		"asked in an older term":      {own, "6 90 boot", 2, nil, false},
		"a newer term was noted":      {guard.State{Noted: 4, Accepted: 3, Owner: true}, "6 90 boot", 3, nil, false},
		"not the owner":               {guard.State{Noted: 3, Accepted: 3}, "6 90 boot", 3, nil, false},
		"fenced":                      {own, "6 90 boot", 3, func(o *observation.Server) { o.Process.Fenced = true }, false},
		"foreign":                     {own, "6 90 boot", 3, func(o *observation.Server) { o.Data.Foreign = true }, false},
		"half a rewind": {own, "6 90 boot", 3,
			func(o *observation.Server) { o.Data.Unfinished = observation.UnfinishedRewind }, false},
		"a job is at work": {own, "6 90 boot", 3,
			func(o *observation.Server) { o.Job = &observation.Job{State: observation.JobRunning} }, false},
		"it was a copy once": {own, "6 90 boot", 3,
			func(o *observation.Server) { o.Job = &observation.Job{State: observation.JobFinished} }, true},
		"it does not answer yet": {own, "6 90 boot", 3, func(o *observation.Server) { o.Process.Accepting = false },
			false},
		"it is open": {own, "6 90 boot", 3,
			func(o *observation.Server) { o.Process.Role = observation.Primary }, false},
		"it follows another server": {own, "6 90 boot", 3,
			func(o *observation.Server) { o.Links.Upstream = &observation.Upstream{Connected: true} }, false},
	} {
		if got := mayReopen(c.g, c.opened, c.term, true, replica(c.o)); got != c.want {
			t.Errorf("%s: %t", name, got)
		}
	}
}

// A proof is lost for good by a restart, an opening or a write of its own; a
// server that does not answer loses nothing by that alone.
func TestProofIsLost(t *testing.T) {
	for name, c := range map[string]struct {
		o     func(o *observation.Server)
		now   int64
		later int64 // once the server is as it was
	}{
		"nothing happened":     {nil, 4, 4},
		"it does not answer":   {func(o *observation.Server) { o.Process.Accepting = false }, 0, 4},
		"another process":      {func(o *observation.Server) { o.Process.Identity = "8 200 boot" }, 0, 0},
		"open for writes":      {func(o *observation.Server) { o.Process.Role = observation.Primary }, 0, 0},
		"a write of its own":   {func(o *observation.Server) { o.Log.GTIDState = "1-11-40,1-12-4" }, 0, 0},
		"a write of the other": {func(o *observation.Server) { o.Log.GTIDState = "1-11-41,1-12-3" }, 4, 4},
	} {
		m, err := openMemory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		a := &Agent{memory: m, log: slog.New(slog.DiscardHandler)}
		p := proofOf(replica(nil), 4)
		if err := m.change(func(s *state) error { s.Proof = p; return nil }); err != nil {
			t.Fatal(err)
		}
		if got := a.stillProven(replica(c.o), m.get().Proof); got != c.now {
			t.Errorf("%s: proven in term %d, want %d", name, got, c.now)
		}
		if got := a.stillProven(replica(nil), m.get().Proof); got != c.later {
			t.Errorf("%s, afterwards: proven in term %d, want %d", name, got, c.later)
		}
	}
}

// A server that was open without right on a history of others has strayed, until
// its data is replaced or a comparison by content shows that it wrote nothing.
func TestStray(t *testing.T) {
	open := func(change func(o *observation.Server)) *observation.Server {
		return replica(func(o *observation.Server) {
			o.Process.Role, o.Process.Writable, o.Log.Line.Number = observation.Primary, true, 2
			if change != nil {
				change(o)
			}
		})
	}
	for name, c := range map[string]struct {
		s    state
		o    *observation.Server
		want bool
	}{
		"opened in place":                         {state{MarkLine: 2}, open(nil), true},
		"opened in place, on an older history":    {state{MarkLine: 3}, open(nil), true},
		"promoted by hand":                        {state{MarkLine: 1}, open(nil), false},
		"never saw a mark":                        {state{}, open(nil), true},
		"an old primary that was alive all along": {state{MarkLine: 2, Opened: "7 100 boot"}, open(nil), false},
		"an old primary, opened anew":             {state{MarkLine: 2, Opened: "6 90 boot"}, open(nil), true},
		"an old primary that hangs":               {state{MarkLine: 2, Opened: "7 100 boot 1795.5"}, open(nil), false},
		"children of which the server is gone": {state{MarkLine: 2, Opened: "7 100 boot"},
			open(func(o *observation.Server) { o.Process.Identity = "" }), false},
	} {
		m, err := openMemory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		a := &Agent{memory: m, log: slog.New(slog.DiscardHandler), engine: &fakeEngine{}}
		if err := m.change(func(s *state) error { *s = c.s; return nil }); err != nil {
			t.Fatal(err)
		}
		if err := a.noteStray(c.o, c.s); err != nil || m.get().Strayed != c.want {
			t.Errorf("%s: %t %v", name, m.get().Strayed, err)
		}
		if !c.want {
			continue
		}
		if _, err := a.awaitMark(t.Context(), verb.AwaitMark{}, 3); !errors.Is(err, errStrayed) {
			t.Errorf("%s: proven all the same: %v", name, err)
		}
		x := &verb.Examination{Kinship: string(position.Kin)}
		if err := a.examined(x); err != nil || !x.Strayed || !m.get().Strayed {
			t.Errorf("%s: cleared by positions: %v", name, err)
		}
		x = &verb.Examination{Kinship: string(position.Kin), ByContent: true, TailBytes: 7}
		if err := a.examined(x); err != nil || x.Strayed || !m.get().Strayed {
			t.Errorf("%s: cleared despite a tail: %v", name, err)
		}
		x.TailBytes = 0
		if err := a.examined(x); err != nil || m.get().Strayed {
			t.Errorf("%s: not cleared by content: %v", name, err)
		}
		if err := errors.Join(a.noteStray(c.o, state{}), m.SetUnfinished("seed")); err != nil || !m.get().Strayed {
			t.Errorf("%s: cleared by a copy that has only begun: %v", name, err)
		}
		if err := m.SetUnfinished(""); err != nil || m.get().Strayed {
			t.Errorf("%s: not cleared by a copy that is done: %v", name, err)
		}
	}
}

// What the cluster's data is, is not learnt anew from other data in the primary's
// place.
func TestSystemIsKept(t *testing.T) {
	m, err := openMemory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	a := &Agent{memory: m, log: slog.New(slog.DiscardHandler)}
	for _, c := range []struct {
		told, here, want string
		foreign          bool
	}{{"77", "77", "77", false}, {"78", "77", "77", false}, {"78", "79", "77", true}, {"78", "78", "78", false}} {
		if err := a.noteSystem(c.told); err != nil {
			t.Fatal(err)
		}
		o := replica(func(o *observation.Server) { o.Data.System = c.here })
		if a.judgeForeign(o); m.get().System != c.want || o.Data.Foreign != c.foreign {
			t.Errorf("told %s, with %s: keeps %s, foreign %t", c.told, c.here, m.get().System, o.Data.Foreign)
		}
	}
}

// A server that ran open before any term was known here is a stranger, whatever its data: a
// clone that somebody promoted, a replica that was never closed. One that its agent knew
// before, or whose data is closed by default, is the cluster's own.
func TestOpenBeforeAnyTerm(t *testing.T) {
	accepted, owner := guard.State{Noted: 3, Accepted: 3}, guard.State{Noted: 3, Accepted: 3, Owner: true}
	stopped := func(o *observation.Server) { o.Process = observation.Process{} }
	empty := func(o *observation.Server) { o.Data.Empty = true }
	for name, c := range map[string]struct {
		s       state
		change  func(o *observation.Server)
		foreign bool
	}{
		"a promoted clone":                     {state{System: "77", Guard: accepted}, nil, true},
		"before the cluster's data is known":   {state{Guard: accepted}, nil, true},
		"before any decision":                  {state{System: "77"}, nil, false},
		"known before":                         {state{System: "77", Guard: accepted, Ours: true}, nil, false},
		"the owner":                            {state{System: "77", Guard: owner}, nil, false},
		"an old primary whose agent forgot":    {state{System: "77", Guard: accepted}, closedByDefault, false},
		"a clone that is closed":               {state{System: "77", Guard: accepted}, asReplica, false},
		"of another origin, closed by default": {state{System: "78", Guard: accepted}, closedByDefault, true},
		"stopped, open by default":             {state{System: "77", Guard: accepted}, stopped, true},
		"stopped, and known before":            {state{System: "77", Guard: accepted, Ours: true}, stopped, false},
		"stopped, closed by default": {state{System: "77", Guard: accepted}, func(o *observation.Server) {
			stopped(o)
			closedByDefault(o)
		}, false},
		"nothing stands there": {state{System: "77", Guard: accepted}, empty, false},
		"an open replica, which has our name now": {state{System: "77", Guard: accepted}, func(o *observation.Server) {
			o.Links.Upstream, o.Data.ClosedByDefault = &observation.Upstream{Host: "gull", Connected: true}, true
		}, true},
	} {
		m, err := openMemory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		if err := m.change(func(s *state) error { *s = c.s; return nil }); err != nil {
			t.Fatal(err)
		}
		o := replica(func(o *observation.Server) {
			o.Data.System, o.Process.Role, o.Process.Writable = "77", observation.Primary, true
		})
		if c.change != nil {
			c.change(o)
		}
		a := &Agent{memory: m, log: slog.New(slog.DiscardHandler)}
		for range 2 { // what is judged once is judged so again
			if a.judgeForeign(o); o.Data.Foreign != c.foreign {
				t.Errorf("%s: foreign %t, want %t", name, o.Data.Foreign, c.foreign)
			}
		}
	}
}

// A stranger stays one while it is down, and whatever starts it: it is the cluster's once it
// follows, or when its data is replaced.
func TestStrangerStaysOne(t *testing.T) {
	open := func(o *observation.Server) {
		o.Data.System, o.Process.Role, o.Process.Writable = "77", observation.Primary, true
	}
	stopped := func(o *observation.Server) { o.Data.System, o.Process = "77", observation.Process{} }
	for name, end := range map[string]struct {
		change  func(o *observation.Server)
		foreign bool
	}{
		"open again":      {open, true},
		"still stopped":   {stopped, true},
		"starting":        {func(o *observation.Server) { asReplica(o); o.Process.Accepting = false }, true},
		"follows":         {asReplica, false},
		"closed, stopped": {func(o *observation.Server) { stopped(o); closedByDefault(o) }, false},
		"replaced":        {func(o *observation.Server) { stopped(o); o.Data.Empty = true }, false},
		"being copied to": {func(o *observation.Server) { stopped(o); o.Data.Unfinished = "seed" }, false},
	} {
		m, err := openMemory(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		a := &Agent{memory: m, log: slog.New(slog.DiscardHandler)}
		if err := m.change(func(s *state) error {
			s.System, s.Guard = "77", guard.State{Noted: 3, Accepted: 3}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		for _, c := range []struct {
			change  func(o *observation.Server)
			foreign bool
		}{{open, true}, {stopped, true}, {open, true}, {stopped, true}, {end.change, end.foreign}} {
			o := replica(c.change)
			if a.judgeForeign(o); o.Data.Foreign != c.foreign {
				t.Errorf("%s: foreign %t, want %t", name, o.Data.Foreign, c.foreign)
			}
		}
		// Then it is like any other: stopped, it is the cluster's, or still a stranger's.
		o := replica(stopped)
		if a.judgeForeign(o); o.Data.Foreign != end.foreign {
			t.Errorf("%s, stopped afterwards: foreign %t", name, o.Data.Foreign)
		}
	}
}

func closedByDefault(o *observation.Server) { o.Data.ClosedByDefault = true }

func asReplica(o *observation.Server) {
	o.Process.Role, o.Process.Writable = observation.Replica, false
}
