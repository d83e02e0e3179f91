package service

import (
	"time"

	"crosstwin/internal/core/lag"
)

// The spans over which rates are measured: of writing and applying for the
// time to catch up, of writing for the time until a disk is full, of conflicts.
const (
	shortSpan    = 30 * time.Second
	longSpan     = 10 * time.Minute
	conflictSpan = time.Hour
)

// rateSamples is how many samples a rate remembers over its span.
const rateSamples = 31

// rate measures how much a counter grows in a second, over the last span.
type rate struct {
	span time.Duration
	ring [rateSamples]lag.Sample
	n    int
}

func newRate(span time.Duration) rate { return rate{span: span} }

// add takes the counter as it stands; one that goes back begins anew.
func (r *rate) add(at time.Time, count int64) {
	if r.n > 0 {
		last := &r.ring[(r.n-1)%rateSamples]
		if count < last.Position {
			r.n = 0
		} else if r.n > 1 && at.Sub(r.ring[(r.n-2)%rateSamples].At) < r.span/rateSamples {
			*last = lag.Sample{At: at, Position: count} // the newest moves along until its time has come
			return
		}
	}
	r.ring[r.n%rateSamples] = lag.Sample{At: at, Position: count}
	r.n++
}

func (r *rate) perSecond(now time.Time) float64 {
	if r.n < 2 {
		return 0
	}
	newest := r.ring[(r.n-1)%rateSamples]
	for i := max(0, r.n-rateSamples); i < r.n-1; i++ {
		if old := r.ring[i%rateSamples]; now.Sub(old.At) <= r.span {
			if d := newest.At.Sub(old.At).Seconds(); d > 0 {
				return float64(newest.Position-old.Position) / d
			}
		}
	}
	return 0
}

// skew measures how far an agent's clock is ahead of the service's: what it
// said minus the middle of question and answer. Of the last few answers the
// one that came fastest is the most exact.
type skew struct {
	ring [16]struct{ ahead, took time.Duration }
	n    int
}

func (s *skew) add(said, asked, answered time.Time) {
	took := answered.Sub(asked)
	x := &s.ring[s.n%len(s.ring)]
	x.ahead, x.took = said.Sub(asked.Add(took/2)), took
	s.n++
}

// seconds returns the skew; what the answer's own time may explain is not skew.
func (s *skew) seconds() float64 {
	if s.n == 0 {
		return 0
	}
	best := s.ring[0]
	for _, x := range s.ring[:min(s.n, len(s.ring))] {
		if x.took < best.took {
			best = x
		}
	}
	if max(best.ahead, -best.ahead) <= best.took {
		return 0
	}
	return best.ahead.Seconds()
}

// clockSkew is how far the clock that the database stamps its writes with is
// ahead of the service's: the agent's is nearly always the same one.
func (m *member) clockSkew() float64 {
	if m.last == nil {
		return m.skew.seconds()
	}
	return m.skew.seconds() + m.last.Process.ClockAhead
}
