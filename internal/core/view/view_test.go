package view

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

var now = time.Date(2027, 1, 1, 6, 0, 0, 0, time.UTC)

const port = 5432

func server(host string, role observation.Role, at string) *observation.Server {
	o := &observation.Server{Process: observation.Process{Running: true, Accepting: true, Role: role,
		Writable: role == observation.Primary}, Data: observation.Data{System: "77", ClosedByDefault: true},
		Log: observation.Log{Line: position.Line{System: "77", Number: 2, Began: 0x1000000, Fingerprint: "first"},
			Past: []position.Branch{{Timeline: 1, End: 0x1000000}}},
		Host: observation.Host{Address: observation.Address{Host: host, Port: port}}}
	if role == observation.Primary {
		o.Log.Written, o.Guard = at, guard.State{Noted: 2, Accepted: 2, Owner: true}
	} else {
		o.Log.Applied, o.Log.Received, o.Log.ProvenTerm = at, at, 2
		o.Links.Upstream = &observation.Upstream{Host: "gull", Port: port, Connected: true}
	}
	return o
}

func member(name string, rank int) cluster.Member {
	return cluster.Member{Name: name, Placement: cluster.Placement{Rank: rank}, Enrolled: true}
}

// bookings is a healthy cluster; change makes a case of it.
func bookings(change func(in *Input)) Input {
	in := Input{Cluster: "bookings", Engine: position.EnginePostgres, Term: 2, OwnerTerm: 2, Owner: "gull",
		Policy: cluster.DefaultPolicy(), Now: now, Clock: lag.NewClock(10)}
	for i, n := range []string{"gull", "tern", "heron"} {
		role := observation.Replica
		if i == 0 {
			role = observation.Primary
		}
		in.Members = append(in.Members, Member{Member: member(n, (i+1)%3), SeenAt: now, Last: server(n, role, "0/2000000")})
	}
	in.Clock.Add(lag.Sample{At: now.Add(-20 * time.Second), Position: 0x1800000})
	in.Clock.Add(lag.Sample{At: now, Position: 0x2000000})
	if change != nil {
		change(&in)
	}
	return in
}

