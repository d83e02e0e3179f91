package view

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/words"
)

// behindBy makes tern lack writes: received and applied positions, with the
// primary at 0/2000000 and a lag clock that knows the last 20 seconds.
func behindBy(received, applied string) func(in *Input) {
	return func(in *Input) {
		m := &in.Members[1]
		m.Last.Log.Received, m.Last.Log.Applied = received, applied
		m.AppliedSince, m.ReceivedSince = now, now
	}
}

func and(changes ...func(in *Input)) func(in *Input) {
	return func(in *Input) {
		for _, c := range changes {
			c(in)
		}
	}
}

// tern changes what tern's agent reported.
func tern(change func(o *observation.Server)) func(in *Input) {
	return func(in *Input) { change(in.Members[1].Last) }
}

// Each case that misleads gets its one sentence, from facts.
func TestDiagnosis(t *testing.T) {
	waits := func(s string) func(in *Input) {
		return tern(func(o *observation.Server) { o.Replay.Wait = s })
	}
	sent := func(at string) func(in *Input) {
		return func(in *Input) {
			in.Members[0].Last.Links.Downstreams = []observation.Downstream{{Name: "tern", State: "streaming", Sent: at,
				Received: in.Members[1].Last.Log.Received}}
		}
	}
	for name, c := range map[string]struct {
		change func(in *Input)
		health Health
		says   string
	}{
		"in step": {nil, InStep, ""},
		"not sent": {and(behindBy("0/1C00000", "0/1C00000"), sent("0/1C00000")), Behind,
			"4.0 MB of 4.0 MB wait on gull, not yet sent: gull or its network is busy"},
		"on the way": {and(behindBy("0/1C00000", "0/1C00000"), sent("0/2000000")), Behind,
			"on the way from gull: the network is slow"},
		"replay": {behindBy("0/2000000", "0/1C00000"), Behind,
			"wait on tern, received and not applied: replay does not keep up"},
		"replay at its limit": {and(behindBy("0/2000000", "0/1C00000"),
			tern(func(o *observation.Server) { o.Replay.Busy = 0.97 })), Behind,
			"replay works in one process, which uses 97% of a core"},
		"replay waits for a disk": {and(behindBy("0/2000000", "0/1C00000"), waits("IO DataFileRead")), Behind,
			"replay waits for the disk (DataFileRead)"},
		"replay waits for a query": {and(behindBy("0/2000000", "0/1C00000"), waits("IPC RecoveryConflictSnapshot")), Behind,
			"replay waits for a query that still needs rows which it removes"},
		"replay waits for a lock": {and(behindBy("0/2000000", "0/1C00000"), waits("Lock relation")), Behind,
			"replay waits for a session that holds a lock on a table (relation)"},
		"replay waits for a page": {and(behindBy("0/2000000", "0/1C00000"), waits("BufferPin BufferPin")), Behind,
			"replay waits for a query that holds a page"},
		"replay waits for a space": {and(behindBy("0/2000000", "0/1C00000"), waits("IPC RecoveryConflictTablespace")),
			Behind, "a tablespace which it drops"},
		"paused": {and(behindBy("0/2000000", "0/1C00000"),
			tern(func(o *observation.Server) { o.Replay.Paused = true })), Stalled,
			"replay is paused: 4.0 MB wait on its disk; it is where gull was 10.0 s ago"},
		"paused with nothing there": {tern(func(o *observation.Server) { o.Replay.Paused = true }), InStep, ""},
		"receiver down": {tern(func(o *observation.Server) {
			o.Links.Upstream.Connected, o.Links.Upstream.Problem = false, "password wrong"
		}), Stalled, "password wrong"},
		"applier stopped": {and(behindBy("0/2000000", "0/1C00000"),
			tern(func(o *observation.Server) { o.Links.Upstream.ApplierProblem = "error 1062: Duplicate entry" })), Stalled,
			"applying stopped: error 1062: Duplicate entry; it is where gull was 10.0 s ago"},
		"alive and silent": {and(behindBy("0/1800000", "0/1800000"), func(in *Input) {
			in.Members[1].ReceivedSince = now.Add(-19 * time.Second)
		}), Stalled,
			"its link to gull is open, but nothing has arrived for 19.0 s while gull kept writing; it is where gull was " +
				"20.0 s ago"},
		"silent for too long on an idle primary": {tern(func(o *observation.Server) { o.Links.Upstream.IdleSeconds = 55 }),
			Stalled, "its link to gull is open, but gull has sent nothing for 55.0 s"},
		"silent for a while on an idle primary": {tern(func(o *observation.Server) { o.Links.Upstream.IdleSeconds = 28 }),
			InStep, ""},
		"held back": {and(behindBy("0/2000000", "0/1C00000"),
			tern(func(o *observation.Server) { o.Links.Upstream.DelaySeconds = 10 })), InStep,
			"it is delayed by 10.0 s, as configured; 4.0 MB wait on its disk for their time"},
		"held back and more": {and(behindBy("0/2000000", "0/1900000"),
			tern(func(o *observation.Server) { o.Links.Upstream.DelaySeconds = 5 })), Behind, "received and not applied"},
		"nothing applied for long": {and(behindBy("0/2000000", "0/1800000"),
			func(in *Input) { in.Members[1].AppliedSince = now.Add(-18 * time.Second) }), Stalled,
			"8.0 MB of 8.0 MB wait on tern, received and not applied"},
	} {
		v := Assess(bookings(c.change))
		s := v.Find("tern")
		if s.Health != c.health || (c.says == "") != (s.Diagnosis == "") || !strings.Contains(s.Diagnosis, c.says) {
			t.Errorf("%s: %s, %q; want %s, %q", name, s.Health, s.Diagnosis, c.health, c.says)
		}
	}
}

