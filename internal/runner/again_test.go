package runner

import (
	"errors"
	"strings"
	"testing"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
)

// An operation that gave up waiting closes itself once what it waited for holds:
// what failed is not done again, what never began is. Nothing else is touched.
func TestLookAgain(t *testing.T) {
	slow := func(name, server string, onFail operation.OnFail) operation.Step {
		return act(name, server, func(s *operation.Step) {
			s.OnFail, s.Undo, s.Limit, s.Call = onFail, nil, 0.3, verb.Sealed{}
			s.After = []operation.Condition{{Kind: operation.IsClosed, Server: server}}
		})
	}
	b := newBench(t)
	look := func(id int64) (operation.Operation, bool) {
		t.Helper()
		went, err := b.r.LookAgain(t.Context(), id, func() {})
		if err != nil {
			t.Fatal(err)
		}
		op, err := b.st.Operation(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return op, went
	}
	b.f.down["heron"], b.f.down["tern"] = true, true
	op := b.run(operation.Rejoin, false, nil, act("a", "gull", noReturn), slow("b", "heron", operation.GoOn),
		slow("c", "tern", operation.NeedsYou), act("d", "gull", forwardOnly))
	if op.Outcome != operation.OutcomeNeedsYou || op.Steps[3].State != operation.StepWaiting {
		t.Fatalf("%+v", op)
	}
	delete(b.f.down, "heron")
	if op, went := look(op.ID); went || op.Outcome != operation.OutcomeNeedsYou {
		t.Errorf("one of two holds: %t %+v", went, op)
	}
	delete(b.f.down, "tern")
	op, went := look(op.ID)
	if !went || op.Outcome != operation.OutcomeFinished || op.State != operation.Ended {
		t.Errorf("%t %+v", went, op)
	}
	b.called("a@gull#2", "d@gull#2")
	if _, went := look(op.ID); went {
		t.Error("a finished operation went on")
	}

	// What follows may fail in turn, and is looked at again.
	b.f.down["tern"] = true
	op = b.run(operation.Rejoin, false, nil, slow("b", "tern", operation.NeedsYou), slow("c", "heron", operation.NeedsYou))
	delete(b.f.down, "tern")
	b.f.down["heron"] = true
	if op, went = look(op.ID); !went || op.Outcome != operation.OutcomeNeedsYou || !strings.Contains(op.Message,
		"step 2") {
		t.Errorf("%t %+v", went, op)
	}

	// A newer operation has taken its place.
	b.run(operation.Rejoin, false, nil, act("e", "gull", forwardOnly))
	delete(b.f.down, "heron")
	if op, went = look(op.ID); went || op.Outcome != operation.OutcomeNeedsYou {
		t.Errorf("behind a newer one: %t %+v", went, op)
	}

	// A call that failed is not made good by conditions that hold without it: data
	// that a rewind refused to touch is whole, and must not be started.
	b.f.fail["rewind@heron"] = errors.New("nothing was touched")
	op = b.run(operation.Rejoin, false, nil, act("rewind", "heron", func(s *operation.Step) {
		noReturn(s)
		s.After = []operation.Condition{{Kind: operation.IsClosed, Server: "heron"}}
	}), act("start", "heron", forwardOnly))
	if op.Outcome != operation.OutcomeNeedsYou {
		t.Fatalf("%+v", op)
	}
	if op, went = look(op.ID); went || op.Outcome != operation.OutcomeNeedsYou {
		t.Errorf("went on behind a call that failed: %t %+v", went, op)
	}

	// A step whose call only says again what its conditions verify is a wait as well.
	b.f.down["heron"], b.f.upAfter = true, 99
	op = b.run(operation.Rejoin, false, nil, act("follow", "heron", func(s *operation.Step) {
		forwardOnly(s)
		s.Tries, s.PatienceSeconds, s.Limit = 2, 0.1, 0.5
		s.After = []operation.Condition{{Kind: operation.IsClosed, Server: "heron"}}
	}))
	delete(b.f.down, "heron")
	if op, went = look(op.ID); !went || op.Outcome != operation.OutcomeFinished {
		t.Errorf("told again: %t %+v", went, op)
	}

	// What was undone, in part, is for a person.
	b.f.down["tern"] = true
	b.f.fail["undo-a@gull"] = errors.New("no")
	op = b.run(operation.Switchover, false, nil, act("a", "gull", nil), slow("b", "tern", operation.Undo),
		act("c", "tern", noReturn))
	delete(b.f.down, "tern")
	if now, went := look(op.ID); went || op.Outcome != operation.OutcomeNeedsYou || now.Message != op.Message {
		t.Errorf("half undone: %t %+v", went, now)
	}
}