func TestAssess(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(in *Input)
		health map[string]Health // of servers; "" is the cluster
		lose   int
		says   []string
	}{
		{"healthy", nil, map[string]Health{"gull": TakesWrites, "tern": InStep, "heron": InStep, "": InStep}, 1,
			[]string{"bookings takes writes on gull.", "tern and heron are in step.", "It can lose 1 more server.",
				"Nothing at risk."}},
		{"idle for an hour", func(in *Input) {
			in.Now = now.Add(time.Hour)
			for i := range in.Members {
				in.Members[i].SeenAt = in.Now
			}
		}, map[string]Health{"tern": InStep}, 1, []string{"Nothing at risk."}},
		{"one behind", func(in *Input) { in.Members[2].Last.Log.Applied = "0/1C00000" },
			map[string]Health{"heron": Behind, "": Behind}, 1,
			[]string{"bookings takes writes on gull; heron is 10.0 s behind.", "tern is in step."}},
		{"the only candidate behind", func(in *Input) {
			in.Members[1].Last.Log.Applied, in.Members[1].Last.Log.Received = "0/1C00000", "0/1E00000"
		}, map[string]Health{"tern": Behind}, 1,
			[]string{"At risk: 2.0 MB, the writes of the last 5.0 s."}},
		{"primary crashed", func(in *Input) {
			o := in.Members[0].Last
			o.Process.Running, o.Process.Accepting, o.Process.Role, o.Process.Writable, o.Data.State = false, false, "", false,
				"in production"
			in.Members[1].Last.Links.Upstream.Connected, in.Members[2].Last.Links.Upstream.Connected = false, false
		}, map[string]Health{"gull": Stopped, "tern": Stalled, "": TakesNoWrite}, 0,
			[]string{"bookings takes no writes. Primary gull is stopped: its database crashed (its data says: in production)"}},
		{"primary does not let its agent in", func(in *Input) {
			p := &in.Members[0].Last.Process
			p.Accepting, p.NotLetIn, p.Problem = false, true, "it does not answer: role \"root\" does not exist"
		}, map[string]Health{"gull": Unseen, "": Unseen}, 0,
			[]string{"Whether bookings takes writes is not known. Primary gull is unseen: its agent may not log in"}},
		{"a replica takes no connections", func(in *Input) {
			p := &in.Members[1].Last.Process
			p.Accepting, p.NoReads, p.Role, p.Problem = false, true, "", "it does not answer: not accepting connections"
		}, map[string]Health{"tern": Stalled}, 0, []string{"tern is stalled"}},
		{"commits hang", func(in *Input) { in.Members[0].Last.Process.CommitWaits = 12 },
			map[string]Health{"gull": TakesNoWrite, "": TakesNoWrite}, 0,
			[]string{"bookings takes no writes. Primary gull: a commit has been waiting for 12.0 s"}},
		{"its disk hangs", func(in *Input) { in.Members[0].Last.Process.DiskWaits = 7 },
			map[string]Health{"gull": TakesNoWrite, "": TakesNoWrite}, 0,
			[]string{"bookings takes no writes. Primary gull: a commit has been waiting for its disk for 7.0 s"}},
		{"its disk is held up for a moment", func(in *Input) { in.Members[0].Last.Process.DiskWaits = 4 },
			map[string]Health{"gull": TakesWrites}, 1, nil},
		{"killed, and waits for its disk", func(in *Input) {
			in.Members[2].Last.Process = observation.Process{Running: true, Doomed: true}
			in.Members[2].Last.Data.Strayed = true
		}, map[string]Health{"heron": Stopped}, 1, []string{"heron is stopped"}},
		{"a failover took its role", func(in *Input) {
			in.Members[2].Deposed = true
			in.Members[2].Last.Links.Upstream = nil
		}, map[string]Health{"heron": Stalled}, 1, []string{"heron is stalled"}},
		{"primary hangs", func(in *Input) { in.Members[0].Last.Process.Accepting = false },
			map[string]Health{"gull": TakesNoWrite}, 0, []string{"takes no writes"}},
		{"primary read-only by a setting", func(in *Input) { in.Members[0].Last.Process.Writable = false },
			map[string]Health{"gull": TakesNoWrite}, 0,
			[]string{"its sessions are read-only, by default_transaction_read_only"}},
		{"agent silent", func(in *Input) { in.Members[1].SeenAt = now.Add(-8 * time.Second) },
			map[string]Health{"tern": Unseen, "": Unseen}, 0,
			[]string{"tern is unseen", "It cannot lose another server.", "every write"}},
		{"the primary's agent answers no question, and a failover may begin by itself", func(in *Input) {
			in.Members[0].Unanswered, in.Policy.Automatic.On = unansweredLimit, true
		}, map[string]Health{"gull": Unseen, "": Unseen}, 0, []string{"gull is unseen"}},
		{"the primary's agent answers no question, and a person decides", func(in *Input) {
			in.Members[0].Unanswered = 2 * unansweredLimit
		}, map[string]Health{"gull": TakesWrites}, 1, nil},
		{"never enrolled", func(in *Input) { in.Members[2].Enrolled, in.Members[2].Last = false, nil },
			map[string]Health{"heron": Unseen}, 1, []string{"heron is unseen"}},
		{"two report themselves as primary",
			func(in *Input) { in.Members[1].Last = server("tern", observation.Primary, "0/2000000") },
			map[string]Health{"tern": Adrift, "": Adrift}, 0, []string{"bookings takes writes on gull; tern is adrift"}},
		{"another cluster's copy", func(in *Input) { in.Members[1].Last.Data.System = "78" },
			map[string]Health{"tern": Adrift}, 0, nil},
		{"same number, other beginning", func(in *Input) { in.Members[1].Last.Log.Line.Fingerprint = "other" },
			map[string]Health{"tern": Adrift}, 0, nil},
		{"past the fork", func(in *Input) {
			o := in.Members[1].Last
			o.Log.Line, o.Log.Past, o.Log.Received, o.Log.Applied = position.Line{System: "77", Number: 1}, nil, "0/1000100",
				"0/1000100"
		}, map[string]Health{"tern": Adrift}, 0, nil},
		{"before the fork", func(in *Input) {
			o := in.Members[1].Last
			o.Log.Line, o.Log.Past, o.Log.Received, o.Log.Applied = position.Line{System: "77", Number: 1}, nil, "0/1000000",
				"0/1000000"
		}, map[string]Health{"tern": Behind}, 1, []string{"at least 20.0 s behind"}},
		{"link down", func(in *Input) { in.Members[1].Last.Links.Upstream.Connected = false },
			map[string]Health{"tern": Stalled}, 1, nil},
		{"follows nobody", func(in *Input) { in.Members[1].Last.Links.Upstream = nil }, map[string]Health{"tern": Stalled},
			1, nil},
		{"follows a stranger", func(in *Input) { in.Members[1].Last.Links.Upstream.Host = "elsewhere" },
			map[string]Health{"tern": Stalled}, 1, nil},
		{"replay paused with work left", func(in *Input) {
			in.Members[1].Last.Replay.Paused, in.Members[1].Last.Log.Applied = true, "0/1FFFF00"
			in.Members[1].Before.Applied = true
		}, map[string]Health{"tern": Stalled}, 1, nil},
		{"stuck", func(in *Input) {
			in.Members[1].Last.Log.Applied, in.Members[1].AppliedSince = "0/1800000", now.Add(-time.Minute)
		}, map[string]Health{"tern": Stalled}, 1, nil},
		{"seeding", func(in *Input) {
			in.Members[1].Last = &observation.Server{Data: observation.Data{Empty: true, Unfinished: "seed"},
				Job: &observation.Job{Kind: "seed", State: observation.JobRunning}}
		}, map[string]Health{"tern": Seeding}, 0, nil},
		{"an interrupted copy",
			func(in *Input) { in.Members[1].Last = &observation.Server{Data: observation.Data{Unfinished: "seed"}} },
			map[string]Health{"tern": Stopped}, 0, nil},
		{"fenced", func(in *Input) {
			in.Members[1].Last = &observation.Server{Process: observation.Process{Fenced: true},
				Data: observation.Data{State: "shut down"}}
		}, map[string]Health{"tern": Fenced}, 0, []string{"tern is fenced"}},
		{"no primary yet", func(in *Input) { in.Owner = "" }, map[string]Health{"": TakesNoWrite}, 2,
			[]string{"it has no primary yet"}},
	} {
		v := Assess(bookings(c.change))
		for n, want := range c.health {
			got := v.Health
			why := ""
			if n != "" {
				got, why = v.Find(n).Health, v.Find(n).Why
			}
			if got != want {
				t.Errorf("%s: %q is %q (%s), want %q", c.name, n, got, why, want)
			}
		}
		for _, w := range c.says {
			if !strings.Contains(v.Sentence, w) {
				t.Errorf("%s: the sentence lacks %q: %s", c.name, w, v.Sentence)
			}
		}
		if c.name != "no primary yet" && v.CanLose != c.lose {
			t.Errorf("%s: can lose %d, want %d", c.name, v.CanLose, c.lose)
		}
		for _, s := range v.Servers {
			bad := s.Health != InStep && s.Health != TakesWrites && s.Health != Seeding
			named := false
			for _, p := range v.Problems {
				named = named || p.Server == s.Name && p.Text != "" && p.Mend != ""
			}
			if bad && !named {
				t.Errorf("%s: %s is %s and no problem says what to do", c.name, s.Name, s.Health)
			}
		}
	}
}

