package plan

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
)

// atLeastPrimary are the settings that a replica must not set lower than its
// primary: recovery pauses or refuses to start otherwise (documentation, "Hot
// Standby, Administrator's Overview"; measured: a promote then shuts it down).
var atLeastPrimary = []string{"max_connections", "max_worker_processes", "max_wal_senders", "max_locks_per_transaction", "max_prepared_transactions"}

// minFreeShare of the data's size should be free beside it for new log.
const minFreeShare = 0.1

func verdict(ok bool, otherwise Result) Result {
	if ok {
		return Pass
	}
	return otherwise
}

// checkPrimary makes sure that there is a primary that takes writes.
func (in *Input) checkPrimary(p *Plan) bool {
	s := in.View.Find(in.View.Primary)
	c := Check{Name: "primary takes writes", Server: in.View.Primary, Result: Pass, Why: "everything is copied from it"}
	switch {
	case s == nil:
		c.Result, c.Evidence, c.Mend = Fail, in.View.Cluster+" has no primary", "add one: crosstwin server add "+in.View.Cluster+" NAME --primary"
	case !in.seen(s.Name):
		c.Result, c.Evidence, c.Mend = Fail, "the agent of "+s.Name+" does not answer: "+s.Why, "see that it runs and can be reached at "+s.Agent
	case s.Health != view.TakesWrites:
		c.Result, c.Evidence = Fail, fmt.Sprintf("%s is %s: %s", s.Name, s.Health, s.Why)
		c.Mend = "make a server primary first: crosstwin failover " + in.View.Cluster
	default:
		c.Evidence = fmt.Sprintf("%s takes writes in term %d at %s", s.Name, in.View.Term, s.Position)
	}
	p.check(c)
	return c.Result == Pass
}

// checkAgents reports which agents answer. needed ones fail, others warn.
func (in *Input) checkAgents(p *Plan, needed ...string) {
	for _, m := range in.Members {
		c := Check{Name: "agent answers", Server: m.Name, Result: Pass, Evidence: m.Name + "'s agent answers at " + m.Agent}
		if !in.seen(m.Name) {
			c.Result, c.Evidence = Warn, m.Name+"'s agent does not answer"
			if m.Problem != "" {
				c.Evidence += ": " + m.Problem
			}
			c.Why, c.Mend = "it is left as it is and has to rejoin later", "see that it runs and can be reached at "+m.Agent
			for _, n := range needed {
				if n == m.Name {
					c.Result, c.Why = Fail, "this operation has to act on "+m.Name
				}
			}
		}
		p.check(c)
	}
}

// checkPair holds the settings of a server against the primary's, for a role
// of either: both directions count, because the roles will swap.
func (in *Input) checkPair(p *Plan, name string) {
	m, owner := in.member(name), in.member(in.View.Primary)
	if m == nil || owner == nil || m.Last == nil || owner.Last == nil {
		return
	}
	o, q := m.Last, owner.Last
	if o.MajorVersion != 0 && q.MajorVersion != 0 {
		p.check(Check{Name: "same major version", Server: name, Result: verdict(o.MajorVersion == q.MajorVersion, Fail),
			Evidence: fmt.Sprintf("%s runs %s, %s runs %s", name, o.Version, owner.Name, q.Version),
			Why:      "the log of one major version cannot be read by another", Mend: mendIf(o.MajorVersion != q.MajorVersion, "install major version "+strconv.Itoa(q.MajorVersion)+" on "+name)})
	}
	if o.System != "" && q.System != "" {
		p.check(Check{Name: "same origin", Server: name, Result: verdict(o.System == q.System, Fail),
			Evidence: fmt.Sprintf("system identifier %s on %s, %s on %s", o.System, name, q.System, owner.Name),
			Why:      "a server of another origin is a replica of another cluster", Mend: mendIf(o.System != q.System, "look whether "+name+" belongs here; if it does: crosstwin seed "+in.View.Cluster+" "+name+" --replace")})
	}
	if len(o.Settings) > 0 && len(q.Settings) > 0 && o.Accepting && q.Accepting {
		in.checkLimits(p, name, o, owner.Name, q)
	}
}

func (in *Input) checkLimits(p *Plan, name string, o *observation.Server, primary string, q *observation.Server) {
	var low []string
	for _, s := range atLeastPrimary {
		mine, err1 := strconv.Atoi(o.Settings[s])
		theirs, err2 := strconv.Atoi(q.Settings[s])
		if err1 == nil && err2 == nil && mine < theirs {
			low = append(low, fmt.Sprintf("%s is %d, on %s %d", s, mine, primary, theirs))
		}
	}
	c := Check{Name: "limits not below the primary's", Server: name, Result: verdict(len(low) == 0, Fail),
		Evidence: strings.Join(low, "; "), Why: "replay stops, and a promotion shuts the server down, when a limit is lower than the primary's was"}
	if len(low) == 0 {
		c.Evidence = name + " sets none of " + strings.Join(atLeastPrimary, ", ") + " lower than " + primary
	} else {
		c.Mend = "raise them on " + name + " and restart it"
	}
	p.check(c)
}

