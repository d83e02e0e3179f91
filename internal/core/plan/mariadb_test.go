package plan

import (
	"slices"
	"strings"
	"testing"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// fine are the settings of a server that lacks nothing.
var fine = map[string]string{"log_bin": "ON", "log_slave_updates": "ON", "binlog_format": "ROW",
	"binlog_row_image": "FULL", "binlog_row_metadata": "FULL", "gtid_domain_id": "1", "gtid_strict_mode": "ON",
	"sync_binlog": "1", "innodb_flush_log_at_trx_commit": "1", "slave_exec_mode": "STRICT", "lower_case_table_names": "0",
	"max_connections": "60", "rpl_semi_sync_master_enabled": "OFF", "accounts": "same", "oldest_position": "1-11-5"}

func sailed(name string, id uint32, role observation.Role) *observation.Server {
	o := &observation.Server{At: now, Process: observation.Process{Running: true, Accepting: true, Role: role,
		Writable: role == observation.Primary, Version: "10.11.19", MajorVersion: 1011},
		Data: observation.Data{System: "c0ffee", ClosedByDefault: true, Bytes: observation.Known[int64](1 << 30)},
		Log: observation.Log{ServerID: id, GTIDState: "1-11-100",
			Line: position.Line{System: "c0ffee", Number: 2, Fingerprint: "mark"}},
		Host: observation.Host{Address: observation.Address{Host: name, Port: 3306},
			DiskFreeBytes: observation.Known[int64](100 << 30)},
		Config: observation.Config{Settings: map[string]string{}, Facts: map[string]int64{}}}
	for k, v := range fine {
		o.Config.Settings[k] = v
	}
	if role == observation.Primary {
		o.Log.Written, o.Log.WrittenAt, o.Guard = "1-11-100", "cargo-bin.000002:500",
			guard.State{Noted: 2, Accepted: 2, Owner: true}
		o.Log.Files = []position.LogFile{{Name: "cargo-bin.000001", Bytes: 1000}, {Name: "cargo-bin.000002", Bytes: 500}}
	} else {
		o.Log.ProvenTerm = 2
		o.Log.Applied, o.Log.Received, o.Log.AppliedAt, o.Log.ReceivedAt = "1-11-100", "1-11-100", "cargo-bin.000002:500",
			"cargo-bin.000002:500"
		o.Links.Upstream = &observation.Upstream{Host: "wren", Port: 3306, Connected: true}
	}
	return o
}

func cargo(r operation.Request, change func(in *Input, m []view.Member)) Input {
	var members []view.Member
	for i, n := range []string{"wren", "plover", "dunlin"} {
		role := observation.Replica
		if i == 0 {
			role = observation.Primary
		}
		members = append(members, view.Member{Member: cluster.Member{Name: n, Placement: cluster.Placement{Rank: (i + 1) % 3},
			Agent: n + ":7720", Enrolled: true}, SeenAt: now, Last: sailed(n, uint32(11+i), role)})
	}
	in := Input{Request: r, NextTerm: 3}
	if change != nil {
		change(&in, members)
	}
	return assessed(in, "cargo", position.EngineMariaDB, "wren", members)
}

func wrecked(change func(x *verb.Examination)) *verb.Examination {
	x := &verb.Examination{Line: position.Line{System: "c0ffee", Number: 2}, System: "c0ffee", End: "1-11-105",
		Fork: "1-11-100", Kinship: string(position.Kin), TailBytes: 900, Rewindable: true,
		Tail: &tail.Tail{Transactions: []tail.Transaction{{GTID: "1-11-101", Outcome: "committed"}}}}
	if change != nil {
		change(x)
	}
	return x
}

// The same plans for the second engine: what is left out, what is in place.
func TestMakeMariaDB(t *testing.T) {
	type members = []view.Member
	for _, c := range []struct {
		name    string
		r       operation.Request
		change  func(in *Input, m members)
		wrong   string
		refused string
		steps   string
		not     string
	}{
		{name: "switchover", r: operation.Request{Kind: operation.Switchover},
			steps: "open-term caught-up stop-old prove decide promote! decide-open mark-term events follow-dunlin demote-old " +
				"streams-dunlin streams-wren mark mark-on-dunlin mark-on-wren"},
		{name: "switchover, first write would hang", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[1].Last.Config.Settings["rpl_semi_sync_master_enabled"] = "ON" },
			refused: "rpl_semi_sync_master_enabled"},
		{name: "switchover, applier in error", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[1].Last.Links.Upstream.ApplierProblem = "error 1062: Duplicate entry" },
			refused: "no server of cargo may take over"},
		{name: "switchover to one in error", r: operation.Request{Kind: operation.Switchover, To: "plover"},
			change:  func(_ *Input, m members) { m[1].Last.Links.Upstream.ApplierProblem = "error 1062: Duplicate entry" },
			refused: "applying stopped: error 1062"},
		{name: "switchover, two of one server id", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[2].Last.Log.ServerID = 12 },
			refused: "dunlin and plover both have server id 12"},
		{name: "switchover, other domain", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[1].Last.Config.Settings["gtid_domain_id"] = "2" },
			refused: "gtid_domain_id is 2 on plover"},
		{name: "switchover, no log on the candidate", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[1].Last.Config.Settings["log_slave_updates"] = "OFF" },
			refused: "log_slave_updates is OFF"},
		{name: "switchover, log thrown away", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[0].Last.Config.Settings["oldest_position"] = "1-11-101" },
			refused: "log begins after 1-11-101"},
		{name: "failover, dead", r: operation.Request{Kind: operation.Failover},
			change: func(_ *Input, m members) { dead(m[0].Last) },
			steps: "open-term fence-old detach fetch-dunlin detach-again decide promote! decide-open mark-term " +
				"events follow-dunlin streams-dunlin mark"},
		{name: "failover that leaves one server, commits wait", r: operation.Request{Kind: operation.Failover},
			change: func(in *Input, m members) {
				list := synchronous.List{Need: 1, Names: []string{"plover"}}
				m[0].Last.Synchronous = &observation.Synchronous{Set: list, Live: true, ProvenAt: "1-11-90"}
				in.View.Policy.Synchronous.Mode = synchronous.One
				in.View.Synchronous = &view.Synchronous{Promised: []synchronous.List{list}}
				m[1].Rank, m[2].Rank, m[2].Problem = 2, 3, "connection refused"
				dead(m[0].Last)
			}, steps: "open-term fence-old detach promise-both synchronize-new decide promote! decide-open events", not: "mark"},
		{name: "failover, start again", r: operation.Request{Kind: operation.Failover, To: "wren"},
			change: func(in *Input, m members) {
				dead(m[0].Last)
				in.Examination = &verb.Examination{End: "1-11-200"}
			}, steps: "open-term settle decide open! decide-open mark-term events"},
		{name: "seed an empty one", r: operation.Request{Kind: operation.Seed, Server: "plover"},
			change: func(_ *Input, m members) {
				m[1].Last = &observation.Server{At: now, Data: observation.Data{Empty: true},
					Process: observation.Process{MajorVersion: 1011},
					Host:    observation.Host{DiskFreeBytes: observation.Known[int64](10 << 30), Address: m[1].Last.Host.Address}}
			}, steps: "prepare prepare-dunlin copy verify start follow catch-up mark mark-on-plover"},
		{name: "seed by a dump", r: operation.Request{Kind: operation.Seed, Server: "plover", Way: WayDump, Replace: true},
			steps: "prepare prepare-dunlin copy verify start follow catch-up mark"},
		{name: "seed by a way that is none", r: operation.Request{Kind: operation.Seed, Server: "plover", Way: "force"},
			wrong: `no way "force"`},
		{name: "rejoin without a tail", r: operation.Request{Kind: operation.Rejoin, Server: "plover"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = wrecked(func(x *verb.Examination) {
					x.TailBytes, x.Fork, x.Tail, x.Rewindable = 0, x.End, nil,
						false
				})
			}, steps: "prepare prepare-dunlin account start follow streams mark mark-on-plover in-step hold view-plover"},
		{name: "rejoin of one that was stopped cleanly", r: operation.Request{Kind: operation.Rejoin, Server: "plover"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = wrecked(func(x *verb.Examination) {
					x.TailBytes, x.Fork, x.Tail, x.Rewindable, x.Clean = 0, x.End, nil, false, true
				})
			}, steps: "prepare prepare-dunlin account start follow streams mark mark-on-plover", not: "hold"},
		{name: "rejoin with a tail", r: operation.Request{Kind: operation.Rejoin, Server: "plover"},
			change: func(in *Input, m members) { dead(m[1].Last); in.Examination = wrecked(nil) },
			steps: "salvage reread prepare prepare-dunlin rewind! account start follow streams mark mark-on-plover " +
				"in-step hold view-plover release sums-wren sums-plover judge"},
		{name: "rejoin with a tail that cannot be undone", r: operation.Request{Kind: operation.Rejoin, Server: "plover"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = wrecked(func(x *verb.Examination) { x.Rewindable, x.WhyNot = false, "it changes definitions" })
			}, steps: "salvage reread prepare prepare-dunlin copy verify start follow catch-up"},
		{name: "rejoin data that nobody knows", r: operation.Request{Kind: operation.Rejoin, Server: "plover"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				m[1].Last.Data.System = ""
				in.Examination = &verb.Examination{Kinship: string(position.Unknown), WhyNot: "other data than its agent knew"}
			}, refused: "other data than its agent knew"},
		{name: "save a tail of a running server", r: operation.Request{Kind: operation.Salvage, Server: "plover"},
			change: func(in *Input, _ members) { in.Examination = wrecked(func(x *verb.Examination) { x.Running = true }) },
			steps:  "salvage reread"},
	} {
		p := expect(t, c.name, cargo(c.r, c.change), c.wrong, c.refused, c.steps)
		if p != nil && c.not != "" && strings.Contains(stepNames(p), c.not) {
			t.Errorf("%s: it has a step %s", c.name, c.not)
		}
	}
}

