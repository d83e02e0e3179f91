package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// adopt plans the taking over of servers that run already, as they run: nobody is
// restarted, and nothing is copied. The primary becomes the owner of a term; accounts and
// access rules are set up beside those that there are; replicas go on following as they do,
// but for one that follows by file and position, which is changed to GTIDs.
func (in *Input) adopt(p *operation.Plan) error {
	p.Summary = "Take over what runs in " + in.View.Cluster + "."
	first := in.View.Primary == ""
	if !first && in.Request.Server != "" && in.Request.Server != in.View.Primary {
		return fmt.Errorf("%s is the primary of %s already; to change that: crosstwin switchover %s --to %s",
			in.View.Primary, in.View.Cluster, in.View.Cluster, in.Request.Server)
	}
	if first && !in.choosePrimary(p) {
		return nil
	}
	primary := in.View.Primary
	p.Target = primary
	up := in.checkPrimary(p)
	in.checkAgents(p, primary)
	if in.restartHelps(primary) {
		p.AddCheck(operation.Check{Name: "Ready to be followed", Server: primary, Result: operation.Warn,
			Evidence: primary + " lacks " + in.atNextStart(primary), Why: "no server could follow it",
			Mend: fmt.Sprintf("the first seed restarts it, and says so before: crosstwin seed %s SERVER", in.View.Cluster)})
	} else {
		asWarnings(p, func() { in.checkSettings(p, primary) })
	}
	in.checkClocks(p)
	var adopted []string
	for _, m := range in.Members {
		if m.Name != primary && in.checkAdoptable(p, m.Name) {
			adopted = append(adopted, m.Name)
		}
	}
	runs := append([]string{primary}, adopted...)
	in.checkDistinct(p, func(a, b string) operation.Result {
		if slices.Contains(runs, a) && slices.Contains(runs, b) {
			return operation.Fail
		}
		return operation.Warn // a seed refuses it
	})
	if _, refused := p.Refused(); !up || refused {
		return nil
	}
	in.checkUnread(p, primary)
	in.checkFoundMode(p, primary)
	p.Summary = fmt.Sprintf("Take over %s as primary of %s%s, as they run.", primary, in.View.Cluster,
		withReplicas(adopted))
	p.Effects = append(p.Effects, "no server is restarted, and nothing is copied",
		"whatever starts a server from now on, it comes up closed for writes, and its agent opens the primary")
	if first {
		in.stepsOwn(p, primary)
	}
	before := len(p.Steps)
	in.stepsPrepare(p, "")
	in.stepsAdopt(p, primary, adopted)
	p.NeedsYouFrom(before)
	p.Closing = fmt.Sprintf("%s is primary of %s in term %d%s", primary, in.View.Cluster, p.Term, provenReplicas(adopted))
	return nil
}

// asWarnings has checks say now what a later operation refuses: what runs is taken over as
// it is.
func asWarnings(p *operation.Plan, checks func()) {
	before := len(p.Checks)
	checks()
	for i := before; i < len(p.Checks); i++ {
		if p.Checks[i].Result == operation.Fail {
			p.Checks[i].Result = operation.Warn
		}
	}
}

func withReplicas(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return ", with " + words.List(names) + " following"
}

func provenReplicas(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return "; a mark written there was found in the own log of " + words.List(names)
}

