package plan

import (
	"strings"
	"testing"
	"time"

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

var now = time.Date(2027, 1, 1, 6, 0, 0, 0, time.UTC)

var good = map[string]string{
	"access_rules":    "local all all peer\nhost bookings skerry 10.0.0.0 255.0.0.0 scram-sha-256",
	"max_connections": "100", "max_worker_processes": "8", "max_wal_senders": "10",
	"max_locks_per_transaction": "64", "max_prepared_transactions": "0",
	"wal_level": "replica", "max_replication_slots": "10", "data_checksums": "on", "wal_log_hints": "off",
	"wal_keep_size": "512", "full_page_writes": "on", "fsync": "on", "synchronous_commit": "on",
	"synchronous_standby_names": ""}

func observed(name string, role observation.Role) *observation.Server {
	o := &observation.Server{At: now, Process: observation.Process{Running: true, Accepting: true, Role: role,
		Writable: role == observation.Primary, Version: "15.18", MajorVersion: 15},
		Data: observation.Data{System: "77", ClosedByDefault: true, Bytes: observation.Known[int64](1 << 30)},
		Log:  observation.Log{Line: position.Line{System: "77", Number: 1}},
		Host: observation.Host{Address: observation.Address{Host: name, Port: 5432},
			DiskFreeBytes: observation.Known[int64](100 << 30)},
		Config: observation.Config{Settings: map[string]string{}, Facts: map[string]int64{}}}
	for k, v := range good {
		o.Config.Settings[k] = v
	}
	o.Synchronous = &observation.Synchronous{}
	if role == observation.Primary {
		o.Log.Written, o.Guard = "0/2000000", guard.State{Noted: 2, Accepted: 2, Owner: true}
	} else {
		o.Log.Applied, o.Log.Received, o.Log.ProvenTerm = "0/2000000", "0/2000000", 2
		o.Links.Upstream = &observation.Upstream{Host: "gull", Port: 5432, Connected: true, As: name}
	}
	return o
}

func input(r operation.Request, change func(in *Input, members []view.Member)) Input {
	var members []view.Member
	for i, n := range []string{"gull", "tern", "heron"} {
		role := observation.Replica
		if i == 0 {
			role = observation.Primary
		}
		members = append(members, view.Member{Member: cluster.Member{Name: n, Placement: cluster.Placement{Rank: (i + 1) % 3},
			Agent: n + ":7720", Enrolled: true}, SeenAt: now, Last: observed(n, role)})
	}
	in := Input{Request: r, NextTerm: 3}
	if change != nil {
		change(&in, members)
	}
	return assessed(in, "bookings", position.EnginePostgres, "gull", members)
}

// assessed adds what is seen of a cluster whose primary owns term 2.
func assessed(in Input, name, engine, owner string, members []view.Member) Input {
	in.Members = members
	policy := cluster.DefaultPolicy()
	var promised []synchronous.List
	if in.View.Synchronous != nil { // what a case changes of the records
		policy.Synchronous, promised = in.View.Policy.Synchronous, in.View.Synchronous.Promised
	}
	in.View = view.Assess(view.Input{Cluster: name, Engine: engine, Term: 2, OwnerTerm: 2,
		Owner: owner, Policy: policy, Members: members, Now: now, Promised: promised})
	return in
}

func dead(o *observation.Server) {
	o.Process.Running, o.Process.Accepting, o.Process.Role, o.Process.Writable, o.Data.State = false, false, "", false,
		"in production"
}

func examined(change func(x *verb.Examination)) *verb.Examination {
	x := &verb.Examination{Line: position.Line{System: "77", Number: 1}, System: "77", End: "0/2000100", Fork: "0/2000000",
		ForkLine: 1, Kinship: string(position.Kin), TailBytes: 0x100, Rewindable: true, State: "in production"}
	if change != nil {
		change(x)
	}
	return x
}

func asks(m synchronous.Mode) operation.Request {
	return operation.Request{Kind: operation.Synchronize, Synchronous: &synchronous.Setting{Mode: m}}
}

// ranked gives both replicas a rank.
func ranked(_ *Input, m []view.Member) { m[2].Rank = 3 }

// mode has commits wait for one of both replicas, which is promised.
func mode(mode synchronous.Mode) func(*Input, []view.Member) {
	return func(in *Input, m []view.Member) {
		ranked(in, m)
		list := synchronous.List{Need: 1, Names: []string{"heron", "tern"}}
		m[0].Last.Synchronous = &observation.Synchronous{Set: list, Value: "ANY", Live: true, ProvenAt: "0/1F00000"}
		in.View.Policy.Synchronous.Mode = mode
		in.View.Synchronous = &view.Synchronous{Promised: []synchronous.List{list}}
	}
}

// Each case says what must come of a request: refused with these words, or a
// plan with these steps in this order.
func TestMake(t *testing.T) {
	type members = []view.Member
	for _, c := range []struct {
		name    string
		r       operation.Request
		change  func(in *Input, m members)
		wrong   string // an error: the request makes no sense
		refused string
		steps   string
	}{
		{name: "switchover", r: operation.Request{Kind: operation.Switchover},
			steps: "open-term make-slots stage-old checkpoint-old caught-up stop-old prove decide promote! decide-open " +
				"mark-term " +
				"detach-new follow-heron checkpoint-new start-old streams-heron streams-gull drop-slots-heron drop-slots-gull " +
				"mark mark-on-heron mark-on-gull"},
		{name: "switchover, commits wait", r: operation.Request{Kind: operation.Switchover}, change: mode(synchronous.One),
			steps: "open-term make-slots stage-old checkpoint-old follow-early-heron promise-both synchronize-new caught-up " +
				"stop-old prove decide promote! decide-open mark-term " +
				"detach-new follow-heron checkpoint-new start-old streams-heron streams-gull drop-slots-heron drop-slots-gull " +
				"mark mark-on-heron mark-on-gull"},
		{name: "failover, commits waited", r: operation.Request{Kind: operation.Failover},
			change: func(in *Input, m members) { mode(synchronous.One)(in, m); dead(m[0].Last) },
			steps: "open-term fence-old detach fetch-heron detach-again make-slots promise-both synchronize-new decide " +
				"promote! " +
				"decide-open mark-term"},
		{name: "synchronize", r: asks(synchronous.One), change: ranked,
			steps: "time-before synchronize held promise time-after"},
		{name: "synchronize, over to most", r: asks(synchronous.Most), change: func(in *Input, m members) {
			mode(synchronous.One)(in, m)
			m[0].Last.Synchronous.Set.Names = []string{"tern"}
			in.View.Synchronous = &view.Synchronous{Promised: []synchronous.List{{Need: 1, Names: []string{"tern"}}}}
		}, steps: "time-before promise-both synchronize held promise time-after"},
		{name: "synchronize, off", r: asks(synchronous.None), change: mode(synchronous.One),
			steps: "time-before promise synchronize time-after"},
		{name: "synchronize, off while commits hang", r: asks(synchronous.None), change: func(in *Input, m members) {
			mode(synchronous.One)(in, m)
			m[0].Last.Process.CommitWaits, m[1].Last.Log.Received, m[2].Last.Log.Received = 9, "0/1F00000", "0/1F00000"
		}, steps: "promise synchronize time-after"},
		{name: "synchronize, as it is", r: asks(synchronous.One), change: mode(synchronous.One), refused: "the mode is one"},
		{name: "synchronize, nobody in step", r: asks(synchronous.One), change: func(in *Input, m members) {
			m[1].Last.Links.Upstream.Connected = false
		}, refused: "in step with gull: none"},
		{name: "synchronize, two of one name", r: asks(synchronous.One), change: func(in *Input, m members) {
			ranked(in, m)
			m[1].Last.Links.Upstream.As, m[2].Last.Links.Upstream.As = "ferry", "ferry"
		}, refused: "heron and tern both connect as ferry"},
		{name: "synchronize, connected twice", r: asks(synchronous.One), change: func(in *Input, m members) {
			ranked(in, m)
			m[0].Last.Links.Downstreams = []observation.Downstream{{Name: "tern"}, {Name: "tern"}}
		}, refused: "2 replicas are connected to gull as tern"},
		{name: "synchronize, no name of its own", r: asks(synchronous.One), change: func(in *Input, m members) {
			m[1].Last.Links.Upstream.As = ""
		}, refused: "tern connects under no name of its own"},
		{name: "synchronize, to what", r: operation.Request{Kind: operation.Synchronize}, wrong: "which synchronous mode"},
		{name: "synchronize, to nonsense", r: asks("two"), wrong: "is none, one or most"},
		{name: "switchover to itself", r: operation.Request{Kind: operation.Switchover, To: "gull"},
			wrong: "is the primary of bookings already"},
		{name: "switchover to a stranger", r: operation.Request{Kind: operation.Switchover, To: "auk"},
			wrong: `has no server "auk"`},
		{name: "switchover to never", r: operation.Request{Kind: operation.Switchover, To: "heron"},
			refused: "its rank is never"},
		{name: "switchover, candidate behind", r: operation.Request{Kind: operation.Switchover},
			change: func(_ *Input, m members) { m[1].Last.Links.Upstream.Connected = false }, refused: "may take over"},
		{name: "switchover, primary dead", r: operation.Request{Kind: operation.Switchover},
			change: func(_ *Input, m members) { dead(m[0].Last) }, refused: "crosstwin failover bookings"},
		{name: "switchover, limits too low", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[1].Last.Config.Settings["max_connections"] = "50" },
			refused: "max_connections is 50"},
		{name: "switchover, first write would hang", r: operation.Request{Kind: operation.Switchover},
			change: func(_ *Input, m members) {
				m[1].Last.Config.Settings["synchronous_standby_names"], m[1].Last.Synchronous.ByHand = "*", true
			},
			refused: "synchronous_standby_names"},
		{name: "switchover, no way back", r: operation.Request{Kind: operation.Switchover},
			change: func(in *Input, _ members) {
				in.Probes = []Probe{{"gull", "tern", verb.Probed{Problem: "no pg_hba.conf entry"}}}
			}, refused: "gull cannot follow tern: no pg_hba.conf entry"},
		{name: "switchover, busy", r: operation.Request{Kind: operation.Switchover},
			change:  func(in *Input, _ members) { in.Busy = &view.Running{ID: 7, Kind: operation.Seed} },
			refused: "operation 7 (seed) is under way"},
		{name: "failover, dead", r: operation.Request{Kind: operation.Failover},
			change: func(_ *Input, m members) { dead(m[0].Last) },
			steps: "open-term fence-old detach fetch-heron detach-again make-slots decide promote! " +
				"decide-open mark-term"},
		{name: "failover, unseen", r: operation.Request{Kind: operation.Failover},
			change: func(_ *Input, m members) { m[0].Problem = "connection refused" }, refused: "--confirm-stopped gull"},
		{name: "failover, unseen and vouched for",
			r:      operation.Request{Kind: operation.Failover, ConfirmStopped: []string{"gull"}},
			change: func(_ *Input, m members) { m[0].Problem = "connection refused" },
			steps:  "open-term detach fetch-heron detach-again make-slots decide promote!"},
		{name: "failover, vouched for and still feeding",
			r: operation.Request{Kind: operation.Failover, ConfirmStopped: []string{"gull"}}, change: func(_ *Input, m members) {
				m[0].Problem, m[2].Last.Links.Upstream.IdleSeconds = "connection refused", 0.4
			}, refused: "heron received from gull 400 ms ago"},
		{name: "failover, vouched for and answering",
			r: operation.Request{Kind: operation.Failover, ConfirmStopped: []string{"gull"}},
			change: func(in *Input, m members) {
				m[0].Problem = "connection refused"
				in.Probes = []Probe{{"tern", "gull", verb.Probed{OK: true}}}
			}, refused: "gull answers a login from tern"},
		{name: "failover, vouched for and refusing a login",
			r: operation.Request{Kind: operation.Failover, ConfirmStopped: []string{"gull"}},
			change: func(in *Input, m members) {
				m[0].Problem = "connection refused"
				in.Probes = []Probe{{"tern", "gull", verb.Probed{Answered: true, Problem: "password authentication failed"}}}
			}, refused: "gull answers a login from tern"},
		{name: "failover, the only candidate is not proven", r: operation.Request{Kind: operation.Failover},
			change:  func(_ *Input, m members) { dead(m[0].Last); m[1].Last.Log.ProvenTerm = 0 },
			refused: "it has not been proven to share gull's history; to choose it nevertheless, ask for it: --to tern"},
		{name: "failover to one that is not proven", r: operation.Request{Kind: operation.Failover, To: "tern"},
			change: func(_ *Input, m members) { dead(m[0].Last); m[1].Last.Log.ProvenTerm = 1 },
			steps:  "open-term fence-old detach fetch-heron detach-again make-slots decide promote!"},
		{name: "failover, nothing is fetched from one that is not proven", r: operation.Request{Kind: operation.Failover},
			change: func(_ *Input, m members) {
				dead(m[0].Last)
				m[2].Last.Log.ProvenTerm, m[2].Last.Log.Received = 0, "9/0"
			}, steps: "open-term fence-old detach decide promote! decide-open mark-term detach-new checkpoint-new mark"},
		{name: "switchover to one that is not proven", r: operation.Request{Kind: operation.Switchover},
			change:  func(_ *Input, m members) { m[1].Last.Log.ProvenTerm = 0 },
			refused: "it has not been proven to share gull's history"},
		{name: "failover to a foreign server", r: operation.Request{Kind: operation.Failover, To: "tern"},
			change:  func(_ *Input, m members) { dead(m[0].Last); m[1].Last.Data.Foreign = true },
			refused: "tern may not take over"},
		{name: "failover, a stopped applier is left out", r: operation.Request{Kind: operation.Failover},
			change: func(_ *Input, m members) {
				dead(m[0].Last)
				m[2].Last.Links.Upstream.ApplierProblem = "error 1062"
			}, steps: "open-term fence-old detach decide promote! decide-open mark-term detach-new checkpoint-new mark"},
		{name: "failover of a living primary", r: operation.Request{Kind: operation.Failover},
			steps: "open-term fence-old detach fetch-heron detach-again whole make-slots decide promote!"},
		{name: "failover, start again on a disk that went back", r: operation.Request{Kind: operation.Failover, To: "gull"},
			change: func(in *Input, m members) {
				dead(m[0].Last)
				in.Examination = examined(func(x *verb.Examination) { x.End = "0/1FFFF00" })
			}, refused: "gull's disk has lost writes"},
		{name: "failover, start again beside an earlier primary's tail",
			r: operation.Request{Kind: operation.Failover, To: "gull"},
			change: func(in *Input, m members) {
				dead(m[0].Last)
				in.Examination = examined(func(x *verb.Examination) { x.Line.Number = 2 })
				m[2].Last.Log.Line.Number, m[2].Last.Log.Received, m[2].Last.Log.ProvenTerm = 1, "9/0", 0
			}, steps: "open-term settle decide open! decide-open mark-term"},
		{name: "failover, start again of a replica's data", r: operation.Request{Kind: operation.Failover, To: "gull"},
			change: func(in *Input, m members) {
				dead(m[0].Last)
				m[0].Last.Data.State = "shut down in recovery"
				in.Examination = examined(nil)
			}, steps: "open-term start-candidate decide promote! decide-open mark-term"},
		{name: "failover, start again", r: operation.Request{Kind: operation.Failover, To: "gull"},
			change: func(in *Input, m members) { dead(m[0].Last); in.Examination = examined(nil) },
			steps:  "open-term settle decide open! decide-open mark-term"},
		{name: "failover, the only candidate is stopped", r: operation.Request{Kind: operation.Failover},
			change: func(_ *Input, m members) { dead(m[0].Last); dead(m[1].Last) }, refused: "may take over"},
		{name: "failover to a stopped one", r: operation.Request{Kind: operation.Failover, To: "tern"},
			change: func(_ *Input, m members) {
				dead(m[0].Last)
				dead(m[1].Last)
				m[1].Last.Log.Applied, m[1].Last.Log.Received = "", ""
			}, steps: "open-term fence-old start-candidate detach fetch-heron detach-again make-slots " +
				"decide promote!"},
		{name: "failover to a stopped one of rank never", r: operation.Request{Kind: operation.Failover, To: "heron"},
			change: func(_ *Input, m members) { dead(m[0].Last); dead(m[2].Last) }, refused: "may not take over"},
		{name: "failover, start what runs", r: operation.Request{Kind: operation.Failover, To: "gull"},
			refused: "takes writes: there is nothing to do"},
		{name: "seed over data", r: operation.Request{Kind: operation.Seed, Server: "tern"}, refused: "not empty"},
		{name: "seed the primary", r: operation.Request{Kind: operation.Seed, Server: "gull"},
			wrong: "only a replica can be seeded"},
		{name: "seed an empty one", r: operation.Request{Kind: operation.Seed, Server: "tern"},
			change: func(_ *Input, m members) {
				m[1].Last = &observation.Server{At: now, Data: observation.Data{Empty: true},
					Process: observation.Process{MajorVersion: 15},
					Host:    observation.Host{DiskFreeBytes: observation.Known[int64](10 << 30), Address: m[1].Last.Host.Address}}
			}, steps: "prepare prepare-heron make-slot copy verify start catch-up drop-slots-tern mark mark-on-tern"},
		{name: "seed, disk full", r: operation.Request{Kind: operation.Seed, Server: "tern"},
			change: func(_ *Input, m members) {
				m[1].Last = &observation.Server{At: now, Data: observation.Data{Empty: true},
					Process: observation.Process{MajorVersion: 15},
					Host:    observation.Host{DiskFreeBytes: observation.Known[int64](1 << 30), Address: m[1].Last.Host.Address}}
			}, refused: "the copy takes 1.0 GB"},
		{name: "seed, other version", r: operation.Request{Kind: operation.Seed, Server: "tern"},
			change: func(_ *Input, m members) {
				m[1].Last = &observation.Server{At: now, Data: observation.Data{Empty: true},
					Process: observation.Process{MajorVersion: 14, Version: "14"},
					Host:    observation.Host{DiskFreeBytes: observation.Known[int64](10 << 30), Address: m[1].Last.Host.Address}}
			}, refused: "has the programs of 14"},
		{name: "rejoin without a tail", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = examined(func(x *verb.Examination) { x.TailBytes, x.Fork = 0, x.End })
			}, steps: "prepare prepare-heron make-slot account follow start streams drop-slots-tern mark mark-on-tern"},
		{name: "rejoin with a tail", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) { dead(m[1].Last); in.Examination = examined(nil) },
			steps:  "settle salvage reread checkpoint prepare prepare-heron rewind! make-slot account follow start streams"},
		{name: "rejoin one that takes writes", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				m[1].Last = observed("tern", observation.Primary)
				in.Examination = examined(nil)
			}, steps: "close settle salvage reread checkpoint prepare prepare-heron rewind!"},
		{name: "rejoin, a tail cannot just follow",
			r:       operation.Request{Kind: operation.Rejoin, Server: "tern", Way: WayFollow},
			change:  func(in *Input, m members) { dead(m[1].Last); in.Examination = examined(nil) },
			refused: "follow is not possible"},
		{name: "rejoin, cannot be rewound", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = examined(func(x *verb.Examination) { x.Rewindable, x.WhyNot = false, "no checksums" })
			}, steps: "settle salvage reread prepare prepare-heron make-slot copy verify start catch-up"},
		{name: "rejoin, a tail that cannot be saved whole", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = examined(func(x *verb.Examination) {
					x.Tail = &tail.Tail{Transactions: []tail.Transaction{{ID: 7}, {ID: 9, Partial: true}}}
				})
			}, refused: "(transaction 9), and the log of tern does not reach back"},
		{name: "rejoin one that strayed", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = examined(func(x *verb.Examination) { x.Strayed, x.TailBytes, x.Fork = true, 0, x.End })
			}, steps: "prepare prepare-heron make-slot copy"},
		{name: "rejoin one that strayed by following",
			r: operation.Request{Kind: operation.Rejoin, Server: "tern", Way: WayFollow}, change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = examined(func(x *verb.Examination) { x.Strayed, x.TailBytes, x.Fork = true, 0, x.End })
			}, refused: "it was open for writes without right"},
		{name: "rejoin, unproven kin", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				dead(m[1].Last)
				in.Examination = examined(func(x *verb.Examination) {
					x.Kinship, x.TailBytes, x.Fork, x.Rewindable = string(position.Unknown), 0, "", false
				})
			}, steps: "prepare prepare-heron make-slot copy"},
		{name: "rejoin after an interrupted rewind", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				m[1].Last = &observation.Server{At: now, Data: observation.Data{Unfinished: "rewind"},
					Process: observation.Process{MajorVersion: 15}, Host: observation.Host{Address: m[1].Last.Host.Address}}
				in.Examination = &verb.Examination{System: "77", Unfinished: "rewind", Rewindable: true}
			}, steps: "checkpoint prepare prepare-heron rewind! make-slot"},
		{name: "rejoin another cluster's copy", r: operation.Request{Kind: operation.Rejoin, Server: "tern"},
			change: func(in *Input, m members) {
				m[1].Last.Data.System = "78"
				in.Examination = examined(func(x *verb.Examination) {
					x.System, x.Kinship, x.Rewindable, x.Fork = "78", string(position.Stranger), false, ""
				})
			}, refused: "copy of another cluster"},
		{name: "rejoin by a way that is none", r: operation.Request{Kind: operation.Rejoin, Server: "tern", Way: "force"},
			wrong: `no way "force"`},
		{name: "rejoin the primary", r: operation.Request{Kind: operation.Rejoin, Server: "gull"},
			wrong: "nothing to rejoin"},
		{name: "compare", r: operation.Request{Kind: operation.Compare},
			steps: "in-step hold view-tern view-heron release sums-gull sums-tern sums-heron judge close-gull"},
		{name: "unknown kind", r: operation.Request{Kind: "force"}, wrong: `no operation "force"`},
	} {
		expect(t, c.name, input(c.r, c.change), c.wrong, c.refused, c.steps)
	}
}

