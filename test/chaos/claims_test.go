package chaos

import (
	"context"
	"time"

	"crosstwin/internal/core/view"
)

// claimLimit is how long a cluster may be said to take writes while the workload gets none
// acknowledged: its clients give up a write after 5 s, and then look for another server, which
// takes 2 s for each that does not answer.
const claimLimit = 15 * time.Second

// checkClaims looks at what the service says all the time, until its end is asked for: that a
// server takes writes is said of no cluster whose commits hang.
func (s *schedule) checkClaims() (end func()) {
	ctx, cancel := context.WithCancel(s.ctx)
	done := make(chan bool)
	go func() {
		defer close(done)
		var since time.Time
		for ; ctx.Err() == nil; time.Sleep(500 * time.Millisecond) {
			v, err := s.Client.Cluster(ctx, s.Name)
			p := v.Find(v.Primary)
			switch {
			case err != nil || p == nil || p.Health != view.TakesWrites || v.Operation != nil:
				since = time.Time{}
				continue
			case since.IsZero():
				since = time.Now()
			}
			if last := s.load.LastAck(); last.After(since) {
				since = last
			}
			if waited := time.Since(since); waited > claimLimit {
				s.tell("said for %.0f s that %s takes writes, and none was acknowledged", waited.Seconds(), p.Name)
				s.t.Errorf("seed %d: %s, and for %.0f s no write was acknowledged", s.seed, v.Sentence, waited.Seconds())
				return
			}
		}
	}()
	return func() { cancel(); <-done }
}

// goesOn waits until the workload's writes are acknowledged again: once all is in step, none
// waits for anybody.
func (s *schedule) goesOn() {
	ctx, cancel := context.WithTimeout(s.ctx, claimLimit)
	defer cancel()
	if err := s.load.AwaitAcks(ctx, 10); err != nil {
		s.t.Errorf("seed %d: all disturbances are over and all servers in step, and %v", s.seed, err)
	}
}
