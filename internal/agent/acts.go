package agent

import (
	"context"
	"sync"

	"crosstwin/internal/core/guard"
)

// acts lets one short verb at a time act. Its zero value is ready.
type acts struct {
	mu     sync.Mutex
	free   chan struct{} // closed when the running act has ended; nil: none runs
	term   int64         // of the running act
	cancel context.CancelCauseFunc
}

// begin waits until no other act runs and claims the turn for an act of a term.
// The returned context ends when a newer term is noted. done gives the turn
// back.
func (a *acts) begin(ctx context.Context, term int64) (act context.Context, done func(), err error) {
	for {
		a.mu.Lock()
		if a.free == nil {
			free := make(chan struct{})
			act, cancel := context.WithCancelCause(ctx)
			a.free, a.term, a.cancel = free, term, cancel
			a.mu.Unlock()
			return act, func() {
				cancel(nil)
				a.mu.Lock()
				a.free = nil
				a.mu.Unlock()
				close(free)
			}, nil
		}
		free := a.free
		a.mu.Unlock()
		select {
		case <-free:
		case <-ctx.Done():
			return nil, nil, context.Cause(ctx)
		}
	}
}

// endOlder ends the running act if its term is older than noted.
func (a *acts) endOlder(noted int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.free != nil && a.term < noted {
		a.cancel(guard.StaleTermError{Asked: a.term, Noted: noted})
	}
}
