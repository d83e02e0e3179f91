package lag

import (
	"math"
	"testing"
	"time"
)

var t0 = time.Date(2027, 1, 1, 6, 0, 0, 0, time.UTC)

func at(s float64) time.Time { return t0.Add(time.Duration(s * float64(time.Second))) }

func TestClock(t *testing.T) {
	c := NewClock(100)
	if r := c.Behind(5, t0); r.Known {
		t.Error("an empty clock knows a lag")
	}
	for i := range 11 { // 100 bytes a second for 10 s
		c.Add(Sample{at(float64(i)), int64(1000 + 100*i)})
	}
	for _, x := range []struct {
		pos     int64
		now     float64
		seconds float64
		atLeast bool
	}{
		{2000, 10, 0, false}, {2100, 10, 0, false}, // the newest, or newer than the last sample
		{1950, 10, 0.5, false}, {1500, 10, 5, false}, {1000, 10, 10, false}, {999, 10, 10, true},
		{2000, 500, 0, false}, // an idle primary: in step for ever
	} {
		r := c.Behind(x.pos, at(x.now))
		if !r.Known || math.Abs(r.Seconds-x.seconds) > 1e-9 || r.AtLeast != x.atLeast {
			t.Errorf("position %d at %g s: %+v, want %g", x.pos, x.now, r, x.seconds)
		}
	}
}

// On an idle primary the ring keeps reaching back: standing still costs two
// samples, not one a second.
func TestClockIdle(t *testing.T) {
	c := NewClock(10)
	c.Add(Sample{at(0), 100})
	for i := 1; i <= 1000; i++ {
		c.Add(Sample{at(float64(i)), 200})
	}
	if r := c.Behind(100, at(1000)); r.AtLeast || r.Seconds != 1000 {
		t.Errorf("%+v with %d samples", r, c.Len())
	}
	c.Add(Sample{at(1001), 300})
	// It left 200 at 1000 s at the earliest known, not at 1 s.
	if r := c.Behind(200, at(1001)); r.Seconds > 1.001 {
		t.Errorf("%+v", r)
	}
	c.Add(Sample{at(1002), 50}) // another history
	if c.Len() != 1 {
		t.Errorf("%d samples of two histories", c.Len())
	}
}

func TestClockWraps(t *testing.T) {
	c := NewClock(5)
	for i := range 23 {
		c.Add(Sample{at(float64(i)), int64(i * 10)})
	}
	if r := c.Behind(200, at(22)); r.Seconds != 2 || r.AtLeast {
		t.Errorf("%+v", r)
	}
	if r := c.Behind(10, at(22)); !r.AtLeast || r.Seconds != 4 {
		t.Errorf("%+v", r)
	}
}

func TestCatchUpAndStages(t *testing.T) {
	for _, c := range []struct {
		behind           int64
		applied, written float64
		want             float64
		ok               bool
	}{{0, 0, 5, 0, true}, {100, 20, 10, 10, true}, {100, 10, 10, 0, false}, {100, 5, 10, 0, false}} {
		if got, ok := CatchUp(c.behind, c.applied, c.written); got != c.want || ok != c.ok {
			t.Errorf("%+v: %g %t", c, got, ok)
		}
	}
	if w := (Stages{NotSent: 5, NotApplied: 9}).Worst(); w != "applied" {
		t.Error(w)
	}
	if w := (Stages{}).Worst(); w != "" {
		t.Error(w)
	}
}

func TestStoodAt(t *testing.T) {
	c := NewClock(4)
	if _, ok := c.StoodAt(at(5)); ok {
		t.Error("an empty clock knows something")
	}
	for i, p := range []int64{100, 200, 200, 260} {
		c.Add(Sample{at(float64(10 * i)), p})
	}
	for seconds, want := range map[float64]int64{-1: -1, 0: 100, 5: 150, 10: 200, 15: 200, 25: 230, 30: 260, 99: 260} {
		got, ok := c.StoodAt(at(seconds))
		if ok != (want >= 0) || ok && got != want {
			t.Errorf("at %g s it stood at %d (%t), want %d", seconds, got, ok, want)
		}
	}
}

// Two looks may end in another order than they began: the older one says nothing of
// another history.
func TestLateLook(t *testing.T) {
	c := NewClock(10)
	c.Add(Sample{at(10), 1000})
	c.Add(Sample{at(11), 1100})
	c.Add(Sample{at(10.5), 1050})
	if r := c.Behind(1000, at(11)); c.Len() != 2 || r.Seconds != 1 || r.AtLeast {
		t.Errorf("%+v with %d samples", r, c.Len())
	}
}