func TestMariaDBDiagnosis(t *testing.T) {
	in := func(wait, threads string) *Server {
		x := bookings(behindBy("0/2000000", "0/1C00000"))
		x.Engine = position.EngineMariaDB
		o := x.Members[1].Last
		o.Replay.Wait, o.Config.Settings = wait, map[string]string{"slave_parallel_threads": threads}
		s := Server{Name: "tern", Health: Behind, Follows: "gull", LagBytes: 1 << 20, Stages: lag.Stages{NotApplied: 1 << 20},
			Observation: o}
		s.Diagnosis = words.Say(diagnose(x, x.Members[1], &s))
		return &s
	}
	for _, c := range [][3]string{
		{"Waiting for table metadata lock", "0",
			"replay waits for a session that holds a lock on a table (Waiting for table metadata lock)"},
		{"Update_rows_log_event::find_row(-1)", "0",
			"one thread applies everything (slave_parallel_threads = 0); the server reports: Update_rows_log_event"},
		{"", "4", "replay does not keep up"},
	} {
		if s := in(c[0], c[1]); !strings.HasSuffix(s.Diagnosis, c[2]) && !strings.Contains(s.Diagnosis, c[2]) {
			t.Errorf("%q with %s threads: %s", c[0], c[1], s.Diagnosis)
		}
	}
}

