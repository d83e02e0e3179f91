package plan

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// switchover plans the move of the primary role from a living primary P to a
// candidate N. Everything that can be done beforehand is done before P stops
// taking writes. Then P stops, N is proven to hold everything that P wrote, and
// N is promoted: the point of no return.
func (in *Input) switchover(p *operation.Plan) error {
	if in.Request.To != "" && in.Request.To == in.View.Primary {
		return fmt.Errorf("%s is the primary of %s already: name another server, or none to have one chosen", in.Request.To,
			in.View.Cluster)
	}
	p.Term = in.NextTerm
	up := in.checkPrimary(p)
	in.choose(p, func(s *view.Server) (bool, string) {
		if ok, why := s.MayTakeOver, s.WhyNot; !ok {
			return false, why
		}
		if s.Health == view.Stalled {
			return false, "it is stalled: " + s.Why
		}
		return true, ""
	}, in.byRank)
	old, cand := in.View.Primary, p.Candidate
	if cand == "" || !up {
		in.checkAgents(p, old)
		p.Summary = "Move the primary role of " + in.View.Cluster + ": not possible now."
		return nil
	}
	p.Summary = fmt.Sprintf("Move the primary role of %s from %s to %s. Expected write pause: about %s.", in.View.Cluster,
		old, cand, words.Span(in.dialect().Pause))
	p.PauseSeconds = in.dialect().Pause
	in.checkAgents(p, old, cand)
	in.checkCandidateLag(p, cand)
	in.checkReplay(p, cand)
	in.checkFirstWrite(p, cand)
	in.checkPaths(p, operation.Fail)
	in.checkReached(p)
	in.checkAll(p)
	in.checkGates(p)

	p.UndoOnRestart = true
	p.Closing = fmt.Sprintf("%s is primary of %s in term %d, %s follows it; writes paused for %s", cand, in.View.Cluster,
		p.Term, old, operation.PausePlace)
	others := in.replicas(cand)
	in.checkSlotsLeft(p, old, cand)
	in.roleEffects(p, old, cand, others, "becomes a replica of "+cand)
	in.stepsBeforePause(p, old, cand, others)
	in.stepsOfPause(p, old, cand)
	if in.marksWait(cand) { // for a replica, which the old primary may be the only one to be
		in.stepOldFollows(p, old, cand)
		in.stepsAfterPromotion(p, cand, others)
	} else {
		in.stepsAfterPromotion(p, cand, others)
		in.stepOldFollows(p, old, cand)
	}
	in.stepsOfProof(p, cand, append(others, old))
	return nil
}

// stepOldFollows makes a replica of the old primary.
func (in *Input) stepOldFollows(p *operation.Plan, old, cand string) {
	if in.dialect().InPlace {
		p.AddStep(operation.Step{Name: "demote-old",
			Action: operation.Action{Title: "Have " + old + " follow " + cand + " without a restart", Server: old,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(cand)})},
			After: []operation.Condition{{Kind: operation.IsReplica, Server: old},
				{Kind: operation.PointsAt, Server: old, Other: cand}}, Seconds: 0.1, Limit: 60,
			IfFails: old + " stays closed for writes; writes continue on " + cand + "; bring it back: crosstwin rejoin " +
				in.View.Cluster + " " + old + ""})
		return
	}
	p.AddStep(operation.Step{Name: "start-old",
		Action: operation.Action{Title: "Start " + old + " as replica of " + cand, Server: old,
			Call: verb.Seal(verb.Start{As: observation.Replica})}, Tries: startTries, PatienceSeconds: startPatience,
		After: []operation.Condition{{Kind: operation.IsReplica, Server: old}}, Seconds: 0.3, Limit: 60,
		IfFails: old + " stays stopped and closed; writes continue on " + cand + "; bring it back: crosstwin rejoin " +
			in.View.Cluster + " " + old + ""})
}

