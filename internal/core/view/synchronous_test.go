package view

import (
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/words"
)

var both = synchronous.List{Need: 1, Names: []string{"heron", "tern"}}

// waiting is bookings with the mode one, in force and promised; both replicas have a rank.
func waiting(change func(in *Input, x *observation.Synchronous)) Input {
	return bookings(func(in *Input) {
		in.Policy.Synchronous.Mode = synchronous.One
		in.Promised = []synchronous.List{both}
		in.Members[2].Rank = 3
		x := &observation.Synchronous{Set: both, Value: "ANY 1 (heron, tern)", Live: true, ProvenAt: "0/1F00000"}
		in.Members[0].Last.Synchronous = x
		if change != nil {
			change(in, x)
		}
	})
}

// What commits wait for is told, with what is to be done about it, and nothing is called safe
// that is not.
func TestSynchronous(t *testing.T) {
	gull := func(in *Input) *observation.Server { return in.Members[0].Last }
	stale := func(in *Input) {
		for _, i := range []int{1, 2} {
			in.Members[i].Last.Log.Received, in.Members[i].Last.Log.Applied = "0/1E00000", "0/1E00000"
		}
	}
	for name, c := range map[string]struct {
		change func(in *Input, x *observation.Synchronous)
		safe   bool
		next   synchronous.Act
		says   cause.Code
		rule   cluster.Rule
	}{
		"holds": {nil, true, synchronous.Nothing, cause.SyncHolds, ""},
		"set by hand": {func(_ *Input, x *observation.Synchronous) { x.ByHand, x.Live, x.Value = true, false, "" }, false,
			synchronous.Promise, cause.SyncByHand, cluster.RuleSynchronous},
		"not proven after a restart": {func(_ *Input, x *observation.Synchronous) { x.Live = false }, false,
			synchronous.Apply,
			cause.SyncNotYet, ""},
		"just switched on": {func(in *Input, x *observation.Synchronous) { in.Promised = nil }, false, synchronous.Promise,
			cause.SyncNotYet, ""},
		"just switched on, not held": {func(in *Input, x *observation.Synchronous) { in.Promised = nil; stale(in) }, false,
			synchronous.Wait, cause.SyncNotYet, ""},
		"commits went on alone": {func(in *Input, x *observation.Synchronous) {
			in.Promised, x.Set, x.Value, x.Live = nil, synchronous.List{}, "", false
			in.Policy.Synchronous.AwaySeconds = 5
			in.Members[1].Last.Links.Upstream.Connected, in.Members[2].Last.Links.Upstream.Connected = false, false
		}, false, synchronous.Wait, cause.SyncWentOn, cluster.RuleSynchronous},
		"and the replicas are back": {func(in *Input, x *observation.Synchronous) {
			in.Promised, x.Set, x.Value, x.Live = nil, synchronous.List{}, "", false
			in.Policy.Synchronous.AwaySeconds = 5
		}, false, synchronous.Apply, cause.SyncWentOn, cluster.RuleSynchronous},
		"a false acknowledgement": {func(in *Input, x *observation.Synchronous) {
			x.Alone, x.AloneAt, x.LastAlone = 3, "0/2000000", now
			stale(in)
		}, false, synchronous.Promise, cause.SyncNotYet, cluster.RuleAlone},
		"one that replicas hold by now": {func(in *Input, x *observation.Synchronous) {
			x.Alone, x.AloneAt, x.LastAlone = 3, "0/1F80000", now
		}, true, synchronous.Nothing, cause.SyncHolds, ""},
		"one of the day before yesterday": {func(in *Input, x *observation.Synchronous) {
			x.Alone, x.AloneAt, x.LastAlone = 3, "0/1F80000", now.Add(-48*time.Hour)
		}, true, synchronous.Nothing, cause.SyncHolds, ""},
		"two under one name": {func(in *Input, x *observation.Synchronous) {
			d := observation.Downstream{Name: "tern", State: "streaming", Synchronous: true}
			gull(in).Links.Downstreams = []observation.Downstream{d, d}
		}, false, synchronous.Promise, cause.SyncNotYet, cluster.RuleSynchronous},
		"a list that was found": {func(in *Input, x *observation.Synchronous) {
			in.Policy.Synchronous.Mode, in.Promised = synchronous.None, nil
			*x = observation.Synchronous{Value: "ferry_1", ByHand: true}
		}, false, synchronous.Wait, cause.SyncFound, ""},
		"functions that do not wait": {func(in *Input, _ *observation.Synchronous) {
			gull(in).Config.Facts = map[string]int64{observation.UnwaitedDefaults: 2}
		}, true, synchronous.Nothing, cause.SyncHolds, cluster.RuleSynchronous},
		"the mode ends": {func(in *Input, _ *observation.Synchronous) {
			in.Policy.Synchronous.Mode, in.Promised = synchronous.None, nil
		}, false, synchronous.Apply, cause.SyncEnds, ""},
	} {
		in := waiting(c.change)
		v := Assess(in)
		s := v.Synchronous
		if s == nil || len(s.Causes) == 0 {
			t.Errorf("%s: %+v", name, s)
			continue
		}
		act, _ := synchronous.Next(s.State())
		rule := cluster.Rule("")
		for _, p := range v.Problems {
			if p.Rule == cluster.RuleSynchronous || p.Rule == cluster.RuleAlone {
				rule = p.Rule
			}
		}
		if s.Safe != c.safe || act != c.next || s.Causes[0].Code != c.says || rule != c.rule {
			t.Errorf("%s: safe %t, next %s, %q, problem %q", name, s.Safe, act, s.Text, rule)
		}
		if s.Safe && v.AtRisk != (AtRisk{Known: true}) {
			t.Errorf("%s: at risk %+v", name, v.AtRisk)
		}
	}
	if v := Assess(bookings(nil)); v.Synchronous != nil {
		t.Errorf("without a mode: %+v", v.Synchronous)
	}
}

