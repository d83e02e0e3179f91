package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// set plans the change of one setting of one server.
func (in *Input) set(p *operation.Plan) error {
	name, setting, value := in.Request.Server, in.Request.Setting, in.Request.Value
	what, known := in.dialect().Tunables[setting]
	switch {
	case name == "":
		return fmt.Errorf("on which server? name one of %s: %s", in.View.Cluster, in.names())
	case !known:
		return fmt.Errorf("%q is not a setting that is changed here", setting)
	case value == "":
		return fmt.Errorf("to what is %s to be set?", setting)
	}
	p.Target = name
	p.Summary = fmt.Sprintf("Set %s to %s on %s.", setting, value, name)
	p.Effects = append(p.Effects, setting+": "+what)
	in.checkAgents(p, name)
	m := in.Member(name)
	if !in.seen(name) || !m.Last.Process.Accepting {
		p.AddCheck(operation.Check{Name: "Answering server", Server: name, Result: operation.Fail,
			Evidence: name + " does not answer", Mend: "see crosstwin status " + in.View.Cluster})
		return nil
	}
	old := m.Last.Config.Live[setting]
	p.AddCheck(operation.Check{Name: "A changed value", Server: name, Result: verdict(old != value, operation.Fail),
		Evidence: fmt.Sprintf("%s is %s now", setting, cmp.Or(old, "not set"))})
	if setting == verb.Delay {
		in.checkDelay(p, m)
	}
	after := []operation.Condition{{Kind: operation.HasSetting, Server: name, Values: []string{setting, value}}}
	if in.restartsApplying(setting, m) {
		p.AddCheck(operation.Check{Name: "Running replay", Server: name,
			Result:   verdict(!m.Last.Replay.Paused, operation.Fail),
			Evidence: fmt.Sprintf("applying is stopped on %s: %t", name, m.Last.Replay.Paused),
			Why:      "the change stops applying for a moment and starts it again",
			Mend:     mendIf(m.Last.Replay.Paused, "resume it: "+in.dialect().Resume)})
		if up := in.View.Find(name).Follows; in.Member(up) != nil {
			after = append(after, in.follows(name, up))
		}
	}
	p.AddStep(operation.Step{Name: "set",
		Action: operation.Action{Title: fmt.Sprintf("Set %s to %s on %s", setting, value, name), Server: name,
			Call: verb.Seal(verb.Set{Name: setting, Value: value})}, Seconds: 0.2,
		After: after,
		Undo: putBack(operation.Action{Title: fmt.Sprintf("Set %s back to %s on %s", setting, old, name), Server: name,
			Call: verb.Seal(verb.Set{Name: setting, Value: old})}),
		IfFails: "the old value is set again"})
	return nil
}

// restartsApplying reports whether a change stops a replica's applier for a moment:
// then it has to be seen following again.
func (in *Input) restartsApplying(setting string, m *view.Member) bool {
	return m.Last.Process.Role == observation.Replica && slices.Contains(in.dialect().RestartsApplying, setting)
}

// checkDelay makes sure that a delay is asked of a replica that follows: the
// change fetches again what it has not applied.
func (in *Input) checkDelay(p *operation.Plan, m *view.Member) {
	o := m.Last
	seconds, err := strconv.Atoi(in.Request.Value)
	p.AddCheck(operation.Check{Name: "Delay in seconds", Server: m.Name,
		Result: verdict(err == nil && seconds >= 0, operation.Fail), Evidence: in.Request.Value})
	follows := o.Process.Role == observation.Replica && o.Links.Upstream != nil && o.Links.Upstream.Connected
	p.AddCheck(operation.Check{Name: "Connected replica", Server: m.Name, Result: verdict(follows, operation.Fail),
		Evidence: fmt.Sprintf("%s is %s and connected: %t", m.Name, o.Process.Role, follows),
		Why:      "only a replica can be delayed; what it has not applied is fetched again",
		Mend:     mendIf(!follows, "crosstwin status "+in.View.Cluster)})
	if seconds > 0 && m.Rank > 0 {
		p.AddCheck(operation.Check{Name: "Delayed replica without a rank", Server: m.Name, Result: operation.Warn,
			Evidence: fmt.Sprintf("the rank of %s is %d", m.Name, m.Rank),
			Why:      "before it becomes primary it has to apply everything it has delayed",
			Mend:     fmt.Sprintf("crosstwin server set %s %s --rank never", in.View.Cluster, m.Name)})
	}
}