// expect makes a plan and holds it against what must come of it. The plan is
// nil where the request makes no sense.
func expect(t *testing.T, name string, in Input, wrong, refused, steps string) *operation.Plan {
	t.Helper()
	p, err := Make(in)
	if wrong != "" {
		if err == nil || !strings.Contains(err.Error(), wrong) {
			t.Errorf("%s: %v, want an error with %q", name, err, wrong)
		}
		return nil
	}
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return nil
	}
	why, no := p.Refused()
	if no != (refused != "") || !strings.Contains(why, refused) {
		t.Errorf("%s: refused %t: %s", name, no, why)
	}
	if got := stepNames(p); !strings.HasPrefix(got, steps) {
		t.Errorf("%s: steps\n%s, want\n%s", name, got, steps)
	}
	holdsTogether(t, name, p)
	return p
}

func stepNames(p *operation.Plan) string {
	var names []string
	for i, s := range p.Steps {
		n := s.Name
		if i == p.NoReturnStep() {
			n += "!"
		}
		names = append(names, n)
	}
	return strings.Join(names, " ")
}

// holdsTogether checks what must be true of every plan.
func holdsTogether(t *testing.T, name string, p *operation.Plan) {
	t.Helper()
	if err := p.Validate(); err != nil {
		t.Errorf("%s: %v", name, err)
	}
	for _, s := range p.Steps {
		if s.Call.IsZero() && len(s.After) == 0 || s.Title == "" || s.IfFails == "" {
			t.Errorf("%s: step %s does nothing, or does not say what it does", name, s.Name)
		}
	}
	for _, c := range p.Checks {
		if c.Evidence == "" || c.Result == operation.Fail && c.Mend == "" && !strings.Contains(c.Evidence, "nothing to do") {
			t.Errorf("%s: check %q has no evidence, or fails without a way to mend it", name, c.Name)
		}
	}
	for _, w := range p.Ways {
		if w.Why == "" {
			t.Errorf("%s: the way %s (possible: %v) has no reason", name, w.Name, w.Possible)
		}
	}
	if p.Destroys != "" && p.ConfirmName == "" {
		t.Errorf("%s: it destroys %s and asks for no name", name, p.Destroys)
	}
}