// Commits that wait for replicas are told within two looks, with whom they wait for: a primary
// whose commits wait for something else is another matter.
func TestCommitsWaitForReplicas(t *testing.T) {
	for name, c := range map[string]struct {
		change func(in *Input)
		health Health
		waits  []string
	}{
		"nobody waits": {func(*Input) {}, TakesWrites, []string{}},
		"both lack the newest": {func(in *Input) {
			in.Members[0].Last.Process.CommitWaits = 1
			in.Members[1].Last.Log.Received, in.Members[2].Last.Log.Received = "0/1F80000", "0/1F80000"
		}, TakesNoWrite, both.Names},
		"one has it": {func(in *Input) {
			in.Members[0].Last.Process.CommitWaits = 2
			in.Members[1].Last.Log.Received = "0/1F80000"
		}, TakesWrites, []string{}},
		"the other has it, as the primary heard": {func(in *Input) {
			in.Members[0].Last.Process.CommitWaits = 2
			in.Members[1].Last.Log.Received, in.Members[2].Last.Log.Received = "0/1F80000", "0/1F80000"
			in.Members[0].Last.Links.Downstreams = []observation.Downstream{{Name: "heron", State: "streaming",
				Safe: "0/2000000"}}
		}, TakesWrites, []string{}},
		"both have it and were not proven": {func(in *Input) {
			in.Members[0].Last.Process.CommitWaits = 1
			in.Members[1].Last.Log.ProvenTerm, in.Members[2].Last.Log.ProvenTerm = 0, 0
		}, TakesNoWrite, both.Names},
	} {
		v := Assess(waiting(func(in *Input, _ *observation.Synchronous) { c.change(in) }))
		if got := v.Find("gull").Health; got != c.health || !slices.Equal(v.Synchronous.WaitsFor, c.waits) {
			t.Errorf("%s: %s, waits for %v", name, got, v.Synchronous.WaitsFor)
		}
	}
	// With a limit they go on alone: what was promised ends first.
	in := waiting(func(in *Input, _ *observation.Synchronous) {
		in.Policy.Synchronous.AwaySeconds = 5
		in.Members[0].Last.Process.CommitWaits = 5.5
		in.Members[1].Last.Log.Received, in.Members[2].Last.Log.Received = "0/1F80000", "0/1F80000"
	})
	act, lists := synchronous.Next(Assess(in).Synchronous.State())
	if act != synchronous.Promise || len(lists) != 0 {
		t.Errorf("%s %v", act, lists)
	}
	in.Promised = nil
	v := Assess(in)
	st := v.Synchronous.State()
	if act, _ := synchronous.Next(st); act != synchronous.Apply || !st.Want.IsZero() {
		t.Errorf("%s, want %s", act, st.Want)
	}
}