func mendIf(bad bool, text string) string {
	if bad {
		return text
	}
	return ""
}

// checkSettings looks at one server's own settings and contents.
func (in *Input) checkSettings(p *Plan, name string) {
	m := in.member(name)
	if m == nil || m.Last == nil || len(m.Last.Settings) == 0 {
		return
	}
	o, set := m.Last, m.Last.Settings
	level := set["wal_level"]
	p.check(Check{Name: "log level", Server: name, Result: verdict(level == "replica" || level == "logical", Fail), Evidence: "wal_level is " + level,
		Why: "below replica the log cannot feed a replica", Mend: mendIf(level == "minimal", "set wal_level = replica and restart")})
	n := len(in.Members)
	for _, s := range []string{"max_wal_senders", "max_replication_slots"} {
		have, _ := strconv.Atoi(set[s])
		p.check(Check{Name: "room for replicas", Server: name, Result: verdict(have >= n+1, Fail), Evidence: fmt.Sprintf("%s is %d, this cluster needs %d", s, have, n+1),
			Why: "each replica takes one, a copy takes another", Mend: mendIf(have < n+1, fmt.Sprintf("set %s = %d or more and restart", s, n+6))})
	}
	mend := mendIf(set["full_page_writes"] != "on", "set full_page_writes = on and reload")
	rewind := set["data_checksums"] == "on" || set["wal_log_hints"] == "on"
	p.check(Check{Name: "can be rewound", Server: name, Result: verdict(rewind && set["full_page_writes"] == "on", Warn),
		Evidence: fmt.Sprintf("data_checksums %s, wal_log_hints %s, full_page_writes %s", set["data_checksums"], set["wal_log_hints"], set["full_page_writes"]),
		Why:      "without checksums or hint logging an old primary has to be copied anew after a failover", Mend: orElse(mendIf(!rewind, "set wal_log_hints = on and restart, or turn checksums on with pg_checksums while it is stopped"), mend)})
	p.check(Check{Name: "log kept for a rejoin", Server: name, Result: verdict(set["wal_keep_size"] != "0", Warn), Evidence: "wal_keep_size is " + set["wal_keep_size"] + " MB",
		Why: "a rewind reads the log back to the last checkpoint before the fork", Mend: mendIf(set["wal_keep_size"] == "0", "set wal_keep_size = '1GB' and reload")})
	safe := set["fsync"] == "on" && set["synchronous_commit"] != "off"
	p.check(Check{Name: "commits are durable", Server: name, Result: verdict(safe, Warn), Evidence: fmt.Sprintf("fsync %s, synchronous_commit %s", set["fsync"], set["synchronous_commit"]),
		Why: "a crash may take back what was acknowledged", Mend: mendIf(!safe, "set fsync = on and synchronous_commit = on")})
	in.checkContents(p, name, o)
}

func (in *Input) checkContents(p *Plan, name string, o *observation.Server) {
	fact := func(key, title, why, mend string, words string) {
		n, ok := o.Facts[key]
		if !ok {
			return
		}
		count := fmt.Sprint(n)
		if n == 0 {
			count = "no"
		}
		p.check(Check{Name: title, Server: name, Result: verdict(n == 0, Warn), Evidence: fmt.Sprintf("%s %s on %s", count, words, name), Why: why, Mend: mendIf(n != 0, mend)})
	}
	fact("collation_mismatches", "same collation library", "an index built with another version of the library may miss rows", "install the same library version on all hosts, or reindex and alter database ... refresh collation version", "databases with collations of another library version")
	fact("tablespaces", "no tablespaces", "a copy or a rewind writes them to the same paths: on one host, or where those are not there, it fails", "see that their paths are free on every host, and that no two servers share a host", "tablespaces beside the default ones")
	fact("unlogged_tables", "no unlogged tables", "they are empty after a role change", "alter table ... set logged", "unlogged tables")
	fact("prepared_transactions", "no prepared transactions", "they keep their locks over a role change", "commit or roll them back", "prepared transactions")
	fact("archive_failing", "archiving works", "a failing archive command delays an orderly stop", "see archive_command and the server's log", "recent failures of the archive command")
	fact("hba_errors", "access rules are readable", "one bad line makes the server ignore every reload", "see select * from pg_hba_file_rules where error is not null", "unreadable lines in pg_hba.conf")
}

