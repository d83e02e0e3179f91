package chaos

import (
	"context"
	"testing"
	"time"

	"crosstwin/internal/core/view"
)

// claimLimit is how long a cluster may be said to take writes while the workload gets none
// acknowledged. That can be the workload's own: its clients give up a write after 5 s and look
// for another server, which takes 2 s for each that does not answer, and a cut of the network
// that the service does not see lasts up to 6.5 s.
const claimLimit = 20 * time.Second

// claim is since when it has been said without a break that the cluster takes writes.
type claim struct{ since time.Time }

// look takes what is said now and when a write was acknowledged last, and returns for how long
// it has been said with none.
func (c *claim) look(said bool, acked, now time.Time) time.Duration {
	switch {
	case !said:
		c.since = time.Time{}
		return 0
	case c.since.IsZero():
		c.since = now
	}
	if acked.After(c.since) {
		c.since = acked
	}
	return now.Sub(c.since)
}

// checkClaims looks at what the service says all the time, until its end is asked for: that a
// server takes writes is said of no cluster whose commits hang.
func (s *schedule) checkClaims() (end func()) {
	ctx, cancel := context.WithCancel(s.ctx)
	done := make(chan bool)
	go func() {
		defer close(done)
		var c claim
		for ; ctx.Err() == nil; time.Sleep(500 * time.Millisecond) {
			v, err := s.Client.Cluster(ctx, s.Name)
			p := v.Find(v.Primary)
			said := err == nil && p != nil && p.Health == view.TakesWrites && v.Operation == nil
			if waited := c.look(said, s.load.LastAck(), time.Now()); waited > claimLimit {
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

// A false claim is seen, however it comes about; a true one is none.
func TestClaims(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(1e9+s), 0) }
	for name, c := range map[string]struct {
		said  func(s int) bool
		acked func(s int) time.Time
		want  time.Duration // after 30 s
	}{
		"writes go on":         {func(int) bool { return true }, at, 0},
		"commits hang":         {func(int) bool { return true }, func(int) time.Time { return at(4) }, 26 * time.Second},
		"they hung before":     {func(s int) bool { return s >= 10 }, func(int) time.Time { return at(4) }, 20 * time.Second},
		"and that is said":     {func(s int) bool { return s < 8 }, func(int) time.Time { return at(4) }, 0},
		"said again meanwhile": {func(s int) bool { return s != 25 }, func(int) time.Time { return at(4) }, 4 * time.Second},
	} {
		var x claim
		var got time.Duration
		for s := range 31 {
			got = x.look(c.said(s), c.acked(s), at(s))
		}
		if got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
}