// The stages add up to the lag, whatever both sides report.
func TestStages(t *testing.T) {
	in := bookings(func(in *Input) {
		o := in.Members[1].Last
		o.Log.Received, o.Log.Applied = "0/1F00000", "0/1D00000"
		in.Members[0].Last.Links.Downstreams = []observation.Downstream{{Name: "tern", Sent: "0/1FC0000",
			Received: "0/1FA0000", Safe: "0/1F00000"}}
	})
	v := Assess(in)
	s := v.Find("tern")
	st := s.Stages
	if sum := st.NotSent + st.NotReceived + st.NotSafe + st.NotApplied; sum != s.LagBytes || st.Worst() != "applied" ||
		st.NotSent != 0x40000 || st.NotReceived != 0x20000 || st.NotSafe != 0xA0000 {
		t.Errorf("%+v of %d", st, s.LagBytes)
	}
}

// A server that was open before it was added is named as that, running or not; one of
// another origin as that.
func TestForeignServers(t *testing.T) {
	open := func(o *observation.Server) { o.Process.Role = observation.Primary }
	for name, c := range map[string]struct {
		change func(o *observation.Server)
		code   cause.Code
		peer   string
	}{
		"a promoted clone": {func(o *observation.Server) {
			o.Process.Role, o.Process.Writable, o.Links.Upstream = observation.Primary, true, nil
		}, cause.OpenBefore, ""},
		"it is down": {func(o *observation.Server) {
			o.Process, o.Data.ClosedByDefault = observation.Process{}, true
		}, cause.OpenBefore, ""},
		"it is down, and opens by itself": {func(o *observation.Server) {
			o.Process, o.Data.ClosedByDefault = observation.Process{}, false
		}, cause.OpensByItself, ""},
		"it follows, open":   {open, cause.OpenBefore, "gull"},
		"of another origin":  {func(o *observation.Server) { o.Data.System = "78" }, cause.ForeignOrigin, "gull"},
		"without any origin": {func(o *observation.Server) { o.Data.System = "" }, cause.ForeignOrigin, "gull"},
	} {
		in := bookings(nil)
		in.Members[1].Last.Data.Foreign = true
		c.change(in.Members[1].Last)
		v := Assess(in)
		s := v.Find("tern")
		if s.Health != Adrift || s.Cause.Code != c.code || s.Cause.Peer != c.peer || s.MayTakeOver {
			t.Errorf("%s: %s %+v", name, s.Health, s.Cause)
		}
	}
}
