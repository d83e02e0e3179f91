package plan

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// files are four of a MariaDB log, ten transactions each, the last being written.
func files() []tail.LogFile {
	out := []tail.LogFile{}
	for i, from := range []string{"1-11-60", "1-11-70", "1-11-80", "1-11-90"} {
		out = append(out, tail.LogFile{Name: "cargo-bin.00000" + string(rune('1'+i)), Bytes: 1 << 20,
			ChangedAt: now.Add(-time.Duration(4-i) * time.Hour), From: from})
		if i > 0 {
			out[i-1].To = from
		}
	}
	return out
}

// fenced makes plover one that does not run, with a log that ends so and a newest
// mark there.
func fenced(state, mark string) func(in *Input, m []view.Member) {
	return func(_ *Input, m []view.Member) {
		o := m[1].Last
		o.Process.Running, o.Process.Accepting, o.Process.Role, o.Process.Fenced, o.Log.Applied, o.Log.Received,
			o.Log.GTIDState, o.Log.KinAt = false, false, "", true, "", "", state, mark
	}
}

// What an absent, a fenced or an unknown server may need stays, whatever is
// asked for.
func TestTrim(t *testing.T) {
	stands := func(server int, at string) func(in *Input, m []view.Member) {
		return func(_ *Input, m []view.Member) {
			m[server].Last.Log.Applied, m[server].Last.Log.Received = at, at
		}
	}
	for name, c := range map[string]struct {
		ask     operation.TrimRequest
		change  func(in *Input, m []view.Member)
		keeps   string // the oldest file that stays
		refused string
		warns   string
	}{
		"all that nobody needs":   {operation.TrimRequest{}, nil, "cargo-bin.000004", "", ""},
		"up to a file":            {operation.TrimRequest{To: "cargo-bin.000003"}, nil, "cargo-bin.000003", "", ""},
		"older than":              {operation.TrimRequest{OlderHours: 2.5}, nil, "cargo-bin.000003", "", ""},
		"keeping a size":          {operation.TrimRequest{KeepBytes: 3 << 20}, nil, "cargo-bin.000002", "", ""},
		"the newest always stays": {operation.TrimRequest{KeepBytes: 10}, nil, "cargo-bin.000004", "", ""},
		"nothing that old":        {operation.TrimRequest{OlderHours: 100}, nil, "", "no file is to go", ""},
		"a replica behind": {operation.TrimRequest{}, stands(1, "1-11-75"), "cargo-bin.000002", "",
			"cargo-bin.000002 is still needed by plover"},
		"one far behind": {operation.TrimRequest{}, stands(2, "1-11-20"), "",
			"the oldest file, cargo-bin.000001, is still needed by dunlin", ""},
		"exactly at a file's end": {operation.TrimRequest{}, stands(1, "1-11-80"), "cargo-bin.000003", "", ""},
		"behind, and less asked for": {operation.TrimRequest{To: "cargo-bin.000002"}, stands(1, "1-11-75"),
			"cargo-bin.000002", "", ""},
		"unseen counts by its newest mark": {operation.TrimRequest{}, func(_ *Input, m []view.Member) {
			m[2].SeenAt, m[2].Problem = now.Add(-72*time.Hour), "no route to host"
			m[2].Last.Log.Applied, m[2].Last.Log.KinAt = "1-11-95", "1-11-75"
		}, "cargo-bin.000002", "", "needed by dunlin"},
		"fenced counts by its newest mark": {operation.TrimRequest{}, fenced("1-11-95", "1-11-85"), "cargo-bin.000003", "",
			"needed by plover"},
		"stalled counts by what it applied": {operation.TrimRequest{}, func(_ *Input, m []view.Member) {
			m[1].Last.Links.Upstream.Connected, m[1].Last.Log.Applied, m[1].Last.Log.KinAt = false, "1-11-85", "1-11-75"
		}, "cargo-bin.000003", "", "needed by plover"},
		"refused by the primary counts by its newest mark": {operation.TrimRequest{}, func(_ *Input, m []view.Member) {
			m[1].Last.Links.Upstream.Refused = true
			m[1].Last.Links.Upstream.Connected, m[1].Last.Links.Upstream.Problem = false,
				"error 1236: the GTID is not in the master's binlog"
			m[1].Last.Log.Applied, m[1].Last.Log.KinAt = "1-11-95", "1-11-75"
		}, "cargo-bin.000002", "", "needed by plover"},
		// Its tail used the numbers up to 105 again: by them it would seem to have it all.
		"fenced with a tail counts by its mark": {operation.TrimRequest{}, fenced("1-13-105", "1-11-72"), "",
			"plover (from where on is not known)", ""},
		"a tail after a fork that is known": {operation.TrimRequest{}, func(in *Input, m []view.Member) {
			fenced("1-11-105", "1-11-72")(in, m)
			m[0].Last.Log.GTIDState = "1-11-80,1-12-100"
		}, "cargo-bin.000002", "", "needed by plover"},
		"its newest mark is in its own tail": {operation.TrimRequest{}, func(in *Input, m []view.Member) {
			fenced("1-11-105", "1-11-95")(in, m)
			m[0].Last.Log.GTIDState = "1-11-80,1-12-100"
		}, "", "plover (from where on is not known)", ""},
		"fenced, and no mark is known": {operation.TrimRequest{}, fenced("1-11-95", ""), "",
			"plover (from where on is not known)", ""},
		"never seen needs everything": {operation.TrimRequest{}, func(_ *Input, m []view.Member) { m[2].Last = nil }, "",
			"dunlin (from where on is not known)", ""},
		"half copied needs everything": {operation.TrimRequest{}, func(_ *Input, m []view.Member) {
			m[2].Last.Data.Unfinished = "seed"
		}, "", "from where on is not known", ""},
		"empty needs nothing": {operation.TrimRequest{}, func(_ *Input, m []view.Member) {
			m[2].Last = &observation.Server{At: now, Data: observation.Data{Empty: true}, Engine: position.EngineMariaDB}
		}, "cargo-bin.000004", "", ""},
	} {
		in := cargo(operation.Request{Kind: operation.Trim, Trim: &c.ask}, func(in *Input, m []view.Member) {
			in.LogFiles = files()
			if c.change != nil {
				c.change(in, m)
			}
		})
		p, err := Make(in)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		reason, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(reason, c.refused) {
			t.Errorf("%s: refused %t %q, want %q", name, refused, reason, c.refused)
		}
		if refused {
			continue
		}
		last := p.Steps[len(p.Steps)-1]
		if got := last.Call.Call.(verb.Trim).To; got != c.keeps || !last.NoReturn ||
			last.After[0].Kind != operation.LogBegins {
			t.Errorf("%s: %s is kept, want %s", name, got, c.keeps)
		}
		warned := ""
		for _, x := range p.Checks {
			if x.Result == operation.Warn {
				warned += x.Evidence
			}
		}
		if !strings.Contains(warned, c.warns) {
			t.Errorf("%s: the warning is %q, want %q", name, warned, c.warns)
		}
	}
	in := cargo(operation.Request{Kind: operation.Trim}, func(in *Input, _ []view.Member) { in.LogFiles = files() })
	if p, err := Make(in); err != nil || stepNames(p) != "mark mark-on-plover mark-on-dunlin trim!" {
		t.Errorf("%v %s", err, stepNames(p))
	}
	for name, r := range map[string]operation.TrimRequest{"two ways": {To: "cargo-bin.000002", KeepBytes: 5},
		"no such file": {To: "cargo-bin.000099"}} {
		in := cargo(operation.Request{Kind: operation.Trim, Trim: &r},
			func(in *Input, _ []view.Member) { in.LogFiles = files() })
		if _, err := Make(in); err == nil {
			t.Errorf("%s: a plan was made", name)
		}
	}
}