func (in *Input) checkCandidateLag(p *operation.Plan, name string) {
	s := in.View.Find(name)
	ok := s.Health == view.InStep
	if d := in.delayOf(name); d > 0 {
		p.AddCheck(operation.Check{Name: "Candidate not delayed", Server: name, Result: operation.Fail,
			Evidence: fmt.Sprintf("%s is delayed by %s", name, words.Span(d)), Why: "writes would wait for as long",
			Mend: fmt.Sprintf("crosstwin tune %s %s delay 0", in.View.Cluster, name)})
	}
	c := operation.Check{Name: "Candidate in step", Server: name, Result: verdict(ok, operation.Fail),
		Evidence: fmt.Sprintf("%s %s, %s behind", name, words.Said(string(s.Health), 1), words.Size(s.LagBytes))}
	if !ok {
		c.Why, c.Mend = "writes would wait until it has caught up",
			"wait until it is in step: crosstwin watch "+in.View.Cluster
	}
	p.AddCheck(c)
}

// choose picks the candidate among the servers that eligible accepts, and
// gives the reason for each that is not chosen.
func (in *Input) choose(p *operation.Plan, eligible func(*view.Server) (bool, string),
	better func(a, b *view.Server) bool) {
	var can []*view.Server
	for i := range in.View.Servers {
		s := &in.View.Servers[i]
		if s.Name == in.View.Primary {
			continue
		}
		if ok, why := eligible(s); !ok {
			p.Choices = append(p.Choices, operation.Choice{Server: s.Name, Why: why})
			continue
		}
		can = append(can, s)
	}
	sort.SliceStable(can, func(i, j int) bool { return better(can[i], can[j]) })
	for i, s := range can {
		asked := s.Name == in.Request.To
		if asked || in.Request.To == "" && i == 0 {
			p.Candidate = s.Name
		}
	}
	for _, s := range can {
		why := fmt.Sprintf("rank %d, holds up to %s", s.Rank, held(s))
		if held(s) == "" {
			why = fmt.Sprintf("rank %d, what it holds is not known", s.Rank)
		}
		switch {
		case s.Name != p.Candidate && in.Request.To != "":
			why = in.Request.To + " was asked for (" + why + ")"
		case s.Name != p.Candidate:
			why = p.Candidate + " comes first (" + why + ")"
		case in.Request.To != "":
			why = "asked for (" + why + ")"
		}
		p.Choices = append(p.Choices, operation.Choice{Server: s.Name, Chosen: s.Name == p.Candidate, Why: why})
	}
	c := operation.Check{Name: "Eligible candidate", Server: p.Candidate, Result: operation.Pass,
		Evidence: p.Candidate + " may take over"}
	if p.Candidate == "" {
		c.Result, c.Server, c.Why = operation.Fail, in.Request.To,
			"only a server with a rank that runs and answers as a replica may become primary"
		c.Evidence, c.Mend = "no server of "+in.View.Cluster+" may take over", "see crosstwin status "+in.View.Cluster
		var why []string
		for _, ch := range p.Choices {
			why = append(why, ch.Server+": "+ch.Why)
		}
		if len(why) > 0 && in.Request.To == "" {
			c.Evidence += " (" + strings.Join(why, "; ") + ")"
		}
		for _, ch := range p.Choices {
			if ch.Server == in.Request.To {
				c.Evidence = ch.Server + " may not take over: " + ch.Why
				c.Mend = "name another server, or give it a rank: crosstwin server set " + in.View.Cluster + " " + ch.Server +
					" --rank 1"
				if x := in.Member(ch.Server); x != nil && x.Rank > 0 {
					c.Mend = "repair " + ch.Server + " first, or name another server"
				}
			}
		}
	}
	p.AddCheck(c)
}

func (in *Input) byRank(a, b *view.Server) bool {
	if a.Rank != b.Rank {
		return a.Rank < b.Rank
	}
	if x, y := in.sitePlace(a), in.sitePlace(b); x != y {
		return x < y
	}
	if a.LagBytes != b.LagBytes {
		return a.LagBytes < b.LagBytes
	}
	return a.Name < b.Name
}