// checkSync refuses a candidate whose own setting would hang its first write.
func (in *Input) checkSync(p *Plan, name string) {
	m := in.member(name)
	if m == nil || m.Last == nil || m.Last.Settings == nil {
		return
	}
	names := m.Last.Settings["synchronous_standby_names"]
	c := Check{Name: "first write of the candidate", Server: name, Result: verdict(names == "", Fail), Evidence: "synchronous_standby_names is empty on " + name}
	if names != "" {
		c.Evidence = fmt.Sprintf("synchronous_standby_names is %q on %s", names, name)
		c.Why = "after the role change its first write would wait for those replicas, which are not connected yet"
		c.Mend = "on " + name + ": alter system set synchronous_standby_names = '' and select pg_reload_conf(); set it again afterwards"
	}
	p.check(c)
}

// checkDisk warns when little room is left, and fails a copy that cannot fit.
func (in *Input) checkDisk(p *Plan, name string, needed int64) {
	m := in.member(name)
	if m == nil || m.Last == nil || m.Last.DiskFreeBytes == 0 {
		return
	}
	free := m.Last.DiskFreeBytes
	c := Check{Name: "free disk", Server: name, Evidence: fmt.Sprintf("%s free on %s", view.Size(free), name)}
	if needed > 0 {
		freed := int64(0)
		if !m.Last.DataEmpty {
			freed = m.Last.DataBytes
		}
		c.Result = verdict(float64(free+freed) > float64(needed)*(1+minFreeShare), Fail)
		c.Evidence += fmt.Sprintf(", the copy takes %s", view.Size(needed))
		c.Why, c.Mend = "a copy that fills the disk is of no use", mendIf(c.Result != Pass, "free space on "+name+" or give it a larger disk")
	} else {
		c.Result = verdict(free > 1<<30 || float64(free) > minFreeShare*float64(m.Last.DataBytes), Warn)
		c.Why, c.Mend = "a full log disk stops the server", mendIf(c.Result != Pass, "free space on "+name)
	}
	p.check(c)
}

// maxSkew is the largest difference between a host's clock and the service's
// that goes without a warning.
const maxSkew = 2 * time.Second

func (in *Input) checkClocks(p *Plan) {
	for _, m := range in.Members {
		if m.Last == nil || !in.seen(m.Name) {
			continue
		}
		skew := m.Last.At.Sub(m.SeenAt)
		if skew < 0 {
			skew = -skew
		}
		p.check(Check{Name: "clocks agree", Server: m.Name, Result: verdict(skew < maxSkew, Warn), Evidence: fmt.Sprintf("%s's clock differs from the service's by %s", m.Name, view.Span(skew.Seconds())),
			Why: "times in logs and journals could not be put in order", Mend: mendIf(skew >= maxSkew, "run a time service on "+m.Name)})
	}
}

// checkPaths reports the tries of the replication account.
func (in *Input) checkPaths(p *Plan, failing Result) {
	for _, x := range in.Probes {
		c := Check{Name: "replication path", Server: x.From, Result: verdict(x.Result.OK, failing), Evidence: fmt.Sprintf("%s reaches %s with the replication account", x.From, x.To),
			Why: "the roles swap: every server must be able to follow every other"}
		if !x.Result.OK {
			c.Evidence = fmt.Sprintf("%s cannot follow %s: %s", x.From, x.To, x.Result.Problem)
			c.Mend = "see the path from " + x.From + " to " + x.To + " and pg_hba.conf there; crosstwin seed and rejoin put the account and the rules right"
		}
		p.check(c)
	}
}

func (in *Input) checkReplay(p *Plan, name string) {
	m := in.member(name)
	if m == nil || m.Last == nil {
		return
	}
	c := Check{Name: "replay runs", Server: name, Result: verdict(!m.Last.ReplayPaused, Fail), Evidence: name + " applies what it receives"}
	if m.Last.ReplayPaused {
		c.Evidence, c.Why, c.Mend = "replay is paused on "+name, "it would have to catch up during the write pause", "select pg_wal_replay_resume() on "+name
	}
	p.check(c)
}

// checkAll is what the command check shows, whatever the operation is for.
func (in *Input) checkAll(p *Plan) {
	for _, m := range in.Members {
		if !in.seen(m.Name) {
			continue
		}
		if m.Name != in.View.Primary {
			in.checkPair(p, m.Name)
		}
		in.checkSettings(p, m.Name)
		in.checkDisk(p, m.Name, 0)
	}
	in.checkClocks(p)
	in.checkIdentities(p)
}

// checkIdentities finds servers that share what must be their own, as clones do.
func (in *Input) checkIdentities(p *Plan) {
	seen := map[string]string{}
	for _, m := range in.Members {
		if m.Last == nil || m.Last.Address.Host == "" {
			continue
		}
		a := fmt.Sprintf("%s:%d", m.Last.Address.Host, m.Last.Address.Port)
		if other := seen[a]; other != "" {
			p.check(Check{Name: "own identity", Server: m.Name, Result: Fail, Evidence: m.Name + " and " + other + " both say they are at " + a,
				Why: "a clone brings its origin's identity along", Mend: "give " + m.Name + "'s agent its own address and port: crosstwin agent enroll --address"})
		}
		seen[a] = m.Name
	}
}