// Problems come with their rule, worst first, each with what to do.
func TestProblems(t *testing.T) {
	slot := func(x observation.Slot) func(in *Input) {
		return func(in *Input) { in.Members[0].Last.Links.Slots = []observation.Slot{x} }
	}
	const readOnly, removed = "sessions that are read-only", "a call of a server's that was removed"
	const stopped = "all of its replication is stopped"
	const lost, silent = "a host that is lost", "an agent that is silent"
	for name, c := range map[string]struct {
		change func(in *Input)
		rules  string
		says   string
	}{
		"nothing": {nil, "", ""},
		"link": {tern(func(o *observation.Server) { o.Links.Upstream.Connected = false }), "link down",
			"its link to gull is down"},
		stopped: {tern(func(o *observation.Server) { o.Links.Upstream.Connected, o.Replay.Paused = false, true }),
			"link down", "its link to gull is down"},
		"two": {func(in *Input) { in.Members[1].Last = server("tern", observation.Primary, "0/2000000") },
			"two primaries, adrift, at risk", "gull and tern both report themselves as primary"},
		"needs you": {func(in *Input) { in.NeedsYou = &Running{ID: 7, Kind: "failover"} }, "needs you",
			"operation 7 (failover) needs you: not every step succeeded"},
		lost: {func(in *Input) { in.Members[0].SeenAt = now.Add(-time.Minute) }, "unseen", "gull is unseen"},
		silent: {and(tern(func(o *observation.Server) { o.Links.Upstream.IdleSeconds = 0.1 }),
			func(in *Input) { in.Members[0].SeenAt = now.Add(-time.Minute) }), "unseen", "gull is unseen"},
		"at risk": {and(behindBy("0/1000000", "0/1000000"), func(in *Input) { in.Policy.AtRiskBytes = 1 << 20 }),
			"at risk, behind", "at risk: 16.0 MB"},
		"no limit": {and(behindBy("0/1F00000", "0/1F00000"),
			func(in *Input) { in.Policy.AtRiskBytes, in.Policy.BehindSeconds = 0, 60 }), "", ""},
		"slot of nobody": {slot(observation.Slot{Name: "ct_puffin", Ours: true, KeptBytes: 1 << 20}), "slot filling",
			"slot ct_puffin on gull belongs to no server of bookings and keeps 1.0 MB of log"},
		"slot of an absent server": {slot(observation.Slot{Name: "ct_tern", Ours: true, KeptBytes: 2 << 30}),
			"slot filling", "slot ct_tern on gull is not being read and keeps 2.0 GB"},
		"slot that keeps little": {slot(observation.Slot{Name: "ct_tern", Ours: true, KeptBytes: 1 << 20}),
			"", ""},
		"slot lost": {slot(observation.Slot{Name: "ct_tern", Ours: true, State: "lost"}),
			"slot filling", "log that tern needs is gone"},
		"slot of a living server, name with a dash": {and(slot(observation.Slot{Name: "ct_north_1", Ours: true,
			KeptBytes: 1 << 20}), func(in *Input) { in.Members[1].Name = "north-1" }), "", ""},
		"slot of an absent server, name with a dash": {and(slot(observation.Slot{Name: "ct_north_1", Ours: true,
			KeptBytes: 2 << 30}), func(in *Input) { in.Members[1].Name = "north-1" }), "slot filling",
			"slot ct_north_1 on gull is not being read and keeps 2.0 GB"},
		"slot of somebody else": {slot(observation.Slot{Name: "north_1", KeptBytes: 2 << 30}), "slot filling",
			"slot north_1 on gull, which Cross Twin did not make, is not being read"},
		"clock ahead": {func(in *Input) { in.Members[2].ClockSkew = 3 }, "clock",
			"the clock of heron is 3.0 s ahead of the service's"},
		"clock behind": {func(in *Input) { in.Members[2].ClockSkew = -90 }, "clock",
			"1 min 30 s behind the service's"},
		"agent too old": {tern(func(o *observation.Server) {
			o.Agent = observation.Agent{Version: "0.0", Wire: observation.Wire - 1}
		}), "", ""}, // of a time when agents did not say it
		"agent of this time": {tern(func(o *observation.Server) { o.Agent.Wire = observation.Wire }), "", ""},
		"agent too new": {tern(func(o *observation.Server) {
			o.Agent = observation.Agent{Version: "7.1", Wire: observation.Wire + 1}
		}), "agent version", "the agent of tern (version 7.1) is too new for this service"},
		"certificate": {tern(func(o *observation.Server) { o.CertificateEnds = now.Add(72 * time.Hour) }),
			"certificate", "ends in 3.0 days"},
		"a call of a thief's": {tern(func(o *observation.Server) {
			o.Agent.Refused = []observation.Refused{{Name: "heron.x", Cluster: "bookings", Server: "heron", From: "10.0.0.7",
				Asks: "/peer/copy"}}
		}), "refused", "tern's agent refused a request from 10.0.0.7: the certificate " +
			"of the agent of heron in bookings is not good for /peer/copy"},
		removed: {tern(func(o *observation.Server) {
			o.Agent.Refused = []observation.Refused{{Name: "puffin.x", Cluster: "bookings", Server: "puffin", From: "10.0.0.7",
				Asks: "/peer/copy"}}
		}), "refused", "the certificate of the agent of puffin in bookings is not good for /peer/copy"},
		"conflicts": {func(in *Input) { in.Members[1].ConflictsPerHour = 40 }, "conflicts",
			"replay cancels 40 queries per hour on tern"},
		readOnly: {func(in *Input) { in.Members[0].Last.Process.Writable = false }, "takes no writes",
			"read-only, by default_transaction_read_only"},
		"open": {func(in *Input) { in.Members[0].Last.Data.ClosedByDefault = false }, "open by default",
			"gull would open for writes"},
	} {
		v := Assess(bookings(c.change))
		var rules []string
		text := ""
		for _, p := range v.Problems {
			rules = append(rules, string(p.Rule))
			text += p.Text + "\n"
			if p.Mend == "" {
				t.Errorf("%s: %q says not what to do", name, p.Text)
			}
			if name == stopped && p.Mend != "crosstwin rejoin bookings tern" {
				t.Errorf("%s: %q", name, p.Mend)
			}
			// A setting is no reason to change the primary.
			if name == readOnly && (p.Fix != nil || !strings.Contains(p.Mend, "on gull: alter system set default_transaction")) {
				t.Errorf("%s: %q, %+v", name, p.Mend, p.Fix)
			}
		}
		// There is nobody to remove any more.
		if name == removed && !strings.Contains(v.Problems[0].Mend, "puffin is no server of bookings any more") {
			t.Errorf("%s: %q", name, v.Problems[0].Mend)
		}
		// A replica that received just now proves that the database lives: no reason to fail over.
		if advised := (name == lost); (name == lost || name == silent) && (v.AtRisk.Known ||
			(v.Problems[0].Fix != nil) != advised ||
			strings.Contains(v.Problems[0].Mend, "check that its agent runs") == advised) {
			t.Errorf("%s: %+v, at risk %+v", name, v.Problems, v.AtRisk)
		}
		if got := strings.Join(rules, ", "); got != c.rules || !strings.Contains(text, c.says) {
			t.Errorf("%s: rules %q, want %q\n%s", name, got, c.rules, text)
		}
	}
}

