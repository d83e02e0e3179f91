package plan

import (
	"fmt"
	"strings"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
)

// dialect returns what differs by engine.
func (in *Input) dialect() *dialect.Dialect { return dialect.Of(in.View.Engine) }

// slotFor names the slot a server follows through, empty without slots.
func (in *Input) slotFor(name string) string {
	if !in.dialect().Slots {
		return ""
	}
	return verb.SlotName(name)
}

// stepMakeSlots reserves log on a server for others.
func (in *Input) stepMakeSlots(p *operation.Plan, name, on string, for_ []string) {
	slots := slotNames(for_)
	if !in.dialect().Slots || len(slots) == 0 {
		return
	}
	what, are := "slots", "are"
	if len(slots) == 1 {
		what, are = "slot "+slots[0], "is"
	}
	p.AddStep(operation.Step{Name: name,
		Action: operation.Action{Title: fmt.Sprintf("Make %s on %s for %s", what, on, strings.Join(for_, ", ")), Server: on,
			Call: verb.Seal(verb.Slots{Ensure: slots})}, Seconds: 0.1,
		After: []operation.Condition{{Kind: operation.HasSlots, Server: on, Values: slots}},
		Undo: putBack(operation.Action{Title: "Drop " + what + " on " + on, Server: on,
			Call: verb.Seal(verb.Slots{Drop: slots})}),
		IfFails: what + " on " + on + " " + are + " dropped again"})
}

// stepCheckpoint writes dirty pages out where that helps a later step.
func (in *Input) stepCheckpoint(p *operation.Plan, s operation.Step) {
	if !in.dialect().Checkpoints {
		return
	}
	s.Call, s.Seconds, s.Limit = verb.Seal(verb.Checkpoint{}), 1, 600
	p.AddStep(s)
}

// stepEvents lets the new primary run the scheduled events, which a replica
// keeps switched off.
func (in *Input) stepEvents(p *operation.Plan, primary string) {
	if !in.dialect().Events {
		return
	}
	p.AddStep(operation.Step{Name: "events",
		Action: operation.Action{Title: "Enable the scheduled events on " + primary, Server: primary,
			Call: verb.Seal(verb.Events{})}, Seconds: 0.05, OnFail: operation.GoOn,
		IfFails: "events do not run until they are enabled: alter event NAME enable, on " + primary})
}

// A start returns once the server answers, so what is not so soon afterwards
// will not come by waiting: it stopped again. It is asked for again, and then
// given up instead of waiting for a server that is gone.
const startTries, startPatience = 3, 15.0 // seconds

// startReplica is the step that starts a server read-only.
func startReplica(name, ifFails string) operation.Step {
	return operation.Step{Name: "start",
		Action: operation.Action{Title: "Start " + name + " as replica", Server: name,
			Call: verb.Seal(verb.Start{As: observation.Replica})}, Tries: startTries, PatienceSeconds: startPatience, Seconds: 1,
		Limit: 600, After: []operation.Condition{{Kind: operation.IsReplica, Server: name}}, IfFails: ifFails}
}
