package view

import (
	"testing"
	"time"

	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
)

// The servers are asked side by side, and each answers when it has looked: what one
// of them says is never held against what another one said at another moment.
func TestOneMoment(t *testing.T) {
	// The primary writes 0x100000 bytes a second; its newest answer is 40 ms old.
	asked, answered := now.Add(-80*time.Millisecond), now.Add(-40*time.Millisecond)
	busy := func(applied, received string, change func(in *Input, tern *Member)) Input {
		return bookings(func(in *Input) {
			in.Clock = lag.NewClock(10)
			in.Clock.Add(lag.Sample{At: answered.Add(-time.Second), Position: 0x1F00000})
			in.Clock.Add(lag.Sample{At: answered, Position: 0x2000000})
			in.Members[0].LookedAt, in.Members[0].SeenAt = asked, answered
			tern := &in.Members[1]
			tern.LookedAt, tern.SeenAt = asked, answered
			tern.Last.Log.Applied, tern.Last.Log.Received = applied, received
			in.Members[2].LookedAt, in.Members[2].SeenAt = asked, answered
			if change != nil {
				change(in, tern)
			}
		})
	}
	heard := func(applied, safe string) func(*Input, *Member) {
		return func(in *Input, _ *Member) {
			in.Members[0].Last.Links.Downstreams = []observation.Downstream{{Name: "tern", State: "streaming",
				Sent: safe, Received: safe, Safe: safe, Applied: applied}}
		}
	}
	again := func(_ *Input, tern *Member) { tern.Before = Missing{Applied: true, Safe: true} }
	for _, c := range []struct {
		name     string
		in       Input
		behind   bool
		risk     bool
		position string
	}{
		{"it looked 20 ms before the primary did", busy("0/1FFB000", "0/1FFB000", nil), false, false, "0/1FFB000"},
		{"it looked after the primary", busy("0/2004000", "0/2004000", nil), false, false, "0/2000000"},
		{"the primary itself knows better", busy("0/1F40000", "0/1F40000", heard("0/2000000", "0/2000000")), false, false,
			"0/2000000"},
		{"behind by half a second, seen once", busy("0/1F80000", "0/1F80000", nil), false, false, "0/1F80000"},
		{"behind by half a second, seen again", busy("0/1F80000", "0/1F80000", again), true, true, "0/1F80000"},
		{"received, not applied", busy("0/1F40000", "0/2000000", again), true, false, "0/1F40000"},
		{"it holds transactions of its own", busy("0/2004000", "0/2004000", func(in *Input, tern *Member) {
			tern.Last.Data.Strayed = true
		}), false, true, "0/2004000"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.in.Members[2].Rank = 0
			v := Assess(c.in)
			tern := v.Find("tern")
			if got := tern.LagBytes > 0; got != c.behind || got != (tern.Lag.Seconds > 0) {
				t.Errorf("%d B and %+v behind", tern.LagBytes, tern.Lag)
			}
			if got := v.AtRisk.Bytes > 0 || v.AtRisk.Everything; got != c.risk || v.AtRisk.Bytes > 0 && v.AtRisk.Seconds == 0 {
				t.Errorf("at risk: %+v", v.AtRisk)
			}
			if tern.Position != c.position {
				t.Errorf("at %s", tern.Position)
			}
		})
	}
}

// A clock that has just begun says of an older position only that it is older: what was
// received and not applied waits all the same.
func TestYoungClock(t *testing.T) {
	v := Assess(bookings(func(in *Input) {
		in.Clock = lag.NewClock(10)
		in.Clock.Add(lag.Sample{At: now, Position: 0x2000000})
		tern := &in.Members[1]
		tern.LookedAt, tern.SeenAt = now.Add(-100*time.Millisecond), now
		tern.Last.Log.Applied, tern.Last.Log.Received = "0/1F40000", "0/2000000"
		tern.Last.Replay.Paused = true
	}))
	if tern := v.Find("tern"); tern.Health != Stalled || tern.Stages.NotApplied != 0xC0000 {
		t.Errorf("%s, %+v", tern.Health, tern.Stages)
	}
}