// What a failover would lose is said as transactions, with the GTIDs between
// which they lie.
func TestLossInGTIDs(t *testing.T) {
	p, err := Make(cargo(operation.Request{Kind: operation.Failover}, func(in *Input, m []view.Member) {
		dead(m[0].Last)
		m[0].Last.Log.Written = ""
		in.Examination = &verb.Examination{End: "1-11-103"}
	}))
	if err != nil {
		t.Fatal(err)
	}
	for _, words := range []string{"Lost to the cluster: 3 transactions", "after 1-11-100 up to 1-11-103"} {
		if !strings.Contains(p.Summary, words) {
			t.Errorf("the plan does not say %q: %s", words, p.Summary)
		}
	}
	if p.ConfirmName != "cargo" {
		t.Errorf("it asks for the name %q", p.ConfirmName)
	}
}

// A living primary whose replicas get nothing from it: that it will come to nothing is said
// before it begins.
func TestReplicaThatKeepsUp(t *testing.T) {
	for behind, warned := range map[int]bool{0: false, 1: false, 2: true} {
		in := cargo(operation.Request{Kind: operation.Failover}, nil)
		for _, n := range []string{"plover", "dunlin"}[:behind] {
			in.View.Find(n).Health = view.Stalled
		}
		p, err := Make(in)
		if err != nil {
			t.Fatal(err)
		}
		got := slices.ContainsFunc(p.Checks, func(c operation.Check) bool {
			return c.Name == "Replica that keeps up" && c.Result == operation.Warn
		})
		if got != warned {
			t.Errorf("%d of two are behind: warned %t: %s", behind, got, p.Summary)
		}
	}
}

