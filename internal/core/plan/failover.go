package plan

import (
	"cmp"
	"fmt"
	"slices"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// failover plans a change of primary without the old one's help. The old
// primary is fenced first if its agent answers; a server that cannot be
// reached must be confirmed off by a person. All replicas are detached, so that
// their positions no longer move; the candidate fetches what any of them holds
// more; then it is promoted.
func (in *Input) failover(p *operation.Plan) error {
	p.Term = in.NextTerm
	old := in.View.Primary
	if old == "" {
		return fmt.Errorf("%s has no primary yet: crosstwin adopt %s takes over one that runs", in.View.Cluster,
			in.View.Cluster)
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
	others := in.takePart(p, cand, old)
	in.checkCovered(p, append([]string{cand}, others...))
	p.Summary = fmt.Sprintf("Make %s primary of %s instead of %s. %s", cand, in.View.Cluster, old,
		in.loss(p, old, cand, others))
	in.checkLeftOut(p, old, cand)
	p.PauseSeconds = 1
	in.checkAgents(p, cand)
	in.checkReplay(p, cand)
	in.checkFirstWrite(p, cand)
	in.checkPaths(p, operation.Warn)
	in.checkReached(p)
	in.checkClocks(p)

	p.Closing = fmt.Sprintf("%s is primary of %s in term %d; %s does not follow yet; %s", cand, in.View.Cluster, p.Term,
		old,
		in.comesBack(old))
	in.checkSlotsLeft(p, old, cand)
	in.roleEffects(p, old, cand, others,
		"is fenced and stays stopped until it rejoins: the cluster has one server less meanwhile")
	in.stepOpenTerm(p, cand)
	in.stepFence(p, old)
	in.stepOutlast(p, old, cand)
	in.stepStart(p, cand)
	in.stepDetach(p, old, append([]string{cand}, others...))
	in.stepsFetch(p, cand, others)
	in.stepWhole(p, old, cand)
	in.stepMakeSlots(p, "make-slots", cand, others)
	in.stepsKeepMode(p, cand, "the replicas follow "+old+" again")
	p.AddStep(operation.Step{Name: "decide",
		Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", cand, p.Term),
			Call: verb.Seal(verb.Decide{Server: cand, Closed: true})}, Seconds: 0.01,
		IfFails: "the replicas follow " + old + " again"})
	in.stepPromote(p, cand)
	s := in.View.Find(old)
	pause := s == nil || s.Health != view.TakesWrites
	for i := range p.Steps {
		pause = pause || p.Steps[i].Name == "fence-old"
		p.Steps[i].InPause = pause
	}
	in.stepsAfterPromotion(p, cand, others)
	in.stepsOfProof(p, cand, others)
	return nil
}

// comesBack says how an old primary becomes a replica.
func (in *Input) comesBack(old string) string {
	byHand := "crosstwin rejoin " + in.View.Cluster + " " + old
	switch in.View.Policy.Automatic.Rejoin {
	case cluster.RejoinWithoutTail, cluster.RejoinAfterSaving:
		return "it rejoins by itself as far as the policy allows (" + string(in.View.Policy.Automatic.Rejoin) +
			"); if it does not: " + byHand
	default:
		return "bring it back: " + byHand
	}
}

// takePart returns the replicas that a failover moves. One whose applier has
// stopped cannot take part: it is left out and named, and does not undo the
// failover of the others.
func (in *Input) takePart(p *operation.Plan, but ...string) []string {
	var out []string
	for _, n := range in.replicas(but...) {
		if s := in.View.Find(n); !in.proven(n) {
			p.AddCheck(operation.Check{Name: "Replica able to take part", Server: n, Result: operation.Warn,
				Evidence: words.Say(cause.Cause{Code: cause.NotProven, Peer: in.View.Primary}) + " (it " +
					words.Said(string(s.Health), 1) + ")",
				Why:  "its log may not be a part of this history: nothing is fetched from it, and it is left as it is",
				Mend: fmt.Sprintf("afterwards: crosstwin rejoin %s %s", in.View.Cluster, n)})
			continue
		}
		if up := in.Member(n).Last.Links.Upstream; up != nil && up.ApplierProblem != "" {
			p.AddCheck(operation.Check{Name: "Replica able to take part", Server: n, Result: operation.Warn,
				Evidence: fmt.Sprintf("applying has stopped on %s: %s", n, up.ApplierProblem),
				Why:      "it is left as it is and has to rejoin later",
				Mend:     fmt.Sprintf("afterwards: crosstwin rejoin %s %s", in.View.Cluster, n)})
			continue
		}
		if left, full := view.DiskFull(in.Member(n).Last); full {
			p.AddCheck(operation.Check{Name: "Replica able to take part", Server: n, Result: operation.Warn,
				Evidence: fmt.Sprintf("the disk of %s is full: %s are left", n, words.Size(left)),
				Why:      "it is left as it is and has to rejoin later",
				Mend:     fmt.Sprintf("free space on %s, then: crosstwin rejoin %s %s", n, in.View.Cluster, n)})
			continue
		}
		out = append(out, n)
	}
	return out
}

// checkKeepsUp warns where no replica receives from a primary that is to stop in order: what
// they lack then was not named, so everything would go back after a pause for nothing.
func (in *Input) checkKeepsUp(p *operation.Plan, old string, replicas []string) {
	for _, n := range replicas {
		if s := in.View.Find(n); s.Health == view.InStep {
			return
		}
	}
	lacks := "some"
	if s := in.View.Find(replicas[0]); s.LagBytes > 0 {
		lacks = words.Size(s.LagBytes)
	}
	p.AddCheck(operation.Check{Name: "Replica that keeps up", Server: replicas[0], Result: operation.Warn,
		Evidence: fmt.Sprintf("no replica is in step: %s lacks %s of %s's log", replicas[0], lacks, old),
		Why: "if none of them gets the rest while " + old + " stops, everything goes back, and writes have paused for " +
			"20 s or so for nothing",
		Mend: fmt.Sprintf("mend what keeps %s's log from its replicas; or stop %s's database and ask again: the plan then "+
			"names what is lost", old, old)})
}

// checkLeftOut names the replicas that do not run or answer and may hold what the candidate
// lacks: where something is lost, and where the old primary saw one receive to the end.
func (in *Input) checkLeftOut(p *operation.Plan, old, cand string) {
	answer := in.replicas()
	for _, m := range in.Members {
		if m.Name == old || m.Name == cand || slices.Contains(answer, m.Name) {
			continue
		}
		d, ok := in.ownerSees(m.Name)
		received := ok && d.State == "streaming" && !in.seen(m.Name)
		if !received && (p.Loss == nil || !m.HeldData) {
			continue
		}
		s, at := in.View.Find(m.Name), ""
		if s.Position != "" {
			at = ", and was last seen at " + s.Position
		}
		p.AddCheck(operation.Check{Name: "Replica that may hold more", Server: m.Name, Result: operation.Warn,
			Evidence: fmt.Sprintf("%s takes no part (%s)%s", m.Name, words.Said(string(s.Health), 1), at),
			Why:      "what it holds and " + cand + " lacks is lost with the rest, though it may be fetched",
			Mend: fmt.Sprintf("if %s can be started, have it run as a replica first, then ask for the failover again",
				m.Name)})
	}
}

// proven reports whether a server was proven in the present term.
func (in *Input) proven(name string) bool {
	m := in.Member(name)
	return m != nil && m.Last != nil && m.Last.Log.ProvenTerm > 0 && m.Last.Log.ProvenTerm >= in.View.KinTerm
}

// stepWhole compares, once no position moves any more, what the candidate holds
// with where the old primary's log ends. More than the loss that the plan named
// is missing: the old primary is reopened, or nothing further happens. Where the
// end cannot be known the plan has said so, and a person has accepted that.
func (in *Input) stepWhole(p *operation.Plan, old, cand string) {
	if p.Loss != nil && !p.Loss.Known || !in.seen(old) || p.Covered {
		return
	}
	c := operation.Condition{Kind: operation.LosesAtMost, Server: cand, Other: old,
		Within: position.Distance{Unit: position.UnitOf(in.View.Engine)}}
	title := fmt.Sprintf("Verify that %s holds everything that %s wrote", cand, old)
	if p.Loss != nil {
		c.Within = p.Loss.Distance
		title = fmt.Sprintf("Verify that %s lacks no more than %s of what %s wrote", cand, words.Amount(p.Loss.Distance), old)
	}
	if x := in.Examination; x != nil && x.End != "" && !x.Running {
		c.Values = []string{x.End}
	}
	p.AddStep(operation.Step{Name: "whole", Action: operation.Action{Title: title}, After: []operation.Condition{c},
		Seconds: 0.1, Limit: 10, IfFails: "the replicas follow " + old + " again"})
}

// mayBeMade accepts who may take over, and who was asked for by name, is
// stopped, and has data that can be started: after a power cut that may be all
// there is.
func (in *Input) mayBeMade(s *view.Server) (bool, string) {
	o := s.Observation
	// Only that it does not run may stand in the way: what is adrift, foreign or no full
	// copy is nobody to start.
	startable := o != nil && in.seen(s.Name) && !o.Process.Running && !o.Data.Empty && o.Data.Unfinished == "" &&
		s.Rank > 0 && s.Unfit.Code == cause.UnfitNow && (s.Health == view.Stopped || s.Health == view.Fenced)
	unproven := s.Unfit.Code == cause.NotProven
	switch {
	case s.MayTakeOver:
		return true, ""
	case unproven && s.Name == in.Request.To:
		return true, ""
	case unproven:
		return false, words.Say(s.Unfit) + "; to choose it nevertheless, ask for it: --to " + s.Name
	case startable && s.Name == in.Request.To:
		return true, ""
	case startable:
		return false, words.Say(s.Unfit) + "; to start it first, ask for it: --to " + s.Name
	}
	return false, words.Say(s.Unfit)
}

// stepStart starts a candidate that does not run, read-only.
func (in *Input) stepStart(p *operation.Plan, cand string) {
	if in.Member(cand).Last.Process.Running {
		return
	}
	p.AddStep(operation.Step{Name: "start-candidate",
		Action: operation.Action{Title: "Start " + cand + " read-only", Server: cand,
			Call: verb.Seal(verb.Start{As: observation.Replica})}, Tries: startTries, PatienceSeconds: startPatience, Seconds: 1,
		Limit:   600,
		After:   []operation.Condition{{Kind: operation.IsReplica, Server: cand}},
		IfFails: "read the server's log; nothing else has changed"})
}

// held is how far a server's own log goes, as it says itself.
func held(s *view.Server) string {
	if s.Observation == nil {
		return s.Received
	}
	return cmp.Or(s.Received, s.Observation.Log.Applied, s.Observation.Log.Written)
}

// byReceived puts the replica that holds most first, then rank, site and name.
func (in *Input) byReceived(a, b *view.Server) bool {
	x, y := held(a), held(b)
	if d, known := position.Lacks(in.View.Engine, y, x); known && !d.IsZero() {
		return true
	}
	if d, known := position.Lacks(in.View.Engine, x, y); known && !d.IsZero() {
		return false
	}
	return in.byRank(a, b)
}

// checkOldStopped is the rule that no second server takes writes: the old
// primary must be reachable, so that it can be fenced, or vouched for.
func (in *Input) checkOldStopped(p *operation.Plan, old string) {
	c := operation.Check{Name: "Old primary fenced or confirmed off", Server: old, Result: operation.Pass,
		Why: "two servers that take writes at once fork the data"}
	s := in.View.Find(old)
	switch {
	case in.seen(old) && s.Health == view.TakesWrites:
		c.Result, c.Evidence = operation.Warn, old+" is alive and takes writes: it is fenced first"
		c.Why, c.Mend = "a switchover moves the role without any loss",
			"if you need not leave "+old+" at once: crosstwin switchover "+in.View.Cluster
	case in.seen(old) && s.Open():
		c.Result = operation.Warn
		c.Evidence = fmt.Sprintf("%s is alive, and %s: it is fenced first", old, cmp.Or(s.Why, "takes no writes"))
		c.Why = "what keeps it from taking writes may keep another server from it as well"
	case in.seen(old):
		c.Evidence = fmt.Sprintf("%s's agent answers and keeps it stopped (it %s)", old, words.Said(string(s.Health), 1))
	case in.permissionEnds(old):
		c.Evidence = fmt.Sprintf("%s's agent does not answer; %s takes writes only while its permission runs, and its "+
			"host stops it then: that is waited for", old, old)
	case slices.Contains(in.Request.ConfirmStopped, old):
		c.Result, c.Evidence = operation.Warn,
			old+"'s agent does not answer; confirmed by you: "+old+
				" is off. Its agent fences it as soon as it learns of the new term"
	default:
		c.Result, c.Evidence = operation.Fail, old+"'s agent does not answer; "+old+" may still take writes"
		c.Mend = "power " + old + " off or isolate it, verify, then: crosstwin failover " + in.View.Cluster +
			" --confirm-stopped " + old
	}
	p.AddCheck(c)
	if !in.seen(old) && !in.permissionEnds(old) {
		in.checkNotAlive(p, old)
	}
}

// checkNotAlive refuses a person's word that a server is off while a replica
// receives from it, or it answers a login: evidence beats that.
func (in *Input) checkNotAlive(p *operation.Plan, old string) {
	for i := range in.View.Servers {
		s := &in.View.Servers[i]
		if ago, does := s.ReceivesFrom(old, view.FreshSeconds); does {
			p.AddCheck(operation.Check{Name: "Old primary not seen alive", Server: old, Result: operation.Fail,
				Evidence: fmt.Sprintf("%s received from %s %s ago", s.Name, old, words.Span(ago)),
				Why:      "a server that still feeds a replica is not off: two servers would take writes",
				Mend:     "power " + old + " off or isolate it from its replicas too, wait until they lose it, then ask again"})
		}
	}
	for _, x := range in.Probes {
		if x.To == old && (x.Result.OK || x.Result.Answered) {
			p.AddCheck(operation.Check{Name: "Old primary not seen alive", Server: old, Result: operation.Fail,
				Evidence: fmt.Sprintf("%s answers a login from %s", old, x.From),
				Why:      "a server that answers is not off: two servers would take writes",
				Mend:     "power " + old + " off or isolate it, then ask again"})
		}
	}
}

func (in *Input) ownerSees(name string) (observation.Downstream, bool) {
	if o := in.Member(in.View.Primary); o != nil && o.Last != nil {
		return o.Last.DownstreamNamed(name)
	}
	return observation.Downstream{}, false
}

// loss says what a failover would lose, as exactly as it can be known.
func (in *Input) loss(p *operation.Plan, old, cand string, others []string) string {
	c := in.View.Find(cand)
	held := held(c)
	if in.Member(cand).Last.Process.Running && !in.proven(cand) {
		p.Loss = &operation.Loss{}
		p.ConfirmName = in.View.Cluster
		p.Destroys = fmt.Sprintf("writes that %s does not hold, if there are any: %s, so its position %s proves nothing",
			cand, words.Say(cause.Cause{Code: cause.NotProven, Peer: old}), held)
		return "What would be lost is not known."
	}
	if _, ok := position.Order(in.View.Engine, held); !ok {
		p.Loss = &operation.Loss{}
		p.Destroys, p.ConfirmName = "writes that "+cand+
			" does not hold, if there are any: it does not run, so that cannot be seen", in.View.Cluster
		return "What would be lost is not known."
	}
	for _, n := range in.replicas(cand, old) {
		if s := in.View.Find(n); s != nil && in.proven(n) {
			if more, known := position.Lacks(in.View.Engine, held, s.Received); known && !more.IsZero() {
				held = s.Received // it is fetched first
			}
		}
	}
	m := in.Member(old)
	if v := in.View.Find(old); v != nil && v.Open() && in.stopsGently(old) {
		in.checkKeepsUp(p, old, append([]string{cand}, others...))
		return fmt.Sprintf("%s stops cleanly first, so that nothing should be lost.", old)
	}
	if ok, _ := in.covered(append([]string{cand}, others...)); ok {
		p.Covered, p.Promised = true, in.promised()
		return fmt.Sprintf("Nothing acknowledged is lost: each acknowledged write is on %s, and enough of them are asked.",
			lists(in.promised(), ", or on "))
	}
	// Only the end of the old primary's own log bounds the loss: nobody can hold
	// more. What was last seen of it says nothing about what it wrote since.
	if x := in.Examination; x == nil || x.End == "" || x.Running {
		seen := ""
		if m != nil && m.Last != nil {
			if at := cmp.Or(m.Last.Log.Written, m.Last.Log.ShutdownAt); at != "" {
				seen = "; it was last seen at " + at
			}
		}
		p.Loss, p.ConfirmName = &operation.Loss{}, in.View.Cluster
		p.Destroys = fmt.Sprintf(
			"writes of %s after %s, if there are any: %s cannot be examined%s", old, held, old, seen)
		return fmt.Sprintf("What is lost is not known: %s cannot be examined. %s holds everything up to %s.", old, cand, held)
	}
	end := in.Examination.End
	lost, known := position.Lacks(in.View.Engine, held, end)
	switch {
	case !known:
		p.Loss, p.ConfirmName = &operation.Loss{}, in.View.Cluster
		p.Destroys = fmt.Sprintf("writes of %s after %s, if there are any: the end of its log, %q, cannot be compared", old,
			held, end)
		return "What is lost is not known: the end of " + old + "'s log cannot be compared."
	case lost.IsZero():
		return fmt.Sprintf("Nothing is lost: %s holds all that %s wrote (by the end of its log).", cand, old)
	}
	p.Loss, p.ConfirmName = &operation.Loss{Known: true, Distance: lost}, in.View.Cluster
	p.Destroys = fmt.Sprintf(
		"%s that %s has and %s lacks (by the end of its log, after %s up to %s); this stays on its disk until it rejoins",
		words.Amount(lost), old, cand, held, end)
	return fmt.Sprintf("Lost to the cluster: %s that %s does not hold, after %s up to %s.", words.Amount(lost), cand,
		held, end)
}

// stopsGently reports whether a server that is to be fenced can stop in order first. One that
// hangs, or whose disk does, ends no session cleanly: waiting for it only makes the pause longer.
func (in *Input) stopsGently(server string) bool {
	v := in.View.Find(server)
	return in.seen(server) && v.Observation != nil && v.Cause.Code != cause.DiskHangs &&
		(v.Observation.Process.Accepting || v.Observation.Process.NotLetIn)
}

func (in *Input) stepFence(p *operation.Plan, old string) {
	if !in.seen(old) {
		return
	}
	v, gently := in.View.Find(old), in.stopsGently(old)
	s := operation.Step{Name: "fence-old",
		Action:  operation.Action{Title: "Fence " + old, Server: old, Call: verb.Seal(verb.Fence{Gently: gently})},
		Seconds: 0.2, Limit: 30,
		After: []operation.Condition{{Kind: operation.AcknowledgesNothing, Server: old}}, IfFails: "nothing else is changed"}
	if v != nil && v.Open() {
		s.Undo = in.stepsReopen(p, old)
		s.IfFails = old + " becomes primary again"
	}
	p.AddStep(s)
}

// permissionEnds reports whether a server that cannot be asked stops by itself: it was
// last seen under fencing, with the deadman that sees to that.
func (in *Input) permissionEnds(server string) bool {
	m := in.Member(server)
	return in.Fencing && m != nil && m.Last != nil && m.Last.Permission != nil && m.Last.Permission.Fencing &&
		m.Last.Permission.Deadman
}

// stepOutlast waits, before anything is taken from the old primary, until its permission
// has ended. While it still writes, because its replicas' agents hear it, nothing more
// happens.
func (in *Input) stepOutlast(p *operation.Plan, old, cand string) {
	if !in.Fencing {
		return
	}
	p.AddStep(operation.Step{Name: "outlast",
		Action: operation.Action{Title: "Wait until " + old + "'s permission to write has ended",
			Call: verb.Seal(verb.Outlast{Candidate: cand})}, Seconds: 5, Limit: 30,
		IfFails: "nothing else is changed"})
}

// stepDetach detaches all that take part at once, so that no position moves any more.
func (in *Input) stepDetach(p *operation.Plan, old string, replicas []string) {
	s := operation.Step{Name: "detach",
		Action: operation.Action{Title: "Detach " + words.List(replicas) + " so that what they hold stays",
			Call: verb.Seal(verb.Detach{Servers: replicas})}, Seconds: 0.2,
		IfFails: "the replicas follow " + old + " again"}
	for _, n := range replicas {
		s.After = append(s.After, operation.Condition{Kind: operation.IsDetached, Server: n})
		s.Undo = append(s.Undo, operation.Step{Name: "put-back-" + n,
			Action: operation.Action{Title: "Have " + n + " follow " + old + " again", Server: n,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(old), Slot: in.slotFor(n), Back: true})}})
	}
	p.AddStep(s)
}

// stepsFetch let the candidate fetch, replica by replica, what another one holds
// more. Where it holds as much already there is nothing to do.
func (in *Input) stepsFetch(p *operation.Plan, cand string, others []string) {
	for _, n := range others {
		holds := []operation.Condition{{Kind: operation.HoldsMost, Server: cand, Other: n}}
		p.AddStep(operation.Step{Name: "fetch-" + n,
			Action: operation.Action{Title: fmt.Sprintf("Fetch log that %s lacks from %s", cand, n), Server: cand,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(n)})},
			Skip: holds, After: holds, Seconds: 0.3, Limit: 120, IfFails: "the replicas follow their old upstream again"})
	}
	if len(others) > 0 {
		alone := []operation.Condition{{Kind: operation.IsDetached, Server: cand}}
		p.AddStep(operation.Step{Name: "detach-again",
			Action: operation.Action{Title: "Detach " + cand + " again", Server: cand, Call: verb.Seal(verb.Follow{})},
			Skip:   alone, After: alone, Seconds: 0.1, IfFails: "the replicas follow their old upstream again"})
	}
}
