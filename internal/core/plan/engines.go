package plan

import (
	"fmt"
	"strings"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// traits are the differences between the engines that change the steps of a
// plan. Everything else is the same plan over the same verbs.
type traits struct {
	// slots: a primary keeps log for each replica by a reservation.
	slots bool
	// inPlace: a primary becomes a replica without a restart, and an upstream
	// is set on a running server. Otherwise it is set while it is stopped.
	inPlace bool
	// checkpoints: a stop and a rewind are helped by a checkpoint beforehand.
	checkpoints bool
	// settles: data of a crashed server is brought to an orderly stop before
	// its tail is read. Otherwise the tail is read from the log files alone.
	settles bool
	// events: the server runs statements by its own timetable.
	events bool
	// near is how far a candidate may be behind before the pause begins.
	near position.Distance
	// pause is the expected write pause of a switchover in seconds, from the
	// measured floor of the bare server commands.
	pause float64
	// stop, proof, rewind and check are the words for steps that differ.
	stop, proof, rewind, verify string
}

var engineTraits = map[string]traits{
	position.EnginePostgres: {slots: true, checkpoints: true, settles: true, near: position.Distance{Amount: 1 << 20, Unit: position.Bytes}, pause: 0.2,
		stop: "stop %s in an orderly way", proof: "prove by %s's control data that %s applied everything",
		rewind: "take out what %s wrote after %s", verify: "hold the copy against its manifest"},
	position.EngineMariaDB: {inPlace: true, events: true, near: position.Distance{Amount: 5, Unit: position.Transactions}, pause: 0.06,
		stop:  "have %s take no more writes, of privileged accounts neither: statements still at work after 0.3 s are cut off, after 5 s it is given up",
		proof: "prove that %[2]s applied the last transaction of %[1]s", rewind: "undo what %s wrote after %s from the rows' before images",
		verify: "apply the copy's own log to it"},
}

func (in *Input) traits() traits { return engineTraits[in.View.Engine] }

// slotFor names the slot a server follows through, empty without slots.
func (in *Input) slotFor(name string) string {
	if !in.traits().slots {
		return ""
	}
	return verb.SlotName(name)
}

// stepMakeSlots reserves log on a server for others.
func (in *Input) stepMakeSlots(p *operation.Plan, name, on string, for_ []string) {
	slots := slotNames(for_)
	if !in.traits().slots || len(slots) == 0 {
		return
	}
	what := "slots"
	if len(slots) == 1 {
		what = "slot " + slots[0]
	}
	p.AddStep(operation.Step{Name: name, Action: operation.Action{Title: fmt.Sprintf("make %s on %s for %s", what, on, strings.Join(for_, ", ")), Server: on, Call: verb.Seal(verb.Slots{Ensure: slots})}, Seconds: 0.1,
		After:   []operation.Condition{{Kind: operation.HasSlots, Server: on, Values: slots}},
		Undo:    putBack(operation.Action{Title: "drop " + what + " on " + on, Server: on, Call: verb.Seal(verb.Slots{Drop: slots})}),
		IfFails: what + " on " + on + " are dropped again"})
}

// stepCheckpoint writes dirty pages out where that helps a later step.
func (in *Input) stepCheckpoint(p *operation.Plan, s operation.Step) {
	if !in.traits().checkpoints {
		return
	}
	s.Call, s.Seconds, s.Limit = verb.Seal(verb.Checkpoint{}), 1, 600
	p.AddStep(s)
}

// stepEvents lets the new primary run the scheduled events, which a replica
// keeps switched off.
func (in *Input) stepEvents(p *operation.Plan, primary string) {
	if !in.traits().events {
		return
	}
	p.AddStep(operation.Step{Name: "events", Action: operation.Action{Title: "enable the scheduled events on " + primary, Server: primary, Call: verb.Seal(verb.Events{})}, Seconds: 0.05, OnFail: operation.GoOn,
		IfFails: "events do not run until they are enabled: alter event NAME enable, on " + primary})
}

// A start returns once the server answers, so what is not so soon afterwards
// will not come by waiting: it stopped again. It is asked for again, and then
// given up instead of waiting for a server that is gone.
const startTries, startPatience = 3, 15.0 // seconds