// choosePrimary finds the server that runs as primary, and judges all others as if it were
// the owner already. Of several it is the one that others follow.
func (in *Input) choosePrimary(p *operation.Plan) bool {
	c := operation.Check{Name: "A primary to take over", Result: operation.Pass}
	var open, followed, shown []string
	for _, m := range in.Members {
		if !in.seen(m.Name) || !m.Last.Process.Accepting {
			continue
		}
		shown = append(shown, m.Name+" runs as "+string(m.Last.Process.Role))
		if m.Last.Process.Role != observation.Primary {
			continue
		}
		open = append(open, m.Name)
		if slices.ContainsFunc(in.View.Servers, func(s view.Server) bool { return s.Follows == m.Name }) {
			followed = append(followed, m.Name)
		}
	}
	name := in.Request.Server
	switch {
	case name != "" && !slices.Contains(open, name):
		c.Result, c.Evidence = operation.Fail, name+" does not run as a primary: "+strings.Join(shown, ", ")
	case name != "":
	case len(followed) == 1:
		name = followed[0]
	case len(open) == 1:
		name = open[0]
	default:
		c.Result = operation.Fail
		c.Evidence = "which server is the primary does not show: " + cmp.Or(strings.Join(shown, ", "), "none of them answers")
	}
	if c.Result == operation.Fail {
		switch len(open) {
		case 0:
			c.Mend = "start the primary, or see crosstwin status " + in.View.Cluster
		case 1:
			c.Mend = fmt.Sprintf("crosstwin adopt %s --primary %s", in.View.Cluster, open[0])
		default:
			c.Mend = fmt.Sprintf("name the one with your data: crosstwin adopt %s --primary NAME", in.View.Cluster)
		}
		p.AddCheck(c)
		in.checkAgents(p)
		return false
	}
	c.Server, c.Evidence = name, fmt.Sprintf("%s runs as primary at %s", name, in.View.Find(name).Address)
	if len(followed) > 0 && !slices.Contains(followed, name) {
		c.Result = operation.Warn
		c.Evidence += "; no server follows it, and " + words.List(followed) + " has followers"
	}
	p.AddCheck(c)
	p.Term = in.NextTerm
	in.View = view.Assess(view.Input{Cluster: in.View.Cluster, Engine: in.View.Engine, Term: p.Term, OwnerTerm: p.Term,
		Owner: name, Policy: in.View.Policy, Members: in.Members, Now: in.View.At})
	return true
}

// checkAdoptable says how a server follows, and whether it is taken over so. One that is
// not is left as it is.
func (in *Input) checkAdoptable(p *operation.Plan, name string) bool {
	if !in.seen(name) {
		return false // said with the agents
	}
	s, o := in.View.Find(name), in.Member(name).Last
	c := operation.Check{Name: "Replication as it runs", Server: name, Result: operation.Pass}
	leave := func(evidence, mend string) bool {
		c.Result, c.Evidence, c.Mend = operation.Warn, evidence, mend
		c.Why = "it is left as it is"
		p.AddCheck(c)
		return false
	}
	up := o.Links.Upstream
	switch {
	case o.Process.Running && o.Process.Role == observation.Primary && o.Guard.Accepted > 0 && !o.Data.Foreign:
		c.Result, c.Evidence = operation.Fail, fmt.Sprintf("%s runs open for writes, and its agent took it for a server of "+
			"this cluster before", name)
		c.Why = "its agent would end it as a second primary"
		c.Mend = fmt.Sprintf("stop it, or take it out of the cluster: crosstwin server remove %s %s", in.View.Cluster, name)
		p.AddCheck(c)
		return false
	case o.Process.Role == observation.Primary && up.Runs():
		return leave(fmt.Sprintf("%s follows %s and is open for writes", name, up.Address()),
			fmt.Sprintf("close it: %s, there and in its configuration file; then crosstwin adopt %s once more",
				in.dialect().Shut, in.View.Cluster))
	case o.Process.Role == observation.Primary && o.Process.Accepting:
		return leave(fmt.Sprintf("%s runs as a primary of its own, with %s of data", name, words.Size(o.Data.Bytes.Or(0))),
			fmt.Sprintf("to make it a replica: crosstwin seed %s %s --replace", in.View.Cluster, name))
	case !o.Process.Accepting || up == nil:
		return leave(name+" follows no server", fmt.Sprintf("crosstwin seed %s %s", in.View.Cluster, name))
	case in.Member(s.Follows) == nil:
		return leave(fmt.Sprintf("%s follows %s, which is no server of %s by that address", name, s.Follows,
			in.View.Cluster), fmt.Sprintf("enroll that server's agent with --host %s, or have it follow another: "+
			"crosstwin rejoin %s %s", up.Host, in.View.Cluster, name))
	case s.Health != view.InStep && s.Health != view.Behind:
		return leave(fmt.Sprintf("%s follows %s and %s%s", name, s.Follows, words.Said(string(s.Health), 1),
			behindWhy(s.Why)),
			fmt.Sprintf("crosstwin rejoin %s %s", in.View.Cluster, name))
	}
	bySlot := ""
	if up.Slot != "" {
		bySlot = " through slot " + up.Slot
	}
	c.Evidence = fmt.Sprintf("%s follows %s%s, connected", name, s.Follows, bySlot)
	if missing := in.domainsLeftOut(name); up.ByPosition && len(missing) > 0 {
		return leave(fmt.Sprintf("%s follows %s by file and position, and its GTID position %s names no transaction of "+
			"domain %s, which %s's log has: by GTID it would get those from their beginning", name, s.Follows,
			o.Log.Applied, strings.Join(missing, ", "), in.View.Primary),
			fmt.Sprintf("copy it anew: crosstwin seed %s %s --replace", in.View.Cluster, name))
	}
	if up.ByPosition {
		c.Evidence += ", by file and position"
		p.Effects = append(p.Effects, fmt.Sprintf("%s, which follows %s by file and position, follows it by GTID from %s "+
			"on, as %s; writes are not touched", name, s.Follows, o.Log.Applied, verb.ReplicationUser(name)))
	} else if own, ours := in.Member(s.Follows).Last.SlotNamed(up.Slot); !ours || !own.Ours {
		p.Effects = append(p.Effects, fmt.Sprintf("%s goes on following %s as it does%s, by its present account, until a "+
			"role change has it follow as %s", name, s.Follows, bySlot, verb.ReplicationUser(name)))
	}
	p.AddCheck(c)
	in.checkSameData(p, name)
	asWarnings(p, func() { in.checkPairSettings(p, name) })
	return true
}

