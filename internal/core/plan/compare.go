package plan

import (
	"fmt"
	"slices"
	"strings"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// holdSeconds bounds the time for which a comparison stops writes.
const holdSeconds = 2

// holdTries is how often writes are held again when a server has not opened its view
// within that time: on a busy host it may be late once.
const holdTries = 3

// compare plans a comparison of all tables on the primary and its replicas at
// one position. Writes are held for a moment: long enough for every replica to
// apply what was written and to open a view of its data; then they go on and
// the tables are summed in those views.
func (in *Input) compare(p *operation.Plan) error {
	primary := in.View.Primary
	p.Summary = "Compare all tables of " + in.View.Cluster + " on all its servers."
	up := in.checkPrimary(p)
	in.checkAgents(p, primary)
	if !up {
		return nil
	}
	var replicas, left []string
	for _, m := range in.Members {
		n := m.Name
		s := in.View.Find(n)
		switch {
		case n == primary:
		case !slices.Contains(in.replicas(primary), n) || s.Health != view.InStep && s.Health != view.Behind:
			left = append(left, fmt.Sprintf("%s (it %s)", n, words.Said(string(s.Health), 1)))
			p.AddCheck(operation.Check{Name: "Server to compare with", Server: n, Result: operation.Warn,
				Evidence: fmt.Sprintf("%s %s: it is left out, and nothing is said of its data", n, words.Said(string(s.Health), 1)),
				Mend:     fmt.Sprintf("to compare it too, bring it in step first: crosstwin status %s", in.View.Cluster)})
		case in.delayOf(n) > 0:
			left = append(left, n+" (it is delayed)")
			p.AddCheck(operation.Check{Name: "No delayed replica", Server: n, Result: operation.Warn,
				Evidence: fmt.Sprintf("%s is delayed by %s: writes would wait for it, so it is left out", n,
					words.Span(in.delayOf(n))),
				Mend: fmt.Sprintf("to compare it too: crosstwin tune %s %s delay 0", in.View.Cluster, n)})
		default:
			replicas = append(replicas, n)
		}
	}
	c := operation.Check{Name: "Replica to compare with", Result: verdict(len(replicas) > 0, operation.Fail),
		Evidence: strings.Join(replicas, ", ") + " follow " + primary}
	if len(replicas) == 0 {
		c.Evidence, c.Mend = "no replica of "+in.View.Cluster+" follows "+primary, "see crosstwin status "+in.View.Cluster
	}
	p.AddCheck(c)
	for _, n := range replicas {
		s := in.View.Find(n)
		p.AddCheck(operation.Check{Name: "Replica in step", Server: n,
			Result: verdict(s.Health == view.InStep, operation.Fail), Evidence: n + " " + words.Said(string(s.Health), 1),
			Why: "writes would wait for it", Mend: mendIf(s.Health != view.InStep,
				"wait until it is in step: crosstwin watch "+in.View.Cluster)})
	}
	p.PauseSeconds = 0.05
	p.Effects = append(p.Effects,
		fmt.Sprintf("writes on %s wait for a moment, at most %d s, while every server opens its view of the data", primary,
			holdSeconds))
	p.UndoOnRestart = true
	p.Closing = "all compared tables match on " + words.List(append([]string{primary}, replicas...))
	if len(left) > 0 {
		p.Closing += "; left out: " + words.List(left)
	}
	in.stepsOfCompare(p, primary, replicas)
	return nil
}

func (in *Input) stepsOfCompare(p *operation.Plan, primary string, replicas []string) {
	all := append([]string{primary}, replicas...)
	forget := func(n string) operation.Action {
		return operation.Action{Title: "Close the view on " + n, Server: n, Call: verb.Seal(verb.Forget{})}
	}
	var near []operation.Condition
	for _, n := range replicas {
		near = append(near, operation.Condition{Kind: operation.IsCaughtUp, Server: n, Other: primary,
			Within: in.dialect().Near})
	}
	p.AddStep(operation.Step{Name: "in-step",
		Action: operation.Action{Title: "Wait until " + strings.Join(replicas, ", ") + " can catch up within the hold"},
		After:  near, Seconds: 0.1, Limit: 60, OnFail: undoOr(p),
		IfFails: "nothing is held; ask again when they are in step"})
	p.AddStep(operation.Step{Name: "hold",
		Action: operation.Action{Title: "Hold writes on " + primary, Server: primary,
			Call: verb.Seal(verb.Hold{Seconds: holdSeconds})}, Keep: verb.Fact{Kind: verb.FactHold}, Seconds: 0.02, Limit: 60,
		OnFail: undoOr(p),
		Undo:   putBack(forget(primary)), IfFails: "writes continue; ask again when fewer long transactions run"})
	for _, n := range replicas {
		p.AddStep(operation.Step{Name: "view-" + n,
			Action: operation.Action{Title: "Open a view on " + n, Server: n,
				Call: verb.Seal(verb.Snapshot{Seconds: holdSeconds})}, Needs: []verb.Fact{{Kind: verb.FactHold}}, Seconds: 0.02,
			Limit: 10, OnFail: undoOr(p),
			Undo: putBack(forget(n)), ResumeFrom: "hold", Anew: holdTries, IfFails: "writes continue"})
	}
	p.AddStep(operation.Step{Name: "release",
		Action:     operation.Action{Title: "Release writes", Server: primary, Call: verb.Seal(verb.Release{})},
		ResumeFrom: "hold", Anew: holdTries, Seconds: 0.01, Limit: 10, OnFail: undoOr(p),
		IfFails: "the agent releases them by itself at the deadline"})
	var needs []verb.Fact
	for _, n := range all {
		needs = append(needs, verb.Fact{Kind: verb.FactSums, Of: n})
		p.AddStep(operation.Step{Name: "sums-" + n,
			Action:     operation.Action{Title: "Count and sum all tables on " + n, Server: n, Call: verb.Seal(verb.Sums{})},
			ResumeFrom: "hold", Keep: verb.Fact{Kind: verb.FactSums, Of: n}, Seconds: 1, Limit: catchUpLimit, OnFail: undoOr(p),
			IfFails: "the comparison is abandoned; nothing has changed"})
	}
	p.AddStep(operation.Step{Name: "judge",
		Action:     operation.Action{Title: "Compare " + strings.Join(all, ", "), Call: verb.Seal(verb.Judge{Servers: all})},
		ResumeFrom: "hold", Needs: needs, Keep: verb.Fact{Kind: verb.FactComparison}, Seconds: 0.1, Limit: 3600,
		OnFail: operation.GoOn, IfFails: "the tables and rows that differ are named"})
	for _, n := range all {
		p.AddStep(operation.Step{Name: "close-" + n, Action: forget(n), Seconds: 0.01, OnFail: operation.GoOn,
			IfFails: "the agent closes it by itself"})
	}
}

// undoOr: past a point of no return, a failed comparison asks for a person.
func undoOr(p *operation.Plan) operation.OnFail {
	if p.NoReturnStep() < len(p.Steps) {
		return operation.NeedsYou
	}
	return operation.Undo
}
