package plan

import (
	"strings"
	"testing"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// unowned is a cluster that nobody has taken over yet.
func unowned(in Input, engine string) Input {
	for i := range in.Members {
		in.Members[i].Last.Guard, in.Members[i].Last.Log.ProvenTerm = guard.State{}, 0
	}
	in.NextTerm = 1
	in.View = view.Assess(view.Input{Cluster: in.View.Cluster, Engine: engine, Policy: in.View.Policy, Members: in.Members,
		Now: now})
	return in
}

// known has an agent that was told of a term before.
func known(in Input, server int) Input {
	in.Members[server].Last.Guard = guard.State{Noted: 1, Accepted: 1}
	return in
}

// What runs is taken over as it runs: the primary is the one that others follow, or the one
// that is named; who does not follow is left as it is; only a replica that follows by file
// and position is told anything, and only when its numbers are its upstream's.
func TestAdopt(t *testing.T) {
	request := operation.Request{Kind: operation.Adopt}
	named := func(name string) operation.Request { return operation.Request{Kind: operation.Adopt, Server: name} }
	alone := func(_ *Input, m []view.Member) {
		for _, x := range m[1:] {
			*x.Last = *observed(x.Name, observation.Primary)
			x.Last.Data.System = "other than " + x.Name
		}
	}
	byFile := func(change func(o *observation.Server)) func(*Input, []view.Member) {
		return func(_ *Input, m []view.Member) {
			o := m[1].Last
			o.Links.Upstream.ByPosition = true
			if change != nil {
				change(o)
			}
		}
	}
	const all = "open-term decide prepare prepare-tern prepare-heron account-tern account-heron mark mark-on-tern " +
		"mark-on-heron"
	for name, c := range map[string]struct {
		in                   Input
		wrong, refused, says string
		steps                string
	}{
		"a pair": {in: unowned(input(request, nil), "postgresql"), steps: all,
			says: "tern goes on following gull as it does"},
		"servers alone": {in: unowned(input(request, alone), "postgresql"),
			refused: "which server is the primary does not show"},
		"servers alone, one named": {in: unowned(input(named("gull"), alone), "postgresql"),
			steps: "open-term decide prepare", says: "crosstwin seed bookings tern --replace"},
		"a replica is named": {in: unowned(input(named("tern"), nil), "postgresql"),
			refused: "tern does not run as a primary: gull runs as primary"},
		"another than the primary is named": {in: input(named("tern"), nil),
			wrong: "crosstwin switchover bookings --to tern"},
		"once more": {in: input(request, nil), steps: strings.TrimPrefix(all, "open-term decide ")},
		"an upstream that nobody enrolled": {in: unowned(input(request, func(_ *Input, m []view.Member) {
			m[2].Last.Links.Upstream.Host = "10.0.0.77"
		}), "postgresql"), says: "heron follows 10.0.0.77:5432, which is no server of bookings by that address",
			steps: "open-term decide prepare prepare-tern prepare-heron account-tern mark mark-on-tern"},
		"a list that was set by hand": {in: unowned(input(request, func(_ *Input, m []view.Member) {
			m[0].Last.Synchronous = &observation.Synchronous{Value: "ANY 1 (ferry_1, ferry_2)", Need: 1, ByHand: true}
		}), "postgresql"), steps: all, says: "have it kept, when all is taken over: crosstwin cluster set bookings " +
			"--synchronous one"},
		"settings that a switchover refuses": {in: unowned(input(request, func(_ *Input, m []view.Member) {
			m[0].Last.Config.Settings["fsync"] = "off"
		}), "postgresql"), steps: all, says: "fsync"},
		"a clone that was promoted": {in: unowned(input(request, func(_ *Input, m []view.Member) {
			*m[2].Last = *observed("heron", observation.Primary)
		}), "postgresql"), says: "crosstwin seed bookings heron --replace",
			steps: "open-term decide prepare prepare-tern account-tern mark mark-on-tern"},
		"a clone that was promoted, known before": {in: known(unowned(input(request, func(_ *Input, m []view.Member) {
			*m[2].Last = *observed("heron", observation.Primary)
		}), "postgresql"), 2), refused: "heron runs open for writes, and its agent took it for a server of this cluster"},
		"a replica that is open": {in: unowned(cargo(request, func(_ *Input, m []view.Member) {
			m[2].Last.Process.Role, m[2].Last.Process.Writable = observation.Primary, true
		}), "mariadb"), says: "close it: set global read_only = 1, there and in its configuration file",
			steps: "open-term decide prepare prepare-plover account-plover mark mark-on-plover"},
		"one server id twice": {in: unowned(cargo(request, func(_ *Input, m []view.Member) {
			m[2].Last.Log.ServerID = m[1].Last.Log.ServerID
		}), "mariadb"), refused: "both have server id"},
		"one server id twice, on a server that is left": {in: unowned(cargo(request, func(_ *Input, m []view.Member) {
			m[2].Last.Log.ServerID, m[2].Last.Links.Upstream = m[1].Last.Log.ServerID, nil
		}), "mariadb"), says: "both have server id",
			steps: "open-term decide prepare prepare-plover prepare-dunlin account-plover mark mark-on-plover"},
		"one address twice": {in: unowned(input(request, func(_ *Input, m []view.Member) {
			m[2].Last.Host.Address = m[1].Last.Host.Address
		}), "postgresql"), refused: "both say they are at"},
		"a slot that nobody reads": {in: unowned(input(request, func(_ *Input, m []view.Member) {
			m[0].Last.Links.Slots = []observation.Slot{{Name: "mates_auk", KeptBytes: 7 << 20}}
		}), "postgresql"), steps: all, says: "select pg_drop_replication_slot('mates_auk')"},
		"by file and position": {in: unowned(cargo(request, byFile(nil)), "mariadb"),
			steps: "open-term decide prepare prepare-plover prepare-dunlin account-plover account-dunlin follow-plover " +
				"mark mark-on-plover mark-on-dunlin", says: "follows it by GTID from 1-11-100 on"},
		"by file and position, with writes of its own": {in: unowned(cargo(request, byFile(func(o *observation.Server) {
			o.Log.GTIDState = "1-11-100,1-12-40"
		})), "mariadb"), says: "plover follows wren and is adrift: it holds transactions up to 1-12-40",
			steps: "open-term decide prepare prepare-plover prepare-dunlin account-dunlin mark mark-on-dunlin"},
		"by file and position, without one domain": {in: unowned(cargo(request, func(in *Input, m []view.Member) {
			byFile(nil)(in, m)
			m[0].Last.Log.Written = "1-11-100,2-11-7"
		}), "mariadb"), says: "names no transaction of domain 2",
			steps: "open-term decide prepare prepare-plover prepare-dunlin account-dunlin mark mark-on-dunlin"},
	} {
		p, err := Make(c.in)
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		why, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(why, c.refused) {
			t.Errorf("%s: refused %q, not %q", name, why, c.refused)
		}
		if got := names(p); got != c.steps {
			t.Errorf("%s:\n%s, not\n%s", name, got, c.steps)
		}
		if c.says != "" && !strings.Contains(told(p), c.says) {
			t.Errorf("%s: it does not say %q: %s", name, c.says, told(p))
		}
		for _, s := range p.Steps {
			if s.OnFail == operation.Undo && s.Name != "open-term" {
				t.Errorf("%s: step %s undoes", name, s.Name)
			}
		}
	}
}

// told is all that a plan says of what it does and of what is not as it should be.
func told(p *operation.Plan) string {
	text := strings.Join(p.Effects, "\n")
	for _, c := range p.Checks {
		if c.Result != operation.Pass {
			text += "\n" + c.Evidence + " " + c.Mend
		}
	}
	return text
}

// A seed restarts a primary that lacks only what its agent sets at its next start, and
// refuses one that lacks more.
func TestSeedRestartsAPrimaryFirst(t *testing.T) {
	deaf := func(more map[string]string) func(*Input, []view.Member) {
		return func(_ *Input, m []view.Member) {
			c := &m[0].Last.Config
			c.Apart, c.Settings["log_bin"], c.Settings["bind_address"] = true, "OFF", "127.0.0.1"
			c.AtNextStart = map[string]string{"log_bin": "ON", "bind_address": "127.0.0.1,wren", "server_id": "77"}
			m[0].Last.Log.ServerID = m[1].Last.Log.ServerID
			m[1].Last.Data.Empty, m[1].Last.Process = true, observation.Process{Version: "10.11.19", MajorVersion: 1011}
			for k, v := range more {
				c.Settings[k] = v
			}
		}
	}
	seed := operation.Request{Kind: operation.Seed, Server: "plover"}
	p, err := Make(cargo(seed, deaf(nil)))
	if why, refused := p.Refused(); err != nil || refused {
		t.Fatal(err, why)
	}
	if got := names(p); !strings.HasPrefix(got, "stop open prepare ") || p.PauseSeconds == 0 ||
		!strings.Contains(told(p), "wren is restarted first and takes up bind_address = 127.0.0.1,wren; log_bin = ON") {
		t.Errorf("%s, a pause of %v: %s", got, p.PauseSeconds, told(p))
	}
	p, err = Make(cargo(seed, deaf(map[string]string{"gtid_strict_mode": "OFF"})))
	if why, refused := p.Refused(); err != nil || !refused || !strings.Contains(why, "log_bin is OFF") &&
		!strings.Contains(why, "wren listens at") {
		t.Errorf("%v %q", err, why)
	}
}

// A role change says what becomes of the old primary's slots that the new one does not have.
func TestRoleChangeNamesSlotsLeft(t *testing.T) {
	for _, kind := range []operation.Kind{operation.Switchover, operation.Failover} {
		p, err := Make(input(operation.Request{Kind: kind}, func(_ *Input, m []view.Member) {
			m[0].Last.Links.Slots = []observation.Slot{{Name: "ct_tern", Ours: true, Active: true},
				{Name: "mates_tern", Active: true}, {Name: "feed", Active: true, Database: "bookings"}}
			if kind == operation.Failover {
				dead(m[0].Last)
			}
		}))
		if err != nil {
			t.Fatal(err)
		}
		says := told(p)
		for _, want := range []string{"slot mates_tern of gull", "logical slot feed (database bookings) is on gull alone"} {
			if !strings.Contains(says, want) {
				t.Errorf("a %s does not say %q: %s", kind, want, says)
			}
		}
		if strings.Contains(says, "ct_tern") {
			t.Errorf("a %s says of our own slot: %s", kind, says)
		}
	}
}

// A switchover says whether the addresses for clients answer; it does not hang on them.
func TestAddressForClients(t *testing.T) {
	in := input(operation.Request{Kind: operation.Switchover}, nil)
	in.Reached = []Reached{{Server: "gull", Address: "db.example:6432"},
		{Server: "tern", Address: "db.example:6433", Problem: "connection refused"}}
	p, err := Make(in)
	if why, refused := p.Refused(); err != nil || refused {
		t.Fatal(err, why)
	}
	says := told(p)
	if !strings.Contains(says, "db.example:6433 is not reached from the service's host: connection refused") ||
		!strings.Contains(says, "crosstwin server set bookings tern --client-address") || strings.Contains(says, "6432") {
		t.Error(says)
	}
}