// sitePlace is the place of a server's site among those that the policy prefers.
func (in *Input) sitePlace(s *view.Server) int {
	sites := in.View.Policy.Automatic.Sites
	if i := slices.Index(sites, s.Site); i >= 0 {
		return i
	}
	return len(sites)
}

func (in *Input) roleEffects(p *operation.Plan, old, cand string, others []string, fate string) {
	p.Effects = append(p.Effects, fmt.Sprintf("%s becomes primary in term %d", cand, p.Term), old+" "+fate)
	for _, n := range others {
		p.Effects = append(p.Effects, n+" follows "+cand+", without a restart")
	}
	for _, m := range in.Members {
		if m.Name != old && m.Name != cand && !slices.Contains(others, m.Name) {
			p.Effects = append(p.Effects, m.Name+" does not answer as a replica: it has to rejoin later")
		}
	}
}

// checkSlotsLeft names the slots of an old primary that no other server has: what reads
// through them gets nothing from the new one.
func (in *Input) checkSlotsLeft(p *operation.Plan, old, cand string) {
	m := in.Member(old)
	if m == nil || m.Last == nil {
		return
	}
	for _, s := range m.Last.Links.Slots {
		switch {
		case s.Database != "":
			use := map[bool]string{true: "it is read now", false: "nobody reads it now"}[s.Active]
			p.AddCheck(operation.Check{Name: "Logical slot " + s.Name, Server: old, Result: operation.Warn,
				Evidence: fmt.Sprintf("logical slot %s (database %s) is on %s alone; %s", s.Name, s.Database, old, use),
				Why: fmt.Sprintf("its subscriber gets nothing from %s, and what is written there before it has a slot there is "+
					"never sent to it", cand),
				Mend: fmt.Sprintf("have writers of what it subscribes to wait, let it catch up, and after the role change make "+
					"its slot on %s before they go on; then on %s: select pg_drop_replication_slot('%s')", cand, old, s.Name)})
		case s.Active && !s.Ours:
			p.Effects = append(p.Effects, fmt.Sprintf("slot %s of %s, which Cross Twin did not make, stays there unread and "+
				"keeps its log; once nobody needs it: select pg_drop_replication_slot('%s')", s.Name, old, s.Name))
		}
	}
}

func slotNames(servers []string) []string {
	var out []string
	for _, s := range servers {
		out = append(out, verb.SlotName(s))
	}
	return out
}

// stepOpenTerm counts the term up; every reachable agent refuses older acts
// from then on.
func (in *Input) stepOpenTerm(p *operation.Plan, owner string) {
	s := operation.Step{Name: "open-term",
		Action: operation.Action{Title: fmt.Sprintf("Open term %d and record it on every reachable agent", p.Term),
			Call: verb.Seal(verb.OpenTerm{Term: p.Term, For: owner})}, Seconds: 0.1,
		IfFails: "nothing has changed"}
	for _, m := range in.Members {
		if in.seen(m.Name) {
			s.After = append(s.After, operation.Condition{Kind: operation.HasNoted, Server: m.Name, Term: p.Term})
		}
	}
	p.AddStep(s)
}

