package service

import (
	"context"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// An operation that ended "needs you" is looked at again for a while: on a loaded
// machine what it waited for may come about a second after its limit.
const (
	againEvery = 5 * time.Second
	againFor   = 10 * time.Minute
)

// waiting is an operation that needs a person, and when it ended so.
type waiting struct {
	view.Running
	ended time.Time
	next  time.Time // when it is looked at again
	// startAgain: it was to start the primary again, by itself: another server may take over.
	startAgain bool
}

func waitingOf(o operation.Operation) *waiting {
	w := &waiting{Running: view.Running{ID: o.ID, Kind: o.Kind}, startAgain: o.Plan.StartsAgain()}
	if o.EndedAt != nil {
		w.ended = *o.EndedAt
	}
	return w
}

func (w *waiting) running() *view.Running {
	if w == nil {
		return nil
	}
	return &w.Running
}

// lookAgain has the runner look at a cluster's operation that needs a person.
func (s *Service) lookAgain(ctx context.Context, c *watched, now time.Time) {
	c.mu.Lock()
	w := c.needsYou
	due := w != nil && c.op == nil && now.Sub(w.ended) < againFor && now.After(w.next)
	if due {
		w.next = now.Add(againEvery)
	}
	cluster := c.rec.Name
	c.mu.Unlock()
	if !due {
		return
	}
	s.running.Add(1)
	go func() {
		defer s.running.Done()
		went, err := s.runner.LookAgain(ctx, w.ID, func() { s.setRunning(cluster, &w.Running) })
		if err != nil && ctx.Err() == nil {
			s.log.Error("an operation could not be looked at again", "operation", w.ID, "cluster", cluster, "error", err)
		}
		if went && ctx.Err() == nil {
			s.setRunning(cluster, nil)
			if err := s.reload(ctx, cluster); err != nil {
				s.log.Error("cannot read the records", "error", err)
			}
		}
	}()
}
