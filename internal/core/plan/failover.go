package plan

import (
	"cmp"
	"fmt"
	"slices"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// failover plans a change of primary without the old one's help. The old
// primary is fenced first if its agent answers; a server that cannot be
// reached must be vouched for by a person. All replicas are detached, so that
// positions stand still; the candidate fetches what any of them holds more;
// then it is promoted.
func (in *Input) failover(p *operation.Plan) error {
	p.Term = in.NextTerm
	old := in.View.Primary
	if old == "" {
		return fmt.Errorf("%s has no primary yet: add one with crosstwin server add %s NAME --primary", in.View.Cluster, in.View.Cluster)
	}
	if in.Request.To == old {
		return in.startAgain(p, old)
	}
	in.choose(p, in.mayBeMade, in.byReceived)
	in.checkOldStopped(p, old)
	cand := p.Candidate
	if cand == "" {
		p.Summary = "Make another server primary of " + in.View.Cluster + " instead of " + old + ": not possible now."
		return nil
	}
	p.Summary = fmt.Sprintf("Make %s primary of %s instead of %s. %s", cand, in.View.Cluster, old, in.loss(p, old, cand))
	p.PauseSeconds = 1
	in.checkAgents(p, cand)
	in.checkReplay(p, cand)
	in.checkSync(p, cand)
	in.checkPaths(p, operation.Warn)
	in.checkClocks(p)

	p.Closing = fmt.Sprintf("%s is primary of %s in term %d; %s does not follow yet; bring it back: crosstwin rejoin %s %s", cand, in.View.Cluster, p.Term, old, in.View.Cluster, old)
	others := in.replicas(cand, old)
	in.roleEffects(p, old, cand, others, "is fenced and stays stopped until it rejoins: the cluster has one server less meanwhile")
	in.stepOpenTerm(p)
	in.stepFence(p, old)
	in.stepStart(p, cand)
	in.stepsDetach(p, old, append([]string{cand}, others...))
	in.stepsFetch(p, cand, others)
	in.stepMakeSlots(p, "make-slots", cand, others)
	p.AddStep(operation.Step{Name: "decide", Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", cand, p.Term), Call: verb.Seal(verb.Decide{Server: cand})}, Seconds: 0.01, IfFails: "the replicas follow " + old + " again"})
	in.stepPromote(p, cand)
	in.stepsAfterPromotion(p, cand, others)
	in.stepsOfProof(p, cand, others)
	return nil
}

// mayBeMade accepts who may take over, and who was asked for by name, is
// stopped, and has data that can be started: after a power cut that may be all
// there is.
func (in *Input) mayBeMade(s *view.Server) (bool, string) {
	o := s.Observation
	startable := o != nil && in.seen(s.Name) && !o.Process.Running && !o.Data.Empty && o.Data.Unfinished == "" && s.Rank > 0
	switch {
	case s.MayTakeOver:
		return true, ""
	case startable && s.Name == in.Request.To:
		return true, ""
	case startable:
		return false, s.WhyNot + "; it would be started first if it were asked for: --to " + s.Name
	}
	return false, s.WhyNot
}

// stepStart starts a candidate that does not run, read-only.
func (in *Input) stepStart(p *operation.Plan, cand string) {
	if in.member(cand).Last.Process.Running {
		return
	}
	p.AddStep(operation.Step{Name: "start-candidate", Action: operation.Action{Title: "Start " + cand + " read-only", Server: cand, Call: verb.Seal(verb.Start{As: observation.Replica})}, Tries: startTries, PatienceSeconds: startPatience, Seconds: 1, Limit: 600,
		After: []operation.Condition{{Kind: operation.IsReplica, Server: cand}}, IfFails: "read the server's log; nothing else has changed"})
}

// byReceived puts the replica that holds most first, then rank, then name.
func (in *Input) byReceived(a, b *view.Server) bool {
	x, y := cmp.Or(a.Received, a.Position), cmp.Or(b.Received, b.Position)
	if d, known := position.Lacks(in.View.Engine, y, x); known && !d.IsZero() {
		return true
	}
	if d, known := position.Lacks(in.View.Engine, x, y); known && !d.IsZero() {
		return false
	}
	return byRank(a, b)
}

// checkOldStopped is the rule that no second server takes writes: the old
// primary must be reachable, so that it can be fenced, or vouched for.
func (in *Input) checkOldStopped(p *operation.Plan, old string) {
	c := operation.Check{Name: "Old primary fenced or confirmed off", Server: old, Result: operation.Pass, Why: "two servers that take writes at once fork the data"}
	s := in.View.Find(old)
	switch {
	case in.seen(old) && s.Health == view.TakesWrites:
		c.Result, c.Evidence = operation.Warn, old+" is alive and takes writes: it is fenced first"
		c.Why, c.Mend = "a switchover moves the role without any loss", "if you need not leave "+old+" at once: crosstwin switchover "+in.View.Cluster
	case in.seen(old):
		c.Evidence = fmt.Sprintf("%s's agent answers and keeps it stopped (it is %s)", old, s.Health)
	case slices.Contains(in.Request.ConfirmStopped, old):
		c.Result, c.Evidence = operation.Warn, old+"'s agent does not answer; confirmed by you: "+old+" is off. Its agent fences it as soon as it learns of the new term"
	default:
		c.Result, c.Evidence = operation.Fail, old+"'s agent does not answer; "+old+" takes writes"
		c.Mend = "power " + old + " off or isolate it, verify, then: crosstwin failover " + in.View.Cluster + " --confirm-stopped " + old
	}
	p.AddCheck(c)
	for _, m := range in.Members {
		if m.Name == old || m.Last == nil || in.seen(m.Name) {
			continue
		}
		if d, ok := in.ownerSees(m.Name); ok && d.State == "streaming" {
			p.AddCheck(operation.Check{Name: "Unseen replica", Server: m.Name, Result: operation.Warn, Evidence: m.Name + "'s agent does not answer; it may hold more than the candidate", Mend: "bring it back first if nothing may be lost"})
		}
	}
}

func (in *Input) ownerSees(name string) (observation.Downstream, bool) {
	if o := in.member(in.View.Primary); o != nil && o.Last != nil {
		return o.Last.DownstreamNamed(name)
	}
	return observation.Downstream{}, false
}

// loss says what a failover would lose, as exactly as it can be known.
func (in *Input) loss(p *operation.Plan, old, cand string) string {
	c := in.View.Find(cand)
	held := cmp.Or(c.Received, c.Position)
	if _, ok := position.Order(in.View.Engine, held); !ok {
		p.Loss = &operation.Loss{}
		p.Destroys, p.ConfirmName = "writes that "+cand+" does not hold, if there are any: it does not run, so that cannot be seen", in.View.Cluster
		return "What would be lost is not known."
	}
	for _, n := range in.replicas(cand, old) {
		if s := in.View.Find(n); s != nil {
			if more, known := position.Lacks(in.View.Engine, held, s.Received); known && !more.IsZero() {
				held = s.Received // it is fetched first
			}
		}
	}
	m := in.member(old)
	end, how := "", "as last seen"
	if in.Examination != nil && in.Examination.End != "" && !in.Examination.Running {
		end, how = in.Examination.End, "by the end of its log"
	} else if m != nil && m.Last != nil {
		end = m.Last.Log.Written
	}
	lost, known := position.Lacks(in.View.Engine, held, end)
	p.Loss = &operation.Loss{Known: known, Distance: lost}
	switch {
	case !known:
		p.Destroys = "writes of " + old + " that no replica received, if there are any"
	case m.Last != nil && m.Last.Process.Accepting && m.Last.Process.Writable && in.seen(old):
		p.Loss = nil
		return fmt.Sprintf("%s stops cleanly first, so that nothing should be lost.", old)
	case lost.IsZero():
		p.Loss = nil
		return fmt.Sprintf("Nothing is lost: %s holds all that %s wrote (%s).", cand, old, how)
	default:
		p.Destroys = fmt.Sprintf("%s that only %s has (%s, after %s up to %s); they stay on its disk until it rejoins", words.Amount(lost), old, how, held, end)
	}
	p.ConfirmName = in.View.Cluster
	if !known {
		return "What is lost cannot be known: " + old + " cannot be examined."
	}
	return fmt.Sprintf("Lost to the cluster: %s that no replica received, after %s up to %s.", words.Amount(lost), held, end)
}

func (in *Input) stepFence(p *operation.Plan, old string) {
	if !in.seen(old) {
		return
	}
	s := operation.Step{Name: "fence-old", Action: operation.Action{Title: "Fence " + old, Server: old, Call: verb.Seal(verb.Fence{Gently: true})}, Seconds: 0.2, Limit: 30,
		After: []operation.Condition{{Kind: operation.IsStopped, Server: old}}, IfFails: "nothing else is changed"}
	if v := in.View.Find(old); v != nil && v.Health == view.TakesWrites {
		s.Undo = in.stepsReopen(p, old)
		s.IfFails = old + " becomes primary again"
	}
	p.AddStep(s)
}

func (in *Input) stepsDetach(p *operation.Plan, old string, replicas []string) {
	for _, n := range replicas {
		p.AddStep(operation.Step{Name: "detach-" + n, Action: operation.Action{Title: "Detach " + n + " so that its position stays", Server: n, Call: verb.Seal(verb.Follow{})}, Seconds: 0.2,
			After:   []operation.Condition{{Kind: operation.IsDetached, Server: n}},
			Undo:    putBack(operation.Action{Title: "Have " + n + " follow " + old + " again", Server: n, Call: verb.Seal(verb.Follow{Upstream: in.peer(old), Slot: in.slotFor(n)})}),
			IfFails: "the replicas follow " + old + " again"})
	}
}

// stepsFetch let the candidate fetch, replica by replica, what another one holds
// more. Where it holds as much already there is nothing to do.
func (in *Input) stepsFetch(p *operation.Plan, cand string, others []string) {
	for _, n := range others {
		holds := []operation.Condition{{Kind: operation.HoldsMost, Server: cand, Other: n}}
		p.AddStep(operation.Step{Name: "fetch-" + n, Action: operation.Action{Title: fmt.Sprintf("Fetch log that %s lacks from %s", cand, n), Server: cand, Call: verb.Seal(verb.Follow{Upstream: in.peer(n)})},
			Skip: holds, After: holds, Seconds: 0.3, Limit: 120, IfFails: "the replicas follow their old upstream again"})
	}
	if len(others) > 0 {
		alone := []operation.Condition{{Kind: operation.IsDetached, Server: cand}}
		p.AddStep(operation.Step{Name: "detach-again", Action: operation.Action{Title: "Detach " + cand + " again", Server: cand, Call: verb.Seal(verb.Follow{})},
			Skip: alone, After: alone, Seconds: 0.1, IfFails: "the replicas follow their old upstream again"})
	}
}

// startAgain plans to start a dead primary where it stands. Often that beats a
// failover: nothing is lost.
func (in *Input) startAgain(p *operation.Plan, old string) error {
	s := in.View.Find(old)
	p.Candidate = old
	p.Summary = fmt.Sprintf("Start %s again as primary of %s. Nothing is lost.", old, in.View.Cluster)
	in.checkAgents(p, old)
	c := operation.Check{Name: "Stopped primary", Server: old, Result: operation.Pass, Evidence: fmt.Sprintf("%s is %s", old, s.Health)}
	switch {
	case s.Health == view.TakesWrites:
		c.Result, c.Evidence, c.Mend = operation.Fail, old+" takes writes: there is nothing to do", ""
	case s.Observation != nil && s.Observation.Data.Unfinished != "":
		c.Result, c.Evidence, c.Mend = operation.Fail, s.Why, "make another server primary: crosstwin failover "+in.View.Cluster
	}
	p.AddCheck(c)
	in.checkDisk(p, old, 0)
	p.PauseSeconds = 1
	p.Closing = fmt.Sprintf("%s is primary of %s in term %d", old, in.View.Cluster, p.Term)
	p.Effects = append(p.Effects, old+" becomes primary again, on its own history", "the replicas keep following it")
	in.stepOpenTerm(p)
	p.AddStep(operation.Step{Name: "settle", Action: operation.Action{Title: "Make sure that " + old + " is stopped", Server: old, Call: verb.Seal(verb.Fence{Gently: true})}, Seconds: 0.1,
		After: []operation.Condition{{Kind: operation.IsStopped, Server: old}}, IfFails: "nothing has changed"})
	p.AddStep(operation.Step{Name: "decide", Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", old, p.Term), Call: verb.Seal(verb.Decide{Server: old})}, Seconds: 0.01, IfFails: "nothing has changed"})
	p.AddStep(operation.Step{Name: "open", Action: operation.Action{Title: "Start " + old + " as primary", Server: old, Call: verb.Seal(verb.Start{As: observation.Primary})}, Tries: startTries, PatienceSeconds: startPatience, NoReturn: true, OnFail: operation.NeedsYou, InPause: true, Seconds: 1, Limit: 600,
		After: []operation.Condition{{Kind: operation.IsPrimary, Server: old, Term: p.Term}}, IfFails: "read the server's log; or make another server primary"})
	in.stepsAfterPromotion(p, old, nil)
	in.stepsOfProof(p, old, in.replicas(old))
	return nil
}
