package plan

import (
	"slices"
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// Each prerequisite is noticed by its own check, with the result it deserves,
// and nothing else changes.
func TestEachCheck(t *testing.T) {
	setting := func(server int, name, value string) func(*Input, []view.Member) {
		return func(_ *Input, m []view.Member) { m[server].Last.Config.Settings[name] = value }
	}
	fact := func(name string) func(*Input, []view.Member) {
		return func(_ *Input, m []view.Member) { m[1].Last.Config.Facts[name] = 1 }
	}
	type found struct{ name, server string }
	results := func(change func(*Input, []view.Member)) map[found]operation.Result {
		p, err := Checks(input(operation.Request{Kind: operation.Switchover}, change))
		if err != nil {
			t.Fatal(err)
		}
		out := map[found]operation.Result{}
		for _, c := range p.Checks {
			if k := (found{c.Name, c.Server}); out[k] == "" || c.Result == operation.Fail || c.Result == operation.Warn &&
				out[k] == operation.Pass {
				out[k] = c.Result
			}
			if c.Result != operation.Pass && (c.Why == "" || c.Mend == "" || c.Evidence == "") {
				t.Errorf("%s of %s: no reason or no way to mend it: %+v", c.Name, c.Server, c)
			}
		}
		return out
	}
	facts := []string{"unlogged_tables", "prepared_transactions", "hba_errors", "archive_failing", "collation_mismatches",
		"unlogged_tables"}
	well := func(_ *Input, m []view.Member) {
		for i := range m {
			for _, f := range facts {
				m[i].Last.Config.Facts[f] = 0
			}
		}
	}
	base := results(well)
	for k, r := range base {
		if r != operation.Pass {
			t.Fatalf("a healthy cluster: %v is %s", k, r)
		}
	}
	for _, c := range []struct {
		name, server string
		want         operation.Result
		change       func(*Input, []view.Member)
	}{
		{"Log level for replicas", "tern", operation.Fail, setting(1, "wal_level", "minimal")},
		{"Room for replicas", "gull", operation.Fail, setting(0, "max_wal_senders", "3")},
		{"Room for replicas", "gull", operation.Fail, setting(0, "max_replication_slots", "2")},
		{"Rewindable data", "gull", operation.Warn, setting(0, "data_checksums", "off")},
		{"Rewindable data", "tern", operation.Warn, setting(1, "full_page_writes", "off")},
		{"Log kept for a rejoin", "heron", operation.Warn, setting(2, "wal_keep_size", "0")},
		{"Durable commits", "gull", operation.Warn, setting(0, "fsync", "off")},
		{"Durable commits", "tern", operation.Warn, setting(1, "synchronous_commit", "off")},
		{"Limits not below the primary's", "heron", operation.Fail, setting(2, "max_worker_processes", "4")},
		{"Access rules like the primary's", "tern", operation.Warn, setting(1, "access_rules", "local all all peer")},
		{"Sessions of the candidate", "tern", operation.Fail, setting(1, "default_transaction_read_only", "on")},
		{"First write of the candidate", "tern", operation.Fail, func(in *Input, m []view.Member) {
			setting(1, "synchronous_standby_names", "ANY 1 (gull)")(in, m)
			m[1].Last.Synchronous = nil // an agent that does not tell who set it
		}},
		{"No unlogged tables", "tern", operation.Warn, fact("unlogged_tables")},
		{"No prepared transactions", "tern", operation.Warn, fact("prepared_transactions")},
		{"Readable access rules", "tern", operation.Warn, fact("hba_errors")},
		{"Working archive command", "tern", operation.Warn, fact("archive_failing")},
		{"Same collation library", "tern", operation.Warn, fact("collation_mismatches")},
		{"Same major version", "heron", operation.Fail,
			func(_ *Input, m []view.Member) { m[2].Last.Process.MajorVersion = 16 }},
		{"Free disk", "gull", operation.Warn,
			func(_ *Input, m []view.Member) { m[0].Last.Host.DiskFreeBytes = observation.Known[int64](50 << 20) }},
		{"Matching clocks", "heron", operation.Warn, func(_ *Input, m []view.Member) { m[2].ClockSkew = -3 }},
		{"Own identity", "heron", operation.Fail,
			func(_ *Input, m []view.Member) { m[2].Last.Host.Address = m[1].Last.Host.Address }},
		{"Running replay", "tern", operation.Fail, func(_ *Input, m []view.Member) { m[1].Last.Replay.Paused = true }},
		{"Readable settings", "heron", operation.Fail, func(_ *Input, m []view.Member) {
			m[2].Last.Config.Settings, m[2].Last.Config.Facts, m[2].Last.Config.Problem = nil, nil,
				"canceling statement due to user request"
		}},
		{"Agent answers", "heron", operation.Warn, func(_ *Input, m []view.Member) { m[2].Problem = "connection refused" }},
		{"Replication path", "heron", operation.Fail, func(in *Input, _ []view.Member) {
			in.Probes = []Probe{{"heron", "tern", verb.Probed{Problem: "password authentication failed"}}}
		}},
		{"Replication path", "heron", operation.Warn, func(in *Input, _ []view.Member) {
			in.Probes = []Probe{{"heron", "tern", verb.Probed{Answered: true, Full: true, Problem: "too many connections"}},
				{"tern", "gull", verb.Probed{Answered: true, Full: true, Problem: "too many connections"}}}
		}},
	} {
		got := results(func(in *Input, m []view.Member) { well(in, m); c.change(in, m) })
		if r := got[found{c.name, c.server}]; r != c.want {
			t.Errorf("%s of %s is %q, want %s", c.name, c.server, r, c.want)
		}
		for k, r := range got {
			if r != operation.Pass && k != (found{c.name, c.server}) {
				t.Errorf("%s of %s: %v became %s too", c.name, c.server, k, r)
			}
		}
	}
}

// The checks of the other purposes: a seed and a failover look at the whole
// cluster as well.
func TestChecksForOtherPurposes(t *testing.T) {
	for _, kind := range []operation.Kind{operation.Failover, operation.Seed} {
		r := operation.Request{Kind: kind}
		if kind == operation.Seed {
			r.Server = "tern"
		}
		p, err := Checks(input(r, nil))
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for _, c := range p.Checks {
			seen[c.Name] = true
		}
		for _, want := range []string{"Log level for replicas", "Rewindable data", "Matching clocks", "Free disk"} {
			if !seen[want] {
				t.Errorf("%s: %q is not checked", kind, want)
			}
		}
	}
}

// An agent that its database does not let in answers: nobody is sent to look for it.
func TestAgentThatIsNotLetIn(t *testing.T) {
	p, err := Make(input(operation.Request{Kind: operation.Rejoin, Server: "tern"}, func(_ *Input, m []view.Member) {
		x := &m[1].Last.Process
		x.Accepting, x.NotLetIn, x.Problem, x.Role = false, true, `role "root" does not exist`, ""
	}))
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(p.Checks, func(c operation.Check) bool {
		return c.Name == "Agent answers" && c.Server == "tern"
	})
	if c := p.Checks[i]; c.Result != operation.Fail || !strings.Contains(c.Evidence, `role "root" does not exist`) ||
		!strings.Contains(c.Mend, "let the agent's account log in on tern") {
		t.Errorf("%+v", c)
	}
}
