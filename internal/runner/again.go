package runner

import (
	"context"
	"errors"
	"fmt"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/store"
)

// LookAgain looks once more at an operation that ended "needs you": what it waited
// for may have come about since. When every step that failed was a wait, and its
// conditions hold now, the operation goes on behind them and ends as what it came to.
// It repeats nothing that failed, and undoes nothing; what was undone is left alone.
// It reports whether it went on; begun is called before it does.
func (r *Runner) LookAgain(ctx context.Context, id int64, begun func()) (bool, error) {
	op, err := r.Journal.Operation(ctx, id)
	if err != nil || op.State != operation.Ended || op.Outcome != operation.OutcomeNeedsYou {
		return false, err
	}
	e := &execution{Runner: r, op: &op, anew: map[int]int{}}
	held := map[int]string{}
	for i, s := range op.Steps {
		if s.State != operation.StepFailed && s.State != operation.StepPassedBy {
			continue
		}
		ps := &op.Plan.Steps[i]
		if ps.OnFail == operation.Undo || !waits(ps) {
			return false, nil
		}
		seen, missing := e.look(ctx, i, ps, ps.After)
		if missing != "" {
			return false, nil
		}
		held[i] = seen
	}
	if len(held) == 0 {
		return false, nil
	}
	if err := r.Journal.Reopen(ctx, id); err != nil {
		if errors.Is(err, store.ErrTaken) || errors.Is(err, store.ErrNotFound) {
			return false, nil // something newer goes on here
		}
		return false, err
	}
	begun()
	op.State = operation.Running
	for i, seen := range held {
		text := fmt.Sprintf("holds now: %s%s", op.Plan.Steps[i].Title, sep(seen))
		if err := r.Journal.EndStep(ctx, id, operation.StepEnd{Seq: i, State: operation.StepDone, Seen: seen, Text: text,
			Facts: op.Facts}); err != nil {
			return true, err
		}
		op.Steps[i].State = operation.StepDone
	}
	return true, e.forward(ctx, e.next())
}

// waits reports whether a step is no more than a wait for its conditions: it has no
// call, or one that is made again and again until they hold. Any other call that
// failed may have done nothing at all, and its conditions may hold without it: data
// that a rewind refused to touch is whole, and still has its tail.
func waits(s *operation.Step) bool {
	return len(s.After) > 0 && (s.Call.IsZero() || s.Tries > 1)
}