func behindWhy(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// domainsLeftOut names the domains of the primary's log of which a replica's position
// names no transaction.
func (in *Input) domainsLeftOut(name string) (out []string) {
	have, err := position.ParseGTIDPosition(in.Member(name).Last.Log.Applied)
	all, err2 := position.ParseGTIDPosition(in.Member(in.View.Primary).Last.Log.Written)
	if err != nil || err2 != nil {
		return nil
	}
	for _, g := range all.All() {
		if _, ok := have.In(g.Domain); !ok {
			out = append(out, fmt.Sprint(g.Domain))
		}
	}
	return out
}

// checkUnread names slots of the primary through which nobody reads: they keep its log.
func (in *Input) checkUnread(p *operation.Plan, primary string) {
	for _, s := range in.Member(primary).Last.Links.Slots {
		if s.Active {
			continue // a role change says what becomes of it
		}
		p.AddCheck(operation.Check{Name: "Slots in use", Server: primary, Result: operation.Warn,
			Evidence: fmt.Sprintf("nobody reads through slot %s of %s; it keeps %s of log", s.Name, primary,
				words.Size(s.KeptBytes)),
			Why:  "log that it keeps fills the disk in the end; it is left as it is",
			Mend: fmt.Sprintf("if nobody comes back to it: select pg_drop_replication_slot('%s')", s.Name)})
	}
}

// stepsOwn make the server that runs as primary the owner of a first term.
func (in *Input) stepsOwn(p *operation.Plan, primary string) {
	in.stepOpenTerm(p, primary)
	p.AddStep(operation.Step{Name: "decide",
		Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", primary, p.Term),
			Call: verb.Seal(verb.Decide{Server: primary})}, Seconds: 1, Limit: 30, OnFail: operation.NeedsYou,
		After:   []operation.Condition{{Kind: operation.IsPrimary, Server: primary, Term: p.Term}},
		IfFails: primary + " runs on as it did: crosstwin adopt " + in.View.Cluster + " once more"})
}

// stepsAdopt set up what replicas need for their next role, and prove them.
func (in *Input) stepsAdopt(p *operation.Plan, primary string, replicas []string) {
	for _, n := range replicas {
		p.AddStep(operation.Step{Name: "account-" + n,
			Action: operation.Action{Title: "Have " + primary + " make the account by which " + n + " can follow", Server: n,
				Call: verb.Seal(verb.Account{From: in.peer(primary)})}, Seconds: 0.1,
			IfFails: n + " goes on as it did"})
	}
	for _, n := range replicas {
		if !in.Member(n).Last.Links.Upstream.ByPosition {
			continue
		}
		up := in.View.Find(n).Follows
		p.AddStep(operation.Step{Name: "follow-" + n,
			Action: operation.Action{Title: "Have " + n + " follow " + up + " by GTID", Server: n,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(up), Slot: in.slotFor(n)})}, Seconds: 0.3, Limit: 60,
			Tries: followTries, PatienceSeconds: followPatience,
			After:   []operation.Condition{in.follows(n, up)},
			IfFails: n + " may have stopped following: crosstwin rejoin " + in.View.Cluster + " " + n})
	}
	if len(replicas) > 0 {
		in.stepsOfMark(p, primary, replicas, "what runs was taken over; the proof is missing", notProven)
	}
}