func TestTrimByTheServer(t *testing.T) {
	in := input(operation.Request{Kind: operation.Trim}, func(_ *Input, m []view.Member) {
		m[0].Last.Links.Slots = []observation.Slot{{Name: "ct_tern", Ours: true, KeptBytes: 5 << 20}}
		m[0].Last.Config.Live = map[string]string{"wal_keep_size": "256MB"}
	})
	p, err := Make(in)
	if err != nil || stepNames(p) != "trim" {
		t.Fatalf("%v %s", err, stepNames(p))
	}
	c := p.Checks[len(p.Checks)-1]
	if c.Result != operation.Warn || !strings.Contains(c.Evidence,
		"slot ct_tern keeps 5.0 MB; wal_keep_size keeps 256MB") {
		t.Errorf("%+v", c)
	}
	after := p.Steps[0].After[0]
	for redo, want := range map[string]bool{after.Values[0]: true, "0/100": false, "": false} {
		if ok, seen := after.Holds(in.View.Engine,
			map[string]*observation.Server{"gull": {Data: observation.Data{Redo: redo}}}); ok != want {
			t.Errorf("a checkpoint at %q: %s", redo, seen)
		}
	}
	if _, err := Make(input(operation.Request{Kind: operation.Trim, Trim: &operation.TrimRequest{OlderHours: 2}},
		nil)); err == nil || !strings.Contains(err.Error(), "removes log by itself") {
		t.Errorf("by age: %v", err)
	}
}

