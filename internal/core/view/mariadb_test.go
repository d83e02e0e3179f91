package view

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// cargo is a healthy MariaDB cluster; its positions are transactions, its bytes
// come from places in log files.
func cargo(change func(in *Input)) Input {
	in := Input{Cluster: "cargo", Engine: position.EngineMariaDB, Term: 2, OwnerTerm: 2, Owner: "wren",
		Policy: cluster.DefaultPolicy(), Now: now, Clock: lag.NewClock(10)}
	line := position.Line{System: "c", Number: 2, Fingerprint: "m"}
	for i, n := range []string{"wren", "plover", "dunlin"} {
		o := &observation.Server{Process: observation.Process{Running: true, Accepting: true, Role: observation.Replica},
			Data: observation.Data{System: "c", ClosedByDefault: true},
			Log: observation.Log{Line: line, ServerID: uint32(11 + i), GTIDState: "1-11-200", Applied: "1-11-200",
				Received: "1-11-200", ProvenTerm: 2, AppliedAt: "b.000002:400", ReceivedAt: "b.000002:400"},
			Host:  observation.Host{Address: observation.Address{Host: n, Port: 3306}},
			Links: observation.Links{Upstream: &observation.Upstream{Host: "wren", Port: 3306, Connected: true}}}
		if i == 0 {
			o.Process.Role, o.Process.Writable, o.Log.Applied, o.Log.Received, o.Links.Upstream = observation.Primary, true, "",
				"", nil
			o.Log.Written, o.Log.WrittenAt, o.Log.Files = "1-11-200", "b.000002:400",
				[]position.LogFile{{Name: "b.000001", Bytes: 1000}, {Name: "b.000002", Bytes: 400}}
		}
		in.Members = append(in.Members, Member{Member: member(n, (i+1)%3), SeenAt: now, Last: o})
	}
	in.Clock.Add(lag.Sample{At: now.Add(-20 * time.Second), Position: 100})
	in.Clock.Add(lag.Sample{At: now, Position: 200})
	if change != nil {
		change(&in)
	}
	return in
}

func TestAssessMariaDB(t *testing.T) {
	plover := func(f func(o *observation.Server)) func(*Input) { return func(in *Input) { f(in.Members[1].Last) } }
	for _, c := range []struct {
		name   string
		change func(in *Input)
		health Health
		bytes  int64
		behind float64
		worst  cause.Stage
		why    string
	}{
		{"in step", nil, InStep, 0, 0, "", ""},
		{"behind across two files", plover(func(o *observation.Server) {
			o.Log.Applied, o.Log.AppliedAt, o.Log.Received, o.Log.ReceivedAt = "1-11-150", "b.000001:900", "1-11-200",
				"b.000002:400"
		}), Behind, 500, 10, "applied", "replay does not keep up"},
		{"not received", plover(func(o *observation.Server) {
			o.Log.Applied, o.Log.AppliedAt, o.Log.Received, o.Log.ReceivedAt = "1-11-150", "b.000001:900", "1-11-150",
				"b.000001:900"
		}), Behind, 500, 10, "sent", "not yet sent"},
		{"held back on purpose", plover(func(o *observation.Server) {
			o.Log.Applied, o.Log.AppliedAt, o.Links.Upstream.DelaySeconds = "1-11-150", "b.000001:900", 30
		}), InStep, 500, 10, "applied", "delayed by 30.0 s"},
		{"applier in error",
			plover(func(o *observation.Server) { o.Links.Upstream.ApplierProblem = "error 1032: Can't find record" }), Stalled,
			0, 0, "", "error 1032"},
		{"receiver in error", plover(func(o *observation.Server) {
			o.Links.Upstream.Connected, o.Links.Upstream.Problem = false, "error 1236: log purged"
		}), Stalled, 0, 0, "", "error 1236"},
		{"writes of its own", plover(func(o *observation.Server) { o.Log.GTIDState = "1-11-200,1-12-201" }), Adrift, 0, 0, "",
			"up to 1-12-201"},
		{"follows another replica", plover(func(o *observation.Server) {
			o.Links.Upstream.Host, o.Log.Applied, o.Log.Received = "dunlin", "1-11-150", "1-11-150"
		}), Behind, 0, 10, "", ""},
		// It was seen 10 s before the primary, and was in step then.
		{"an older look", func(in *Input) {
			in.Members[1].SeenAt = now.Add(-4 * time.Second)
			o := in.Members[1].Last
			o.Log.Applied, o.Log.AppliedAt, o.Log.Received, o.Log.ReceivedAt = "1-11-180", "b.000002:200", "1-11-180",
				"b.000002:200"
		}, InStep, 0, 0, "", ""},
	} {
		v := Assess(cargo(c.change))
		s := v.Find("plover")
		if s.Health != c.health || s.LagBytes != c.bytes || s.Stages.Worst() != c.worst || !strings.Contains(s.Why, c.why) {
			t.Errorf("%s: %s (%s), %d bytes, waits to be %q; want %s, %d, %q", c.name, s.Health, s.Why, s.LagBytes,
				s.Stages.Worst(), c.health, c.bytes, c.worst)
		}
		if d := s.Lag.Seconds - c.behind; d > 0.01 || d < -0.01 {
			t.Errorf("%s: %g s behind, want %g", c.name, s.Lag.Seconds, c.behind)
		}
		if s.History != "term 2" {
			t.Errorf("%s: history %q", c.name, s.History)
		}
	}
}

// At risk is what no replica that may take over has received.
func TestAtRiskMariaDB(t *testing.T) {
	v := Assess(cargo(func(in *Input) {
		o := in.Members[1].Last
		o.Log.Received, o.Log.ReceivedAt, o.Log.Applied, o.Log.AppliedAt = "1-11-150", "b.000001:900", "1-11-150",
			"b.000001:900"
	}))
	if r := v.AtRisk; r.Bytes != 500 || r.On != "plover" || r.Seconds < 9.9 || r.Seconds > 10.1 {
		t.Errorf("%+v", r)
	}
	if v = Assess(cargo(nil)); v.AtRisk.Bytes != 0 || !v.AtRisk.Known {
		t.Errorf("%+v", v.AtRisk)
	}
}