// A server that never enrolled, and a cluster without a primary yet, are shown
// and not told.
func TestSettingUp(t *testing.T) {
	v := Assess(bookings(func(in *Input) { in.Members[2].Enrolled, in.Members[2].Last = false, nil }))
	if len(v.Problems) != 1 || v.Problems[0].Rule != cluster.RuleUnseen || !v.Problems[0].SettingUp {
		t.Errorf("%+v", v.Problems)
	}
	v = Assess(bookings(func(in *Input) { in.Members[2].Last, in.Members[2].HeldData = nil, true }))
	if len(v.Problems) != 1 || v.Problems[0].SettingUp {
		t.Errorf("a server with data, not seen since the service began: %+v", v.Problems)
	}
	v = Assess(bookings(func(in *Input) { in.Owner = "" }))
	if len(v.Problems) == 0 || v.Problems[0].Rule != cluster.RuleNoPrimary || !v.Problems[0].SettingUp {
		t.Errorf("%+v", v.Problems)
	}
	empty := func(in *Input) {
		in.Members[2].Last = &observation.Server{At: now, Engine: in.Members[2].Last.Engine,
			Data: observation.Data{Empty: true}}
	}
	v = Assess(bookings(empty))
	if len(v.Problems) != 1 || v.Problems[0].Rule != cluster.RuleDown || !v.Problems[0].SettingUp {
		t.Errorf("a server that is still to be seeded: %+v", v.Problems)
	}
	v = Assess(bookings(func(in *Input) { empty(in); in.Members[2].HeldData = true }))
	if len(v.Problems) != 1 || v.Problems[0].Rule != cluster.RuleDown || v.Problems[0].SettingUp {
		t.Errorf("a server that lost its data: %+v", v.Problems)
	}
	v = Assess(bookings(func(in *Input) { in.Members[2].SeenAt = now.Add(-time.Hour) }))
	if len(v.Problems) != 1 || v.Problems[0].SettingUp {
		t.Errorf("a server that was there once: %+v", v.Problems)
	}
}

func TestForecast(t *testing.T) {
	full := func(change func(in *Input)) *Forecast {
		v := Assess(bookings(func(in *Input) {
			in.WrittenBytesRate = 1 << 20
			in.Members[0].Last.Host.LogDiskFreeBytes = observation.Known[int64](3 << 30)
			change(in)
		}))
		return v.Find("gull").LogFull
	}
	if f := full(func(*Input) {}); f != nil {
		t.Errorf("nobody is away, and %q", f.Text)
	}
	away := func(in *Input) {
		in.Members[0].Last.Links.Slots = []observation.Slot{{Name: "ct_tern", Ours: true, KeptBytes: 1 << 20}}
	}
	if f := full(away); f == nil ||
		f.Text != "gull keeps log for tern (not connected); gull's log disk will be full in about 51 min 12 s" ||
		!strings.Contains(f.Mend, "crosstwin server remove bookings tern") {
		t.Errorf("%+v", f)
	}
	dashed := func(in *Input) {
		away(in)
		in.Members[1].Name, in.Members[0].Last.Links.Slots[0].Name = "north-1", "ct_north_1"
	}
	if f := full(dashed); f == nil || !strings.HasPrefix(f.Text, "gull keeps log for north-1 (not connected)") ||
		!strings.Contains(f.Mend, "crosstwin rejoin bookings north-1") {
		t.Errorf("%+v", f)
	}
	if f := full(and(away, func(in *Input) { in.WrittenBytesRate = 0 })); f == nil || f.Seconds >= 0 ||
		!strings.HasPrefix(f.Text, "gull keeps log for tern (not connected); when its disk will be full is not known") {
		t.Errorf("nothing is written: %+v", f)
	}
	if f := full(func(in *Input) {
		in.Engine = position.EngineMariaDB
		in.Members[1].SeenAt, in.Members[2].Last = now.Add(-time.Hour), nil
	}); f == nil || !strings.HasPrefix(f.Text, "gull keeps log for tern and heron (not connected)") {
		t.Errorf("%+v", f)
	}
	// Log that the server removes by itself before, and a server that was never
	// seeded, fill no disk.
	if f := full(func(in *Input) {
		in.Engine = position.EngineMariaDB
		in.Members[1].SeenAt = now.Add(-time.Hour)
		in.Members[0].Last.Config.Live = map[string]string{"binlog_expire_logs_seconds": "600"}
	}); f != nil {
		t.Errorf("%+v", f)
	}
	if f := full(func(in *Input) {
		in.Engine = position.EngineMariaDB
		in.Members[1].Last = &observation.Server{Data: observation.Data{Empty: true}}
	}); f != nil {
		t.Errorf("%+v", f)
	}
	v := Assess(bookings(func(in *Input) {
		in.WrittenBytesRate, in.Members[0].Last.Host.LogDiskFreeBytes = 1<<20, observation.Known[int64](3<<30)
		away(in)
	}))
	if len(v.Problems) != 1 || v.Problems[0].Rule != cluster.RuleLogFilling {
		t.Errorf("%+v", v.Problems)
	}
}