func (in *Input) stepsBeforePause(p *operation.Plan, old, cand string, others []string) {
	if !in.Fencing {
		in.stepOpenTerm(p, cand)
	}
	in.stepMakeSlots(p, "make-slots", cand, append([]string{old}, others...))
	if !in.dialect().InPlace {
		p.AddStep(operation.Step{Name: "stage-old",
			Action: operation.Action{Title: "Write " + old + "'s settings for following " + cand +
				" (no effect while it is primary)", Server: old,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(cand), Slot: in.slotFor(old)})},
			After: []operation.Condition{{Kind: operation.PointsAt, Server: old, Other: cand}}, Seconds: 0.1,
			Undo: putBack(operation.Action{Title: "Undo the settings on " + old, Server: old,
				Call: verb.Seal(verb.Follow{})}),
			IfFails: "the settings are undone"})
	}
	in.stepCheckpoint(p, operation.Step{Name: "checkpoint-old",
		Action:  operation.Action{Title: "Checkpoint " + old + " so that its stop is short", Server: old},
		IfFails: "settings and slots are undone"})
	in.stepsFollowEarly(p, old, cand, others)
	in.stepsKeepMode(p, cand, "what was prepared is undone")
	in.stepRestGates(p)
	p.AddStep(operation.Step{Name: "caught-up", Action: operation.Action{Title: "Wait until " + cand + " is in step"},
		After:   []operation.Condition{{Kind: operation.IsCaughtUp, Server: cand, Other: old, Within: in.dialect().Near}},
		Seconds: 0.1, Limit: 20,
		IfFails: "what was prepared is undone"})
	if in.Fencing { // the old primary gets no permission any more from then on, and has the rest of one to stop in
		in.stepOpenTerm(p, cand)
	}
}

func (in *Input) stepsOfPause(p *operation.Plan, old, cand string) {
	in.stepHoldGates(p, old)
	p.AddStep(operation.Step{Name: "stop-old",
		Action:  operation.Action{Title: in.dialect().Title.Stop(old), Server: old, Call: verb.Seal(verb.Stop{})},
		InPause: true, Seconds: 0.08, Limit: 10,
		Undo: in.stepsReopen(p, old), IfFails: old + " becomes primary again"})
	// That it has stopped, and that the candidate holds all, is seen in one look: each takes
	// longer than most of what is done in the pause.
	p.AddStep(operation.Step{Name: "prove", Action: operation.Action{Title: in.dialect().Title.Prove(old, cand)},
		InPause: true, Seconds: 0.01, Limit: 10,
		After: []operation.Condition{{Kind: operation.IsStopped, Server: old},
			{Kind: operation.HoldsAll, Server: cand, Other: old}},
		IfFails: old + " becomes primary again"})
	p.AddStep(operation.Step{Name: "decide",
		Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", cand, p.Term),
			Call: verb.Seal(verb.Decide{Server: cand, Closed: true})}, InPause: true, Seconds: 0.01,
		IfFails: old + " becomes primary again"})
	in.stepPromote(p, cand)
}

// stepsReopen make the old primary primary again, in a further term: nothing of
// the one that is given up can take effect any more. The old primary's agent has
// to have noted it before; of the others those that answer.
func (in *Input) stepsReopen(p *operation.Plan, old string) []operation.Step {
	term := p.Term + 1
	return []operation.Step{
		{Name: "reopen-term",
			Action: operation.Action{Title: fmt.Sprintf("Open term %d and record it on every reachable agent", term),
				Call: verb.Seal(verb.OpenTerm{Term: term, For: old})},
			After: []operation.Condition{{Kind: operation.HasNoted, Server: old, Term: term}}},
		{Name: "reopen-decide", Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", old, term),
			Call: verb.Seal(verb.Decide{Server: old, Closed: true})}},
		{Name: "reopen", Action: operation.Action{Title: "Open " + old + " for writes again", Server: old,
			Call: verb.Seal(verb.Start{As: observation.Primary})}, Limit: 90,
			After: []operation.Condition{{Kind: operation.IsPrimary, Server: old, Term: term}}},
		decideOpen(old, term),
	}
}

// decideOpen records that the owner of a term writes. Only from then on nothing that was
// proven before is a proof: should it not come to that, another server can take over.
func decideOpen(owner string, term int64) operation.Step {
	return operation.Step{Name: "decide-open", Action: operation.Action{
		Title: fmt.Sprintf("Record that %s writes in term %d", owner, term), Call: verb.Seal(verb.Decide{Server: owner})},
		OnFail: operation.NeedsYou, Seconds: 0.01, IfFails: "writes continue on " + owner}
}

// putBack is the undo that consists of one action.
func putBack(a operation.Action) []operation.Step {
	return []operation.Step{{Name: "put-back", Action: a}}
}

