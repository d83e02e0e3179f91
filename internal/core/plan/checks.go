package plan

import (
	"cmp"
	"fmt"
	"strconv"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// minFreeShare of the data's size should be free beside it for new log.
const minFreeShare = 0.1

func verdict(ok bool, otherwise operation.Result) operation.Result {
	if ok {
		return operation.Pass
	}
	return otherwise
}

// checkPrimary makes sure that there is a primary that takes writes.
func (in *Input) checkPrimary(p *operation.Plan) bool {
	s := in.View.Find(in.View.Primary)
	c := operation.Check{Name: "Writable primary", Server: in.View.Primary, Result: operation.Pass,
		Why: "everything is copied from it"}
	switch {
	case s == nil:
		c.Result, c.Evidence, c.Mend = operation.Fail, in.View.Cluster+" has no primary",
			"take over one that runs: crosstwin adopt "+in.View.Cluster
	case !in.seen(s.Name):
		c.Result, c.Evidence, c.Mend = operation.Fail, in.silence(s.Name), in.wakeAgent(s.Name, s.Agent)
	case s.Cause.Code == cause.SyncWaits && in.bringsReplica():
		c.Result, c.Evidence = operation.Warn, s.Name+" takes no writes: "+s.Why
		c.Why = "they go on once enough of those hold the newest writes again"
	case s.Health != view.TakesWrites:
		c.Result, c.Evidence = operation.Fail, fmt.Sprintf("%s %s: %s", s.Name, words.Said(string(s.Health), 1), s.Why)
		c.Mend = "make a server primary first: crosstwin failover " + in.View.Cluster
	default:
		c.Evidence = fmt.Sprintf("%s takes writes in term %d at %s", s.Name, in.View.Term, s.Position)
	}
	p.AddCheck(c)
	return c.Result != operation.Fail
}

// bringsReplica reports whether a replica is made or brought back: what commits may wait for.
func (in *Input) bringsReplica() bool {
	switch in.Request.Kind {
	case operation.Seed, operation.Rejoin, operation.Follow:
		return true
	}
	return false
}

// silence says that a server is not seen, by its agent or through it, and what was seen instead.
func (in *Input) silence(name string) string {
	if s := in.View.Find(name); s != nil && s.Cause.Code == cause.NotLetIn {
		return name + " is not seen: " + words.Say(s.Cause)
	}
	if m := in.Member(name); m != nil && m.Problem != "" {
		return name + "'s agent does not answer: " + m.Problem
	}
	return name + "'s agent does not answer"
}

// wakeAgent says how an agent that does not answer, or sees nothing, is brought to do so.
func (in *Input) wakeAgent(name, address string) string {
	if s := in.View.Find(name); s != nil && s.Cause.Code == cause.NotLetIn {
		return words.Say(cause.Cause{Code: cause.LetIn, Cluster: in.View.Cluster, Server: name})
	}
	if address == "" {
		return fmt.Sprintf("enroll it: crosstwin server code %s %s prints the command", in.View.Cluster, name)
	}
	return "check that it runs and is reachable at " + address
}

// checkAgents reports which agents answer. needed ones fail, others warn.
func (in *Input) checkAgents(p *operation.Plan, needed ...string) {
	for _, m := range in.Members {
		c := operation.Check{Name: "Agent answers", Server: m.Name, Result: operation.Pass,
			Evidence: m.Name + "'s agent answers at " + m.Agent}
		if !in.seen(m.Name) {
			c.Result, c.Evidence = operation.Warn, in.silence(m.Name)
			c.Why, c.Mend = "it stays as it is and has to rejoin later", in.wakeAgent(m.Name, m.Agent)
			for _, n := range needed {
				if n == m.Name {
					c.Result, c.Why = operation.Fail, "this operation has to act on "+m.Name
				}
			}
		}
		p.AddCheck(c)
	}
}

// checkPair holds the settings of a server against the primary's, for a role
// of either: both directions count, because the roles will swap.
func (in *Input) checkPair(p *operation.Plan, name string) {
	in.checkSameData(p, name)
	in.checkPairSettings(p, name)
}

// checkPairSettings looks at the settings in which a server and the primary have to agree.
func (in *Input) checkPairSettings(p *operation.Plan, name string) {
	m, owner := in.Member(name), in.Member(in.View.Primary)
	if m == nil || owner == nil || m.Last == nil || owner.Last == nil {
		return
	}
	o, q := m.Last, owner.Last
	if len(o.Config.Settings) > 0 && len(q.Config.Settings) > 0 && o.Process.Accepting && q.Process.Accepting {
		p.Checks = append(p.Checks, in.dialect().Pair(in.subject(m), in.subject(owner))...)
	}
}

// checkSameData makes sure that a server can read the primary's log, and that its data has
// the same origin.
func (in *Input) checkSameData(p *operation.Plan, name string) {
	m, owner := in.Member(name), in.Member(in.View.Primary)
	if m == nil || owner == nil || m.Last == nil || owner.Last == nil {
		return
	}
	o, q := m.Last, owner.Last
	if o.Process.MajorVersion != 0 && q.Process.MajorVersion != 0 {
		p.AddCheck(operation.Check{Name: "Same major version", Server: name,
			Result:   verdict(o.Process.MajorVersion == q.Process.MajorVersion, operation.Fail),
			Evidence: fmt.Sprintf("%s runs %s, %s runs %s", name, o.Process.Version, owner.Name, q.Process.Version),
			Why:      "the log of one major version cannot be read by another",
			Mend: mendIf(o.Process.MajorVersion != q.Process.MajorVersion,
				"install major version "+strconv.Itoa(q.Process.MajorVersion)+" on "+name)})
	}
	if o.Data.System != "" && q.Data.System != "" {
		p.AddCheck(operation.Check{Name: "Same origin", Server: name,
			Result:   verdict(o.Data.System == q.Data.System, operation.Fail),
			Evidence: fmt.Sprintf("system identifier %s on %s, %s on %s", o.Data.System, name, q.Data.System, owner.Name),
			Why:      "a server of another origin is a replica of another cluster",
			Mend: mendIf(o.Data.System != q.Data.System,
				"check whether "+name+" belongs here; if it does: crosstwin seed "+in.View.Cluster+" "+name+" --replace")})
	}
}

func mendIf(bad bool, text string) string {
	if bad {
		return text
	}
	return ""
}

// checkKnown says when settings and contents of a server that answers could not
// be read: the checks that rest on them are left out then, and a change that can
// wait has to.
func (in *Input) checkKnown(p *operation.Plan, m view.Member) {
	if m.Last == nil || m.Last.Config.Problem == "" {
		return
	}
	c := operation.Check{Name: "Readable settings", Server: m.Name, Result: operation.Fail,
		Evidence: fmt.Sprintf("%s answers, and its settings and tables cannot be read: %s", m.Name, m.Last.Config.Problem),
		Why:      "without them its fitness for the other role is not known",
		Mend: "look on " + m.Name +
			" for statements that hold locks on many tables, or a server that is overloaded, and ask again"}
	if in.Request.Kind == operation.Failover {
		c.Result = operation.Warn
	}
	p.AddCheck(c)
}

// subject is a member as an engine's checks need it.
func (in *Input) subject(m *view.Member) dialect.Subject {
	return dialect.Subject{Name: m.Name, Cluster: in.View.Cluster, Members: len(in.Members),
		Leads: m.Rank > 0 || m.Name == in.View.Primary, Seen: m.Last}
}

// checkSettings looks at one server's own settings and contents.
func (in *Input) checkSettings(p *operation.Plan, name string) {
	if m := in.Member(name); m != nil && m.Last != nil && len(m.Last.Config.Settings) > 0 {
		p.Checks = append(p.Checks, in.dialect().Check(in.subject(m))...)
	}
}

// checkConnections refuses a server with connections that moving it would leave.
func (in *Input) checkConnections(p *operation.Plan, name string) {
	if m := in.Member(name); m != nil && m.Last != nil && len(m.Last.Links.Named) > 0 {
		p.AddCheck(dialect.CheckConnections(in.subject(m)))
	}
}

// checkFirstWrite refuses a candidate whose own settings would hang its first write, or
// refuse it.
func (in *Input) checkFirstWrite(p *operation.Plan, name string) {
	m := in.Member(name)
	if m == nil || m.Last == nil || m.Last.Config.Settings == nil {
		return
	}
	d := in.dialect()
	for _, x := range []struct{ name, setting, off, why, mend, then string }{
		{"First write of the candidate", d.FirstWrite.Setting, d.FirstWrite.Off,
			"after the role change its first write would wait for replicas that are not connected yet", d.FirstWrite.Mend,
			"; set it again afterwards"},
		{"Sessions of the candidate", d.ReadOnly.Setting, d.ReadOnly.Off,
			"after the role change its sessions would be read-only: nobody could write", d.ReadOnly.Mend, ""},
	} {
		value := cmp.Or(m.Last.Config.Settings[x.setting], x.off)
		if live := m.Last.Synchronous; live != nil && x.setting == d.FirstWrite.Setting && !live.ByHand {
			value = x.off // a list of ours is another one by then
		}
		c := operation.Check{Name: x.name, Server: name, Result: verdict(value == x.off, operation.Fail),
			Evidence: fmt.Sprintf("%s is %q on %s", x.setting, value, name)}
		if value != x.off {
			c.Why, c.Mend = x.why, "on "+name+": "+x.mend+x.then
		}
		p.AddCheck(c)
	}
}

// checkDisk warns when little room is left, and fails a copy that cannot fit.
func (in *Input) checkDisk(p *operation.Plan, name string, needed int64) {
	m := in.Member(name)
	if m == nil || m.Last == nil {
		return
	}
	free, known := m.Last.Host.DiskFreeBytes.Get()
	if !known {
		return
	}
	c := operation.Check{Name: "Free disk", Server: name, Evidence: fmt.Sprintf("%s free on %s", words.Size(free), name)}
	if needed > 0 {
		freed := int64(0)
		if !m.Last.Data.Empty {
			freed = m.Last.Data.Bytes.Or(0)
		}
		c.Result = verdict(float64(free+freed) > float64(needed)*(1+minFreeShare), operation.Fail)
		c.Evidence += fmt.Sprintf(", the copy takes %s", words.Size(needed))
		c.Why, c.Mend = "a copy that fills the disk cannot be used",
			mendIf(c.Result != operation.Pass, "free space on "+name+" or give it a larger disk")
	} else {
		c.Result = verdict(free > 1<<30 || float64(free) > minFreeShare*float64(m.Last.Data.Bytes.Or(0)), operation.Warn)
		c.Why, c.Mend = "a full log disk stops the server", mendIf(c.Result != operation.Pass, "free space on "+name)
	}
	p.AddCheck(c)
}

// maxSkew is the largest difference between a host's clock and the service's
// that goes without a warning.
const maxSkew = 2.0

func (in *Input) checkClocks(p *operation.Plan) {
	for _, m := range in.Members {
		if m.Last == nil || !in.seen(m.Name) {
			continue
		}
		skew := max(m.ClockSkew, -m.ClockSkew)
		evidence := m.Name + "'s clock matches the service's to within the round-trip time"
		if skew > 0 {
			evidence = fmt.Sprintf("%s's clock differs from the service's by %s", m.Name, words.Span(skew))
		}
		p.AddCheck(operation.Check{Name: "Matching clocks", Server: m.Name, Result: verdict(skew < maxSkew, operation.Warn),
			Evidence: evidence,
			Why:      "times in logs and journals cannot be ordered",
			Mend:     mendIf(skew >= maxSkew, "run a time service on "+m.Name)})
	}
}

// checkPaths reports the tries of the replication account.
func (in *Input) checkPaths(p *operation.Plan, failing operation.Result) {
	for _, x := range in.Probes {
		c := operation.Check{Name: "Replication path", Server: x.From, Result: verdict(x.Result.OK, failing),
			Evidence: fmt.Sprintf("%s reaches %s with the replication account", x.From, x.To),
			Why:      "roles swap, so every server must be able to follow every other"}
		switch {
		case x.Result.OK:
		case x.Result.Full && in.streams(x.From, x.To):
			c.Result, c.Evidence = operation.Pass, fmt.Sprintf("%s follows %s, which takes no further connection just now",
				x.From, x.To)
		case x.Result.Full:
			c.Result = operation.Warn
			c.Evidence = fmt.Sprintf("%s takes no further connection just now, so whether %s can follow it is not known: %s",
				x.To, x.From, x.Result.Problem)
			c.Mend = "see who holds the connections of " + x.To + "; its replicas wait like anybody else for a free one"
		default:
			c.Evidence = fmt.Sprintf("%s cannot follow %s: %s", x.From, x.To, x.Result.Problem)
			c.Mend = "check the path from " + x.From + " to " + x.To +
				" and the access rules there; crosstwin seed and crosstwin rejoin set up the account and the rules"
		}
		p.AddCheck(c)
	}
}

// streams reports whether a server follows another one right now.
func (in *Input) streams(name, from string) bool {
	s, m := in.View.Find(name), in.Member(name)
	up := s != nil && s.Follows == from && in.seen(name) && m.Last.Links.Upstream != nil
	return up && m.Last.Links.Upstream.Connected
}

// checkReached reports whether applications can be expected to reach the servers.
func (in *Input) checkReached(p *operation.Plan) {
	for _, x := range in.Reached {
		c := operation.Check{Name: "Address for clients", Server: x.Server, Result: verdict(x.Problem == "", operation.Warn),
			Evidence: fmt.Sprintf("something listens at %s, seen from the service's host", x.Address)}
		if x.Problem != "" {
			c.Evidence = fmt.Sprintf("%s is not reached from the service's host: %s", x.Address, x.Problem)
			c.Why = "applications that reach it no better could not write there after a role change"
			c.Mend = fmt.Sprintf("check the way there, or say another address: crosstwin server set %s %s --client-address "+
				"HOST:PORT", in.View.Cluster, x.Server)
		}
		p.AddCheck(c)
	}
}

func (in *Input) checkReplay(p *operation.Plan, name string) {
	m := in.Member(name)
	if m == nil || m.Last == nil {
		return
	}
	c := operation.Check{Name: "Running replay", Server: name, Result: verdict(!m.Last.Replay.Paused, operation.Fail),
		Evidence: name + " applies what it receives"}
	if m.Last.Replay.Paused {
		c.Evidence, c.Why, c.Mend = "replay is paused on "+name, "it would have to catch up during the write pause",
			in.dialect().Resume+" on "+name
	}
	p.AddCheck(c)
}

// checkAll is what the command check shows, whatever the operation is for.
func (in *Input) checkAll(p *operation.Plan) {
	for _, m := range in.Members {
		if !in.seen(m.Name) {
			continue
		}
		if m.Name != in.View.Primary {
			in.checkPair(p, m.Name)
			in.checkEncryption(p, m.Name)
		}
		in.checkKnown(p, m)
		in.checkSettings(p, m.Name)
		in.checkDisk(p, m.Name, 0)
	}
	in.checkClocks(p)
	in.checkIdentities(p)
}

// serverID returns the number by which a server names itself in the log, after the starts
// of this plan.
func (in *Input) serverID(m *view.Member) string {
	starts := in.Request.Kind == operation.Seed && (m.Name == in.Request.Server || in.restarted == m.Name)
	if next := m.Last.Config.AtNextStart["server_id"]; starts && next != "" {
		return next
	}
	return fmt.Sprint(m.Last.Log.ServerID)
}

// checkIdentities makes sure that no two servers share an address, a server id or a tablespace.
func (in *Input) checkIdentities(p *operation.Plan) {
	in.checkDistinct(p, func(string, string) operation.Result { return operation.Fail })
}

// checkDistinct judges two servers that share a server id by clash.
func (in *Input) checkDistinct(p *operation.Plan, clash func(a, b string) operation.Result) {
	in.checkSpaces(p)
	seen := map[string]string{}
	for _, m := range in.Members {
		if m.Last == nil || m.Last.Host.Address.Host == "" {
			continue
		}
		a := m.Last.Host.Address.String()
		if other := seen[a]; other != "" {
			p.AddCheck(operation.Check{Name: "Own identity", Server: m.Name, Result: operation.Fail,
				Evidence: m.Name + " and " + other + " both say they are at " + a,
				Why:      "a clone brings its origin's identity along",
				Mend:     "give " + m.Name + "'s agent its own address and port: crosstwin agent enroll --address"})
		}
		seen[a] = m.Name
		if id := "server id " + in.serverID(&m); m.Last.Log.ServerID != 0 {
			other := seen[id]
			c := operation.Check{Name: "Own server id", Server: m.Name, Result: verdict(other == "", clash(m.Name, other)),
				Evidence: m.Name + " has " + id,
				Why:      "replicas with one server_id disconnect each other; a server skips events with its own id"}
			if other != "" {
				c.Evidence, c.Mend = fmt.Sprintf("%s and %s both have %s", m.Name, other, id),
					"set another server_id in "+m.Name+"'s configuration and restart it"
			}
			p.AddCheck(c)
			seen[id] = m.Name
		}
	}
}