// A replica that commits wait for does not wait for its primary: what puts it right is said.
func TestWhoIsWaitedForIsBroughtBack(t *testing.T) {
	v := Assess(waiting(func(in *Input, _ *observation.Synchronous) {
		in.Members[0].Last.Process.CommitWaits = 5
		for _, i := range []int{1, 2} {
			o := in.Members[i].Last
			o.Log.Received, o.Process.Accepting, o.Process.Problem = "0/1F80000", false, "it has not answered within 3 s"
		}
	}))
	said := 0
	for _, p := range v.Problems {
		if p.Server == "tern" || p.Server == "heron" {
			said++
			if p.Remedy.Code != cause.RejoinIt {
				t.Errorf("%s is %s, and what is said is %q", p.Server, v.Find(p.Server).Health, p.Mend)
			}
		}
	}
	if said != 2 || v.Find("gull").Cause.Code != cause.SyncWaits {
		t.Errorf("%d problems of replicas; gull: %s", said, v.Find("gull").Why)
	}
}

// Whom a list names depends on the engine: one names its replicas, the other waits for whoever
// acknowledges.
func TestListFor(t *testing.T) {
	in := bookings(nil)
	for engine, want := range map[string]string{position.EnginePostgres: "1 of tern",
		position.EngineMariaDB: "1 of heron, tern"} {
		l, err := ListFor(engine, in.Members, synchronous.One, "gull")
		if err != nil || l.String() != want {
			t.Errorf("%s: %s, %v", engine, l, err)
		}
	}
	in.Members[1].Last.Links.Upstream = &observation.Upstream{Host: "gull", Port: 5432, As: "ferry_2"}
	c := Synchronize(position.EnginePostgres, in.Members, synchronous.List{Need: 1, Names: []string{"tern"}})
	if !slices.Equal(c.Standbys, []string{"ferry_2"}) {
		t.Errorf("%+v", c)
	}
}

// While nobody answers, a write that was acknowledged is all the same on a second disk: not every
// write is at risk, and whether none is, is not known.
func TestRiskWhileNobodyAnswers(t *testing.T) {
	silent := func(in *Input, _ *observation.Synchronous) {
		for i := range in.Members[1:] {
			in.Members[1+i].SeenAt = now.Add(-time.Hour)
		}
	}
	in := waiting(silent)
	if v := Assess(in); !v.Synchronous.Safe || v.CanLose != 0 || v.AtRisk != (AtRisk{}) {
		t.Errorf("safe %t, can lose %d, at risk %+v: %s", v.Synchronous.Safe, v.CanLose, v.AtRisk, v.Sentence)
	}
	in.Policy.Synchronous.Mode, in.Promised, in.Members[0].Last.Synchronous = synchronous.None, nil, nil
	if v := Assess(in); v.AtRisk != (AtRisk{Known: true, Everything: true}) {
		t.Errorf("without a mode: at risk %+v", v.AtRisk)
	}
}

// A list that somebody set by hand is kept by the mode that comes nearest to it.
func TestFound(t *testing.T) {
	in := waiting(func(*Input, *observation.Synchronous) {})
	more := func(n int) []Member {
		out := append([]Member{}, in.Members...)
		for i := range n {
			m := out[1]
			m.Name = "dunlin" + string(rune('a'+i))
			out = append(out, m)
		}
		return out
	}
	for _, c := range []struct {
		engine  string
		members []Member
		need    int
		says    string
	}{
		{"postgresql", in.Members, 1, "--synchronous one"},
		{"postgresql", in.Members, 2, "--synchronous one (each commit then waits for 1 instead of 2)"},
		{"postgresql", more(2), 1, "--synchronous one"},
		{"postgresql", more(2), 2, "--synchronous most"},
		{"postgresql", more(2), 4, "--synchronous most (each commit then waits for 2 instead of 4)"},
		{"mariadb", in.Members, 0, "--synchronous one"},
	} {
		primary := c.members[0]
		o := *primary.Last
		o.Synchronous = &observation.Synchronous{Value: "ferry_1", Need: c.need, ByHand: true}
		primary.Last = &o
		got := words.Say(Found("bookings", c.engine, c.members, &primary))
		const says = "(ferry_1). To have that kept over changes of the primary: crosstwin cluster set bookings "
		if !strings.HasSuffix(got, says+c.says) {
			t.Errorf("%d servers of %s, %d: %s", len(c.members), c.engine, c.need, got)
		}
	}
}