// Where something is lost, whoever may hold it and takes no part is named; where nothing is,
// there is nobody to name.
func TestReplicaThatMayHoldMore(t *testing.T) {
	for end, named := range map[string]bool{"1-11-103": true, "1-11-100": false} {
		p, err := Make(cargo(operation.Request{Kind: operation.Failover}, func(in *Input, m []view.Member) {
			dead(m[0].Last)
			dead(m[2].Last)
			m[2].HeldData = true
			m[0].Last.Log.Written = ""
			in.Examination = &verb.Examination{End: end}
		}))
		if err != nil {
			t.Fatal(err)
		}
		i := slices.IndexFunc(p.Checks, func(c operation.Check) bool { return c.Name == "Replica that may hold more" })
		if (i >= 0) != named || named && (p.Checks[i].Server != "dunlin" || p.Checks[i].Result != operation.Warn) {
			t.Errorf("the log ends at %s: %+v", end, p.Checks)
		}
	}
}

// A comparison that a crash of the service interrupted begins again where
// writes are held; other steps are taken up where they stood.
func TestResumeAt(t *testing.T) {
	p, err := Make(cargo(operation.Request{Kind: operation.Rejoin, Server: "plover"},
		func(in *Input, m []view.Member) { dead(m[1].Last); in.Examination = wrecked(nil) }))
	if err != nil {
		t.Fatal(err)
	}
	at := map[string]int{}
	for i, s := range p.Steps {
		at[s.Name] = i
	}
	for from, want := range map[string]string{"rewind": "rewind", "streams": "streams", "hold": "hold", "release": "hold",
		"sums-plover": "hold", "judge": "hold", "close-wren": "close-wren"} {
		if got := p.ResumeAt(at[from]); got != at[want] {
			t.Errorf("before %s it goes on with %s, want %s", from, p.Steps[got].Name, want)
		}
	}
}

// A named connection would be left writing when the server is moved: it is refused
// in the preview, whatever the operation.
func TestNamedConnection(t *testing.T) {
	for _, r := range []operation.Request{{Kind: operation.Switchover}, {Kind: operation.Follow, Server: "plover",
		To: "dunlin"},
		{Kind: operation.Rejoin, Server: "plover"}} {
		p, err := Make(cargo(r, func(in *Input, m []view.Member) {
			m[1].Last.Links.Named = []string{"elsewhere"}
			m[1].Last.Config.Settings = m[0].Last.Config.Settings
			in.Examination = &verb.Examination{End: "1-11-100", Fork: "1-11-100", Kinship: string(position.Kin),
				System: "c0ffee"}
		}))
		if err != nil {
			t.Fatal(err)
		}
		why, refused := p.Refused()
		if !refused || !strings.Contains(why, "named connection elsewhere") {
			t.Errorf("%s: %q", r.Kind, why)
		}
	}
}