func TestDrift(t *testing.T) {
	in := bookings(func(in *Input) {
		for i := range in.Members {
			in.Members[i].Last.Config.Settings = map[string]string{"max_connections": "100", "fsync": "on",
				"data_directory": in.Members[i].Name}
		}
		in.Members[2].Last.Config.Settings["max_connections"] = "50"
		in.Members[1].Problem = "connection refused"
	})
	d := DriftOf(&View{Cluster: in.Cluster, Engine: in.Engine}, in.Members)
	if len(d.Settings) != 1 || d.Settings[0].Name != "max_connections" || d.Settings[0].Values["heron"] != "50" ||
		len(d.Settings[0].Values) != 2 || d.Settings[0].Why == "" {
		t.Errorf("%+v", d.Settings)
	}
	if len(d.Unasked) != 1 || d.Unasked[0] != "tern" {
		t.Errorf("not asked: %v", d.Unasked)
	}
	if want := "gull and heron differ in 1 of "; !strings.HasPrefix(d.Sentence, want) ||
		!strings.HasSuffix(d.Sentence, "The settings of tern could not be read.") {
		t.Error(d.Sentence)
	}
	in.Members[2].Last.Config.Settings, in.Members[2].Last.Config.Problem = nil, "locked"
	if d := DriftOf(&View{Cluster: in.Cluster, Engine: in.Engine},
		in.Members); d.Sentence != "Only the settings of gull could be read: nothing is compared." {
		t.Error(d.Sentence)
	}
}

func TestConflicts(t *testing.T) {
	v := Assess(bookings(func(in *Input) {
		for _, i := range []int{1, 2} {
			o := in.Members[i].Last
			o.Replay.Conflicts = map[string]int64{"snapshot": 5, "lock": 2}
			o.Config.Live = map[string]string{"max_standby_streaming_delay": "30s", "hot_standby_feedback": "off"}
		}
		in.Members[2].Last.Config.Live = map[string]string{"max_standby_streaming_delay": "-1", "hot_standby_feedback": "on"}
		in.Members[1].ConflictsPerHour = 12
	}))
	x := ConflictsOf(&v, map[string]float64{"tern": 4.5})
	all := x.Says + strings.Join(x.Trade, "\n")
	for _, words := range []string{"cancelled 14 queries on bookings, 12 an hour", "tern lets replay wait up to 30s",
		"worst of the last day: 4.5 s", "tern does not tell gull which rows", "5 of the 7 cancelled queries missed rows",
		"heron lets replay wait for queries without limit", "heron tells gull which rows its queries need"} {
		if !strings.Contains(all, words) {
			t.Errorf("%q is not said:\n%s", words, all)
		}
	}
	v.Find("tern").Observation.Replay.Conflicts = map[string]int64{"snapshot": 0}
	if x := ConflictsOf(&v, nil); !strings.Contains(strings.Join(x.Trade, "\n"), "no query was cancelled for it yet") {
		t.Error(x.Trade)
	}
	v.Engine = position.EngineMariaDB
	if x := ConflictsOf(&v, nil); len(x.Servers) != 0 || !strings.Contains(x.Says, "cancels no queries") {
		t.Errorf("%+v", x)
	}
}
