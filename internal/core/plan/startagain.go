package plan

import (
	"cmp"
	"fmt"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// startAgain plans to start a dead primary where it is. Often that beats a
// failover: nothing is lost. It is opened in place only if its own record says
// that it was a primary last; data that was last a replica's is promoted, on a
// new history. And no replica may hold more than it: then its disk went back, and
// numbers that it used once would be used again.
func (in *Input) startAgain(p *operation.Plan, old string) error {
	s := in.View.Find(old)
	p.Candidate = old
	p.Summary = fmt.Sprintf("Start %s again as primary of %s. Nothing is lost.", old, in.View.Cluster)
	in.checkAgents(p, old)
	c := operation.Check{Name: "Stopped primary", Server: old, Result: operation.Pass,
		Evidence: old + " " + words.Said(string(s.Health), 1)}
	switch {
	case s.Health == view.TakesWrites:
		c.Result, c.Evidence, c.Mend = operation.Fail, old+" takes writes: there is nothing to do", ""
	case s.Observation != nil && s.Observation.Data.Unfinished != "":
		c.Result, c.Evidence, c.Mend = operation.Fail, words.Say(s.Cause),
			"make another server primary: crosstwin failover "+in.View.Cluster
	}
	p.AddCheck(c)
	if in.seen(old) {
		in.checkDiskKept(p, old)
	}
	in.checkDisk(p, old, 0)
	p.PauseSeconds = 1
	p.Closing = fmt.Sprintf("%s is primary of %s in term %d", old, in.View.Cluster, p.Term)
	asReplica := s.Observation != nil && observation.ReplicaState(s.Observation.Data.State)
	history := "on its own history"
	if asReplica {
		history = "on a new history: its data was last a replica's"
	}
	p.Effects = append(p.Effects, old+" becomes primary again, "+history, "the replicas keep following it")
	limit := cmp.Or(max(0, in.Request.StartSeconds), 600)
	in.stepOpenTerm(p, old)
	if asReplica {
		p.AddStep(operation.Step{Name: "start-candidate",
			Action: operation.Action{Title: "Start " + old + " read-only", Server: old,
				Call: verb.Seal(verb.Start{As: observation.Replica})}, Tries: startTries, PatienceSeconds: startPatience,
			Seconds: 1, Limit: limit,
			After:   []operation.Condition{{Kind: operation.IsReplica, Server: old}},
			IfFails: "read the server's log; nothing else has changed"})
	} else {
		p.AddStep(operation.Step{Name: "settle",
			Action: operation.Action{Title: "Make sure that " + old + " is stopped", Server: old,
				Call: verb.Seal(verb.Fence{Gently: true})}, Seconds: 0.1,
			After: []operation.Condition{{Kind: operation.IsStopped, Server: old}}, IfFails: "nothing has changed"})
	}
	p.AddStep(operation.Step{Name: "decide",
		Action: operation.Action{Title: fmt.Sprintf("Record %s as owner of term %d", old, p.Term),
			Call: verb.Seal(verb.Decide{Server: old, Closed: true})}, Seconds: 0.01, IfFails: "nothing has changed"})
	if asReplica {
		in.stepPromote(p, old)
	} else {
		p.AddStep(operation.Step{Name: "open",
			Action: operation.Action{Title: "Start " + old + " as primary", Server: old,
				Call: verb.Seal(verb.Start{As: observation.Primary})}, Tries: startTries, PatienceSeconds: startPatience,
			NoReturn: true, OnFail: operation.NeedsYou, InPause: true, Seconds: 1,
			Limit:   limit,
			After:   []operation.Condition{{Kind: operation.IsPrimary, Server: old, Term: p.Term}},
			IfFails: "read the server's log; or make another server primary"})
		p.AddStep(decideOpen(old, p.Term))
	}
	in.stepsAfterPromotion(p, old, nil)
	var following []string
	for _, n := range in.replicas(old) {
		if s := in.View.Find(n); s != nil && s.Follows == old && s.Health != view.Adrift {
			following = append(following, n)
		} else {
			p.Effects = append(p.Effects, fmt.Sprintf("%s does not follow %s and is left out: crosstwin rejoin %s %s", n, old,
				in.View.Cluster, n))
		}
	}
	in.stepsOfProof(p, old, following)
	return nil
}

// checkDiskKept compares the end of a stopped primary's log with what every
// replica received of it. What a server holds that left its history earlier, an earlier
// primary's tail, was never on its disk.
func (in *Input) checkDiskKept(p *operation.Plan, old string) {
	c := operation.Check{Name: "No lost writes on its disk", Server: old, Result: operation.Pass,
		Why: "later writes would reuse the positions of the lost ones, and replicas would silently miss them"}
	x := in.Examination
	if x == nil || x.End == "" {
		c.Result, c.Evidence = operation.Fail, "the end of "+old+"'s log is not known: its data could not be examined"
		c.Mend = "read the agent's log on " + old + "; or make another server primary: crosstwin failover " + in.View.Cluster
		p.AddCheck(c)
		return
	}
	end, broken := x.End, x.BrokenTo
	c.Evidence = fmt.Sprintf("%s's log ends at %s, and no replica holds more", old, end)
	for _, m := range in.Members {
		if m.Name == old || m.Last == nil || m.Last.Log.Received == "" {
			continue
		}
		if s := in.View.Find(m.Name); s == nil || s.Health == view.Adrift {
			continue
		}
		received := m.Last.Log.Received
		if whole, known := position.Reaches(in.View.Engine, received, broken); broken != "" && known && !whole {
			continue // a part of the record in which both logs break off is nobody's write
		}
		if more, known := position.Beyond(in.View.Engine, m.Last.Standing(), x.Line, end); known && !more.IsZero() {
			c.Result, c.Evidence = operation.Fail,
				fmt.Sprintf("%s's log ends at %s, and %s received up to %s: %s's disk has lost writes", old, end, m.Name,
					received, old)
			c.Mend = "make the server that holds them primary: crosstwin failover " + in.View.Cluster
		}
	}
	p.AddCheck(c)
}