// Needs of a PostgreSQL log: by position, and by slots that are not ours.
func TestNeeds(t *testing.T) {
	segments := []tail.LogFile{{Name: "A", From: "0/1000000", To: "0/2000000"},
		{Name: "B", From: "0/2000000", To: "0/3000000"}, {Name: "C", From: "0/3000000"},
		{Name: "D", From: "0/4000000", Ahead: true}}
	in := input(operation.Request{}, func(_ *Input, m []view.Member) {
		m[0].Last.Links.Slots = []observation.Slot{{Name: "archive", Restart: "0/1800000"},
			{Name: "ct_heron", Ours: true, Restart: "0/1000000"}}
		m[1].Last.Log.Applied = "0/2400000"
		m[2].Last.Log.Applied = "0/3100000"
	})
	got := Needs(&in.View, segments, in.Members)
	for i, want := range []string{"slot archive", "slot archive, tern", "it is being written", ""} {
		if have := strings.Join(got[i].NeededBy, ", "); have != want {
			t.Errorf("%s is needed by %q, want %q", got[i].Name, have, want)
		}
	}
	if len(segments[0].NeededBy) > 0 {
		t.Error("the caller's own list was changed")
	}
}

func TestSet(t *testing.T) {
	live := func(_ *Input, m []view.Member) {
		for i := range m {
			m[i].Last.Config.Live = map[string]string{"max_standby_streaming_delay": "30s", verb.Delay: "0"}
		}
	}
	for name, c := range map[string]struct {
		r       operation.Request
		change  func(in *Input, m []view.Member)
		wrong   string
		refused string
		undo    string
	}{
		"a delay of replay": {operation.Request{Server: "tern", Setting: "max_standby_streaming_delay", Value: "5min"},
			nil, "", "", "30s"},
		"as it is": {operation.Request{Server: "tern", Setting: "max_standby_streaming_delay", Value: "30s"},
			nil, "", "max_standby_streaming_delay is 30s now", ""},
		"unknown": {operation.Request{Server: "tern", Setting: "fsync", Value: "off"}, nil,
			`"fsync" is not a setting that is changed here`, "", ""},
		"nowhere": {operation.Request{Setting: verb.Delay, Value: "5"}, nil, "on which server", "", ""},
		"to nothing": {operation.Request{Server: "tern", Setting: verb.Delay}, nil, "to what is delay to be set",
			"", ""},
		"held back": {operation.Request{Server: "heron", Setting: verb.Delay, Value: "3600"}, nil, "", "", "0"},
		"not a number": {operation.Request{Server: "heron", Setting: verb.Delay, Value: "an hour"}, nil, "",
			"an hour", ""},
		"the primary": {operation.Request{Server: "gull", Setting: verb.Delay, Value: "60"}, nil, "",
			"gull is primary", ""},
		"one that does not run": {operation.Request{Server: "tern", Setting: verb.Delay, Value: "60"},
			func(_ *Input, m []view.Member) { dead(m[1].Last) }, "", "tern does not answer", ""},
	} {
		c.r.Kind = operation.Set
		p, err := Make(input(c.r, func(in *Input, m []view.Member) {
			live(in, m)
			if c.change != nil {
				c.change(in, m)
			}
		}))
		if (err != nil) != (c.wrong != "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %v, want %q", name, err, c.wrong)
		}
		if err != nil {
			continue
		}
		reason, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(reason, c.refused) {
			t.Errorf("%s: refused %t %q, want %q", name, refused, reason, c.refused)
		}
		if !refused && p.Steps[0].Undo[0].Call.Call.(verb.Set).Value != c.undo {
			t.Errorf("%s: put back to %+v, want %s", name, p.Steps[0].Undo[0].Call, c.undo)
		}
	}
}