// Nobody writes on two servers: in every plan that promotes, the old primary
// is stopped, or vouched for, before the promotion.
func TestOldPrimaryStopsFirst(t *testing.T) {
	for _, r := range []operation.Request{{Kind: operation.Switchover}, {Kind: operation.Failover}} {
		p, err := Make(input(r, nil))
		if err != nil {
			t.Fatal(err)
		}
		stopped := false
		for _, s := range p.Steps {
			for _, c := range s.After {
				sees := c.Kind == operation.IsStopped || c.Kind == operation.AcknowledgesNothing
				stopped = stopped || sees && c.Server == "gull"
			}
			if s.Call == verb.Seal(verb.Promote{Server: "tern"}) && !stopped {
				t.Errorf("%s promotes before gull is seen stopped", r.Kind)
			}
		}
		if !stopped {
			t.Errorf("%s never sees gull stopped", r.Kind)
		}
	}
}

// The proof of a switchover is strict: a candidate at the very position of the
// last record lacks that record.
func TestHoldsAllIsStrict(t *testing.T) {
	old := &observation.Server{Data: observation.Data{State: "shut down"}, Log: observation.Log{ShutdownAt: "0/2000000"}}
	for applied, want := range map[string]bool{"0/1FFFFFF": false, "0/2000000": false, "0/2000078": true, "": false} {
		obs := map[string]*observation.Server{"gull": old, "tern": {Log: observation.Log{Applied: applied}}}
		if got, _ := (operation.Condition{Kind: operation.HoldsAll, Server: "tern",
			Other: "gull"}).Holds(position.EnginePostgres, obs); got != want {
			t.Errorf("applied %q: %t", applied, got)
		}
	}
	if ok, _ := (operation.Condition{Kind: operation.HoldsAll, Server: "tern",
		Other: "gull"}).Holds(position.EnginePostgres,
		map[string]*observation.Server{"gull": {}, "tern": {Log: observation.Log{Applied: "0/9"}}}); ok {
		t.Error("proven without an orderly stop")
	}
}

// "The same" is said of what was compared; whoever was left out is named.
func TestCompareNamesWhatItLeavesOut(t *testing.T) {
	p, err := Make(input(operation.Request{Kind: operation.Compare}, func(_ *Input, m []view.Member) {
		m[2].Last = observed("heron", observation.Primary)
	}))
	if err != nil {
		t.Fatal(err)
	}
	if want := "all compared tables match on gull and tern; left out: heron (it is adrift)"; p.Closing != want {
		t.Errorf("%q, want %q", p.Closing, want)
	}
	if strings.Contains(stepNames(p), "heron") {
		t.Error("it was compared as well")
	}
}