// repoint plans that a running replica follows another server of the cluster.
func (in *Input) repoint(p *operation.Plan) error {
	name, to := in.Request.Server, in.Request.To
	if name == "" || to == "" || name == to {
		return fmt.Errorf("which replica of %s is to follow whom? name two servers", in.View.Cluster)
	}
	if name == in.View.Primary {
		return fmt.Errorf("%s is the primary of %s: it follows no server", name, in.View.Cluster)
	}
	p.Target = name
	p.Summary = fmt.Sprintf("Have %s follow %s.", name, to)
	in.checkAgents(p, name, to)
	s, up := in.View.Find(name), in.View.Find(to)
	for _, x := range []*view.Server{s, up} {
		ok := x.Health == view.InStep || x.Health == view.Behind || x.Health == view.TakesWrites
		p.AddCheck(operation.Check{Name: "Healthy server", Server: x.Name, Result: verdict(ok, operation.Fail),
			Evidence: x.Name + " " + words.Said(string(x.Health), 1), Mend: mendIf(!ok, "crosstwin status "+in.View.Cluster)})
	}
	p.AddCheck(operation.Check{Name: "No replication loop", Server: to,
		Result:   verdict(up.Follows != name, operation.Fail),
		Evidence: fmt.Sprintf("%s follows %s", to, cmp.Or(up.Follows, "nobody"))})
	p.AddCheck(operation.Check{Name: "Another upstream", Server: name, Result: verdict(s.Follows != to, operation.Fail),
		Evidence: fmt.Sprintf("%s follows %s", name, cmp.Or(s.Follows, "nobody"))})
	if !in.seen(name) || !in.seen(to) {
		return nil
	}
	in.checkConnections(p, name)
	if to != in.View.Primary {
		p.Effects = append(p.Effects, fmt.Sprintf("%s gets its log from %s: what %s has not received, %s cannot have", name,
			to, to, name), "a change of the primary has it follow the new primary")
	}
	old := s.Follows
	in.stepMakeSlots(p, "make-slot", to, []string{name})
	p.AddStep(operation.Step{Name: "follow",
		Action: operation.Action{Title: "Have " + name + " follow " + to, Server: name,
			Call: verb.Seal(verb.Follow{Upstream: in.peer(to), Slot: in.slotFor(name)})}, Seconds: 0.2,
		Limit: 60 + in.delayOf(name),
		After: []operation.Condition{in.follows(name, to)},
		Undo: putBack(operation.Action{Title: "Have " + name + " follow " + old + " again", Server: name,
			Call: verb.Seal(verb.Follow{Upstream: in.peer(old), Slot: in.slotFor(name), Back: true})}),
		IfFails: name + " follows " + old + " again"})
	in.dropSlotOn(p, old, name)
	before := len(p.Steps)
	in.stepsOfMark(p, in.View.Primary, []string{name}, name+" follows; the proof is missing", notProven)
	p.NeedsYouFrom(before)
	return nil
}

// dropSlotOn drops the slot that a server no longer reads.
func (in *Input) dropSlotOn(p *operation.Plan, on, of string) {
	if !in.dialect().Slots || in.Member(on) == nil {
		return
	}
	slots := []string{verb.SlotName(of)}
	p.AddStep(operation.Step{Name: "drop-slot",
		Action: operation.Action{Title: "Drop slot " + slots[0] + " on " + on, Server: on,
			Call: verb.Seal(verb.Slots{Drop: slots})}, Seconds: 0.1, OnFail: operation.GoOn,
		After:   []operation.Condition{{Kind: operation.LacksSlots, Server: on, Values: slots}},
		IfFails: "it keeps log on " + on + " until it is dropped"})
}