func (in *Input) stepPromote(p *operation.Plan, cand string) {
	p.AddStep(operation.Step{Name: "promote",
		Action:  operation.Action{Title: "Promote " + cand, Server: cand, Call: verb.Seal(verb.Promote{Server: cand})},
		InPause: true, NoReturn: true, OnFail: operation.NeedsYou, Seconds: 0.1, Limit: 60,
		After:   []operation.Condition{{Kind: operation.IsPrimary, Server: cand, Term: p.Term}},
		IfFails: "retried for up to 60 s, then needs you; no writes until " + cand + " is primary"})
	p.AddStep(decideOpen(cand, p.Term))
	in.stepReleaseGates(p, cand)
}

// stepsAfterPromotion write the mark of the term and re-point the others.
func (in *Input) stepsAfterPromotion(p *operation.Plan, cand string, others []string) {
	nobody := in.nobodyMarks(p, cand, others)
	if in.marksWait(cand) {
		in.stepsFollow(p, cand, others)
		others = nil
	}
	if !nobody {
		p.AddStep(operation.Step{Name: "mark-term",
			Action: operation.Action{Title: fmt.Sprintf("Write the mark of term %d on %s and close it by default", p.Term,
				cand), Server: cand, Call: verb.Seal(verb.Mark{})}, Seconds: 0.05,
			After:   []operation.Condition{{Kind: operation.IsClosed, Server: cand}},
			IfFails: "writes continue on " + cand + "; its agent tries again"})
	}
	if in.dialect().InPlace {
		in.stepEvents(p, cand)
	} else {
		p.AddStep(operation.Step{Name: "detach-new",
			Action: operation.Action{Title: "Remove " + cand + "'s own upstream from its settings", Server: cand,
				Call: verb.Seal(verb.Follow{})}, Seconds: 0.05,
			After: []operation.Condition{{Kind: operation.IsDetached, Server: cand}}, OnFail: operation.GoOn,
			IfFails: "it has no effect while " + cand + " is primary"})
	}
	in.stepsFollow(p, cand, others)
	// Until then the control data names the old history, and a rewind, of this
	// server or from it, would look for the fork in the wrong one (measured).
	in.stepCheckpoint(p, operation.Step{Name: "checkpoint-new",
		Action: operation.Action{Title: "Checkpoint " + cand + " so that its control data names its history", Server: cand},
		OnFail: operation.GoOn,
		IfFails: "the server writes one by itself within minutes; if " + cand +
			" crashes before that, it can only be rebuilt"})
}

func (in *Input) stepsFollow(p *operation.Plan, cand string, others []string) {
	for _, n := range others {
		p.AddStep(operation.Step{Name: "follow-" + n,
			Action: operation.Action{Title: "Have " + n + " follow " + cand, Server: n,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(cand), Slot: in.slotFor(n)})}, Seconds: 0.2,
			After: []operation.Condition{{Kind: operation.PointsAt, Server: n, Other: cand}}, OnFail: operation.GoOn,
			IfFails: n + " keeps its upstream and has to rejoin"})
	}
}

// stepsOfProof see every replica stream, drop what nobody reads any more, and
// find a fresh mark in every replica's own log.
func (in *Input) stepsOfProof(p *operation.Plan, primary string, replicas []string) {
	for _, n := range replicas {
		// It was told to before, or followed all along. A server that is restarted at
		// that moment may come up with what it knew before: so it is told again.
		p.AddStep(operation.Step{Name: "streams-" + n,
			Action: operation.Action{Title: "Wait until " + n + " streams from " + primary, Server: n,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(primary), Slot: in.slotFor(n)})}, Tries: followTries,
			PatienceSeconds: followPatience, Seconds: 0.5, Limit: 60 + in.delayOf(n),
			After:   []operation.Condition{in.follows(n, primary)},
			IfFails: "writes continue on " + primary + "; repair it: crosstwin rejoin " + in.View.Cluster + " " + n})
	}
	for _, n := range replicas {
		in.stepDropSlots(p, n, true)
	}
	if !in.nobodyMarks(p, primary, replicas) {
		in.stepsOfMark(p, primary, replicas, "writes continue; the proof is missing", notProven)
	}
	if in.Request.Compare {
		in.stepsOfCompare(p, primary, replicas)
	}
}

