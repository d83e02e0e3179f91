// Package lag measures how far a replica is behind, in bytes and in time.
//
// The servers' own time columns are empty on an idle primary or grow without
// meaning. So time lag is read off one clock, the service's: a ring of samples
// says where the primary stood when, and a replica that has applied position R
// lags by the time since the primary stood at R. Positions are plain numbers
// of bytes here; each engine's positions are mapped to them by its caller.
package lag

import (
	"time"

	"crosstwin/internal/core/cause"
)

// Sample says that the primary had written up to Position at At.
type Sample struct {
	At       time.Time
	Position int64
}

// Clock is a ring of samples of one primary's newest position. The zero Clock
// is not usable: see NewClock. It is not safe for concurrent use.
type Clock struct {
	size  int
	began time.Time // of the first sample
	ring  []moment  // grows up to size
	next  int       // the oldest, once it is full
}

// moment is a sample in less memory: a fleet has a million of them.
type moment struct {
	after    time.Duration // since the clock began
	position int64
}

// NewClock makes a clock that remembers the last n samples.
func NewClock(n int) *Clock { return &Clock{size: n} }

// Reset forgets all samples: positions of another history do not compare.
func (c *Clock) Reset() { c.ring, c.next = c.ring[:0], 0 }

// Add takes a sample. One from before the newest is left out: two looks may end in
// another order than they began. Samples that go back in position all the same (another
// history) empty the ring first. While the position does not move, only the first and the
// newest sample of it are kept, so the ring reaches back over idle hours.
func (c *Clock) Add(s Sample) {
	n := c.Len()
	if n > 0 && s.At.Before(c.at(n-1).At) {
		return
	}
	if n > 0 && s.Position < c.at(n-1).Position {
		c.Reset()
		n = 0
	}
	if n == 0 {
		c.began = s.At
	}
	m := moment{s.At.Sub(c.began), s.Position}
	switch {
	case n > 1 && c.at(n-1).Position == s.Position && c.at(n-2).Position == s.Position:
		c.ring[(c.next+n-1)%n] = m
	case n < c.size:
		c.ring = append(c.ring, m)
	default:
		c.ring[c.next] = m
		c.next = (c.next + 1) % n
	}
}

// Len returns the number of samples.
func (c *Clock) Len() int { return len(c.ring) }

// at returns the i-th oldest sample.
func (c *Clock) at(i int) Sample {
	m := c.ring[(c.next+i)%len(c.ring)]
	return Sample{c.began.Add(m.after), m.position}
}

// Reading is a lag in time.
type Reading struct {
	Seconds float64 `json:"seconds"`
	// AtLeast is set when the position is older than every sample.
	AtLeast bool `json:"at_least"`
	// Known is false while there is no sample at all.
	Known bool `json:"known"`
}

// Behind returns the lag at now of a replica that has come to position: now
// minus the time at which the primary stood there, interpolated between
// samples; zero when the position is the primary's newest.
func (c *Clock) Behind(position int64, now time.Time) Reading {
	n := c.Len()
	if n == 0 {
		return Reading{}
	}
	if position >= c.at(n-1).Position {
		return Reading{Known: true}
	}
	if position < c.at(0).Position {
		return Reading{Seconds: since(now, c.at(0).At), AtLeast: true, Known: true}
	}
	// The last sample at or before position: the primary left it there.
	lo, hi := 0, n-1
	for lo < hi-1 {
		mid := (lo + hi) / 2
		if c.at(mid).Position <= position {
			lo = mid
		} else {
			hi = mid
		}
	}
	a, b := c.at(lo), c.at(hi)
	share := float64(position-a.Position) / float64(b.Position-a.Position)
	left := a.At.Add(time.Duration(share * float64(b.At.Sub(a.At))))
	return Reading{Seconds: since(now, left), Known: true}
}

// StoodAt returns the position at which the primary stood at a time, interpolated
// between samples; the newest for a later time, false for one before them all.
func (c *Clock) StoodAt(t time.Time) (int64, bool) {
	n := c.Len()
	if n == 0 || t.Before(c.at(0).At) {
		return 0, false
	}
	if !t.Before(c.at(n - 1).At) {
		return c.at(n - 1).Position, true
	}
	lo, hi := 0, n-1
	for lo < hi-1 {
		mid := (lo + hi) / 2
		if c.at(mid).At.After(t) {
			hi = mid
		} else {
			lo = mid
		}
	}
	a, b := c.at(lo), c.at(hi)
	share := float64(t.Sub(a.At)) / float64(max(1, b.At.Sub(a.At)))
	return a.Position + int64(share*float64(b.Position-a.Position)), true
}

func since(now, then time.Time) float64 { return max(0, now.Sub(then).Seconds()) }

// Stages are the bytes that wait between two neighbouring stages of one replica.
type Stages struct {
	NotSent     int64 `json:"not_sent_bytes"`
	NotReceived int64 `json:"not_received_bytes"`
	NotSafe     int64 `json:"not_safe_bytes"`
	NotApplied  int64 `json:"not_applied_bytes"`
}

// Worst names the stage at which most bytes wait, empty when none do.
func (s Stages) Worst() cause.Stage {
	worst, most := cause.Stage(""), int64(0)
	for _, x := range []cause.Stage{cause.NotSent, cause.NotReceived, cause.NotSafe, cause.NotApplied} {
		if n := s.At(x); n > most {
			worst, most = x, n
		}
	}
	return worst
}

// At returns the bytes that wait at a stage.
func (s Stages) At(stage cause.Stage) int64 {
	switch stage {
	case cause.NotSent:
		return s.NotSent
	case cause.NotReceived:
		return s.NotReceived
	case cause.NotSafe:
		return s.NotSafe
	}
	return s.NotApplied
}

// CatchUp estimates the seconds until a replica that is behind bytes has
// caught up, given both rates in bytes per second; false when it never does
// at this rate.
func CatchUp(behind int64, applied, written float64) (float64, bool) {
	if behind <= 0 {
		return 0, true
	}
	if applied <= written {
		return 0, false
	}
	return float64(behind) / (applied - written), true
}