// A change that stops applying for a moment is done when the replica follows
// again, not when the server takes the value.
func TestSetRestartsApplying(t *testing.T) {
	live := func(paused bool) func(_ *Input, m []view.Member) {
		return func(_ *Input, m []view.Member) {
			for i := range m {
				m[i].Last.Config.Live = map[string]string{"slave_parallel_threads": "0"}
			}
			m[1].Last.Replay.Paused = paused
		}
	}
	ask := func(server string) operation.Request {
		return operation.Request{Kind: operation.Set, Server: server, Setting: "slave_parallel_threads", Value: "4"}
	}
	p, err := Make(cargo(ask("plover"), live(false)))
	if err != nil || len(p.Steps[0].After) != 2 || p.Steps[0].After[1].Kind != operation.Streams ||
		p.Steps[0].After[1].Other != "wren" {
		t.Errorf("%v %+v", err, p.Steps)
	}
	if p, err = Make(cargo(ask("wren"), live(false))); err != nil || len(p.Steps[0].After) != 1 {
		t.Errorf("the primary: %v %+v", err, p.Steps)
	}
	p, err = Make(cargo(ask("plover"), live(true)))
	if reason, refused := p.Refused(); err != nil || !refused ||
		!strings.Contains(reason, "applying is stopped on plover") {
		t.Errorf("%v %q", err, reason)
	}
}

// A restart keeps roles and term; a primary's is a pause, a replica's is not.
func TestRestart(t *testing.T) {
	for name, c := range map[string]struct {
		engine, server string
		change         func(in *Input, m []view.Member)
		refused, steps string
		pause          bool
	}{
		"the primary": {"postgresql", "gull", nil, "", "checkpoint stop open streams-tern streams-heron", true},
		"a replica":   {"postgresql", "tern", nil, "", "stop start streams mark mark-on-tern", false},
		"MariaDB":     {"mariadb", "wren", nil, "", "stop open streams-plover streams-dunlin", true},
		"its replica": {"mariadb", "plover", nil, "", "stop start follow streams mark mark-on-plover", false},
		"one that is stopped": {"postgresql", "tern", func(_ *Input, m []view.Member) { dead(m[1].Last) }, "tern is stopped",
			"", false},
		"one without reads": {"postgresql", "tern", func(_ *Input, m []view.Member) {
			m[1].Last.Process.Accepting, m[1].Last.Process.NoReads = false, true
		}, "", "stop start streams mark mark-on-tern", false},
		"one that hangs": {"postgresql", "tern", func(_ *Input, m []view.Member) { m[1].Last.Process.Accepting = false },
			"tern is stalled", "", false},
		"a term in dispute": {"postgresql", "gull", nil, "gull owns term", "", false},
	} {
		make := input
		if c.engine == "mariadb" {
			make = cargo
		}
		in := make(operation.Request{Kind: operation.Restart, Server: c.server}, c.change)
		if name == "a term in dispute" {
			in.View.Term++
		}
		p, err := Make(in)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		why, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(why, c.refused) {
			t.Errorf("%s: refused %t: %q", name, refused, why)
		}
		var names []string
		for _, s := range p.Steps {
			names = append(names, s.Name)
		}
		if got := strings.Join(names, " "); c.steps != "" && (got != c.steps || (p.PauseSeconds > 0) != c.pause) {
			t.Errorf("%s: %s, pause %g", name, got, p.PauseSeconds)
		}
		if p.Opens() {
			t.Errorf("%s: it opens a term", name)
		}
	}
}