// longDelay is the delay, in seconds, from which the proof does not wait for a
// replica that is held back on purpose.
const longDelay = 30

// stepsOfMark write a mark on the primary and find it in each replica's own
// log, applied: the proof that they are on one history. A replica that is held
// back for long has it only later, which the plan says.
func (in *Input) stepsOfMark(p *operation.Plan, primary string, replicas []string, missing, unproven string) {
	p.AddStep(operation.Step{Name: "mark",
		Action: operation.Action{Title: "Write a mark on " + primary, Server: primary, Call: verb.Seal(verb.Mark{})},
		Keep:   verb.Fact{Kind: verb.FactMark}, Seconds: 0.05, IfFails: missing})
	for _, n := range replicas {
		delay := in.delayOf(n)
		if delay > longDelay {
			p.Effects = append(p.Effects,
				fmt.Sprintf("%s is delayed by %s: the operation does not wait for it; crosstwin compare proves it later", n,
					words.Span(delay)))
			continue
		}
		p.AddStep(operation.Step{Name: "mark-on-" + n,
			Action: operation.Action{Title: "Find the mark in " + n + "'s own log", Server: n,
				Call: verb.Seal(verb.AwaitMark{})}, Needs: []verb.Fact{{Kind: verb.FactMark}}, Seconds: 0.3 + delay,
			Limit: 60 + delay,
			After: []operation.Condition{{Kind: operation.HasMark, Server: n, Fact: verb.Fact{Kind: verb.FactMark}},
				{Kind: operation.HasPassed, Server: n, Fact: verb.Fact{Kind: verb.FactMark}}}, IfFails: fmt.Sprintf(unproven, n)})
	}
}

// follows is the condition that a replica follows a server. One that is held
// back for long comes to the new history only later.
func (in *Input) follows(name, upstream string) operation.Condition {
	if in.delayOf(name) > longDelay {
		return operation.Condition{Kind: operation.PointsAt, Server: name, Other: upstream}
	}
	return operation.Condition{Kind: operation.Streams, Server: name, Other: upstream}
}

// followTries is how often a server is told to follow, and followPatience for how many
// seconds it is looked at each time.
const followTries, followPatience = 5, 10.0

const notProven = "%s has unproven history: crosstwin rejoin examines it"

// delayOf returns for how many seconds a replica is held back on purpose.
func (in *Input) delayOf(name string) float64 {
	m := in.Member(name)
	if m == nil || m.Last == nil || m.Last.Links.Upstream == nil {
		return 0
	}
	return float64(m.Last.Links.Upstream.DelaySeconds)
}

// stepDropSlots drops our slots on a replica: it feeds nobody. A slot through
// which another server of the cluster follows it stays, unless all replicas
// were pointed at the primary.
func (in *Input) stepDropSlots(p *operation.Plan, name string, allMoved bool) {
	if !in.dialect().Slots {
		return
	}
	fed := map[string]bool{}
	for _, m := range in.Members {
		if s := in.View.Find(m.Name); s != nil && s.Follows == name && name != in.View.Primary && !allMoved {
			fed[verb.SlotName(m.Name)] = true
		}
	}
	var drop []string
	for _, m := range in.Members {
		if slot := verb.SlotName(m.Name); m.Name != name && !fed[slot] {
			drop = append(drop, slot)
		}
	}
	p.AddStep(operation.Step{Name: "drop-slots-" + name,
		Action: operation.Action{Title: "Drop slots on " + name + " that no server reads", Server: name,
			Call: verb.Seal(verb.Slots{Drop: drop})},
		After: []operation.Condition{{Kind: operation.LacksSlots, Server: name, Values: drop}}, Seconds: 0.05,
		OnFail: operation.GoOn, IfFails: "they keep log on " + name + " until they are dropped"})
}
