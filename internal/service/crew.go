package service

import (
	"context"
	"time"
)

// crew does many short pieces of work at a time, each at once. Who has done one waits a while
// for the next: a goroutine for each look at each server would grow its stack anew every time,
// which is a twentieth of what watching a fleet costs.
type crew struct{ work chan func() }

// crewWaits is longer than the time between two looks.
const crewWaits = 3 * watchEvery

func newCrew() crew { return crew{make(chan func())} }

// run has a piece of work done, and does not wait for it.
func (c crew) run(ctx context.Context, f func()) {
	select {
	case c.work <- f:
	default: // all are at work
		go c.join(ctx, f)
	}
}

func (c crew) join(ctx context.Context, f func()) {
	for {
		f()
		select {
		case f = <-c.work:
		case <-time.After(crewWaits):
			return
		case <-ctx.Done():
			return
		}
	}
}