func TestRepoint(t *testing.T) {
	for name, c := range map[string]struct {
		server, to string
		change     func(in *Input, m []view.Member)
		wrong      string
		refused    string
		steps      string
	}{
		"a cascade":   {"heron", "tern", nil, "", "", "make-slot follow drop-slot mark mark-on-heron"},
		"the primary": {"gull", "tern", nil, "it follows no server", "", ""},
		"itself":      {"tern", "tern", nil, "name two servers", "", ""},
		"where it is": {"tern", "gull", nil, "", "tern follows gull", ""},
		"a circle": {"tern", "heron", func(_ *Input, m []view.Member) { m[2].Last.Links.Upstream.Host = "tern" }, "",
			"heron follows tern", ""},
		"to a stopped one": {"heron", "tern", func(_ *Input, m []view.Member) { dead(m[1].Last) }, "", "tern is stopped", ""},
		"held back for an hour": {"heron", "tern",
			func(_ *Input, m []view.Member) { m[2].Last.Links.Upstream.DelaySeconds = 3600 }, "", "",
			"make-slot follow drop-slot mark"},
	} {
		p, err := Make(input(operation.Request{Kind: operation.Follow, Server: c.server, To: c.to}, c.change))
		if (err != nil) != (c.wrong != "") || err != nil && !strings.Contains(err.Error(), c.wrong) {
			t.Errorf("%s: %v, want %q", name, err, c.wrong)
		}
		if err != nil {
			continue
		}
		reason, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(reason, c.refused) || !refused && stepNames(p) != c.steps {
			t.Errorf("%s: refused %t %q, steps %s", name, refused, reason, stepNames(p))
		}
	}
	// A role change neither waits for a replica that is held back nor takes it as
	// candidate, and a comparison leaves it out.
	held := func(i int) func(_ *Input, m []view.Member) {
		return func(_ *Input, m []view.Member) { m[i].Last.Links.Upstream.DelaySeconds = 3600 }
	}
	p, err := Make(input(operation.Request{Kind: operation.Switchover}, held(2)))
	if err != nil || strings.Contains(stepNames(p), "mark-on-heron") || !strings.Contains(stepNames(p), "mark-on-gull") {
		t.Errorf("%v %s", err, stepNames(p))
	}
	p, err = Make(input(operation.Request{Kind: operation.Switchover}, held(1)))
	if reason, refused := p.Refused(); err != nil || !refused ||
		!strings.Contains(reason, "tern is delayed by 1 h 0 min") {
		t.Errorf("%v %s", err, reason)
	}
	p, err = Make(input(operation.Request{Kind: operation.Compare}, held(2)))
	if err != nil || strings.Contains(stepNames(p), "heron") || !strings.Contains(stepNames(p), "view-tern") {
		t.Errorf("%v %s", err, stepNames(p))
	}
}
