package plan

import (
	"fmt"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// restart plans a restart of one server in its role. A primary keeps its term and
// its history: it is stopped cleanly and opened again, and writes wait meanwhile.
func (in *Input) restart(p *operation.Plan) error {
	name := in.Request.Server
	if name == "" {
		return fmt.Errorf("which server of %s is to be restarted? crosstwin restart %s SERVER", in.View.Cluster,
			in.View.Cluster)
	}
	p.Target = name
	p.Summary = fmt.Sprintf("Restart %s.", name)
	up := in.checkPrimary(p)
	in.checkAgents(p, name, in.View.Primary)
	s := in.View.Find(name)
	// One that is set to take no connections needs nothing but a restart with another setting.
	ok := s.Health == view.TakesWrites || s.Health == view.InStep || s.Health == view.Behind ||
		s.Cause.Code == cause.NoReads
	p.AddCheck(operation.Check{Name: "Healthy server", Server: name, Result: verdict(ok, operation.Fail),
		Evidence: name + " " + words.Said(string(s.Health), 1),
		Mend:     mendIf(!ok, "crosstwin status "+in.View.Cluster)})
	if !up || !in.seen(name) {
		return nil
	}
	in.checkDisk(p, name, 0)
	in.checkConnections(p, name)
	in.checkStart(p, name)
	if name == in.View.Primary {
		in.checkGates(p)
	}
	if set := in.atNextStart(name); set != "" {
		p.Effects = append(p.Effects, name+" takes up "+set)
	}
	if name == in.View.Primary {
		in.restartPrimary(p, name)
	} else {
		in.restartReplica(p, name)
	}
	return nil
}

func (in *Input) restartPrimary(p *operation.Plan, name string) {
	in.checkTerm(p, name)
	p.PauseSeconds = in.dialect().Pause + 0.5
	p.Summary = fmt.Sprintf("Restart the primary %s. Expected write pause: about %s.", name, words.Span(p.PauseSeconds))
	p.Closing = fmt.Sprintf("%s was restarted and is primary of %s in term %d still; writes paused for %s", name,
		in.View.Cluster, p.Term, operation.PausePlace)
	p.Effects = append(p.Effects, "all connections to "+name+" end; its replicas connect again by themselves")
	before := len(p.Steps)
	in.stepsRestartPrimary(p, name)
	for i := before; i < len(p.Steps); i++ {
		if s := &p.Steps[i]; s.Name == stepOpen {
			s.NoReturn, s.OnFail = true, operation.NeedsYou
		}
	}
	for _, n := range in.replicas(name) {
		if s := in.View.Find(n); s == nil || s.Follows != name || s.Health != view.InStep && s.Health != view.Behind {
			continue
		}
		p.AddStep(operation.Step{Name: "streams-" + n,
			Action: operation.Action{Title: "Wait until " + n + " streams from " + name}, OnFail: operation.GoOn, Seconds: 2,
			Limit: 60, After: []operation.Condition{{Kind: operation.Streams, Server: n, Other: name}},
			IfFails: n + " does not follow: crosstwin status " + in.View.Cluster})
	}
}

// checkTerm refuses a restart of a primary that could not be opened again.
func (in *Input) checkTerm(p *operation.Plan, name string) {
	if in.View.Term != in.View.OwnerTerm {
		p.AddCheck(operation.Check{Name: "Undisputed term", Server: name, Result: operation.Fail,
			Evidence: fmt.Sprintf("term %d was opened, and %s owns term %d", in.View.Term, name, in.View.OwnerTerm),
			Why:      "it would not be opened again in an older term", Mend: "crosstwin status " + in.View.Cluster})
	}
}

// stepOpen names the step that opens a restarted primary.
const stepOpen = "open"

// stepsRestartPrimary stop a primary cleanly, and open it again in its term.
func (in *Input) stepsRestartPrimary(p *operation.Plan, name string) {
	open := operation.Action{Title: "Start " + name + " as primary", Server: name,
		Call: verb.Seal(verb.Start{As: observation.Primary})}
	in.stepCheckpoint(p, operation.Step{Name: "checkpoint",
		Action:  operation.Action{Title: "Checkpoint " + name + " so that its stop is short", Server: name},
		IfFails: "nothing has changed"})
	in.stepRestGates(p)
	in.stepHoldGates(p, name)
	p.AddStep(operation.Step{Name: "stop",
		Action: operation.Action{Title: "Stop " + name + " cleanly", Server: name,
			Call: verb.Seal(verb.Fence{Gently: true})}, InPause: true, Seconds: 0.3, Limit: 120,
		After: []operation.Condition{{Kind: operation.IsStopped, Server: name}}, Undo: putBack(open),
		IfFails: name + " is opened again"})
	p.AddStep(operation.Step{Name: stepOpen, Action: open, Tries: startTries, PatienceSeconds: startPatience,
		InPause: true, Seconds: 0.5, Limit: 600,
		After:   []operation.Condition{{Kind: operation.IsPrimary, Server: name, Term: p.Term}},
		IfFails: "read the server's log; or make another server primary: crosstwin failover " + in.View.Cluster})
	in.stepReleaseGates(p, name)
}

func (in *Input) restartReplica(p *operation.Plan, name string) {
	upstream := in.View.Find(name).Follows
	p.Closing = fmt.Sprintf("%s was restarted and follows %s; a mark written on %s was found in %s's own log", name,
		upstream, in.View.Primary, name)
	p.Effects = append(p.Effects, "all connections to "+name+" end; writes are not touched")
	p.AddStep(operation.Step{Name: "stop",
		Action: operation.Action{Title: "Stop " + name + " cleanly", Server: name,
			Call: verb.Seal(verb.Fence{Gently: true})}, Seconds: 0.3, Limit: 120,
		After: []operation.Condition{{Kind: operation.IsStopped, Server: name}},
		Undo: putBack(operation.Action{Title: "Start " + name + " as replica", Server: name,
			Call: verb.Seal(verb.Start{As: observation.Replica})}),
		IfFails: name + " is started again"})
	before := len(p.Steps)
	p.AddStep(startReplica(name, "read the server's log; it is closed for writes"))
	if in.dialect().InPlace {
		p.AddStep(operation.Step{Name: "follow",
			Action: operation.Action{Title: "Have " + name + " follow " + upstream, Server: name,
				Call: verb.Seal(verb.Follow{Upstream: in.peer(upstream), Slot: in.slotFor(name)})}, Seconds: 0.1,
			After:   []operation.Condition{{Kind: operation.PointsAt, Server: name, Other: upstream}},
			IfFails: name + " answers reads and follows nobody: crosstwin rejoin " + in.View.Cluster + " " + name})
	}
	p.AddStep(operation.Step{Name: "streams",
		Action: operation.Action{Title: "Wait until " + name + " streams from " + upstream}, Seconds: 2, Limit: 90,
		After:   []operation.Condition{in.follows(name, upstream)},
		IfFails: name + " does not follow: crosstwin rejoin " + in.View.Cluster + " " + name})
	in.stepsOfMark(p, in.View.Primary, []string{name}, name+" follows; the proof is missing", notProven)
	p.NeedsYouFrom(before)
}
