package service

import (
	"cmp"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// mayReopen reports whether the owner, which came back closed, may be told to
// open again: no operation is under way or waits for a person, no newer term was
// opened or noted by anybody, no replica holds anything of the owner's history that it lacks (an
// earlier primary's tail is none), and nobody is at work on it (maintenance).
// What cannot be known says no. c.mu is held.
func (c *watched) mayReopen(m *member) bool {
	o := m.last
	if c.rec.Policy.Maintenance.On(time.Now()) {
		return false
	}
	if m.rec.Name != c.rec.Owner || o == nil || c.op != nil || c.needsYou != nil || c.rec.Term != c.rec.OwnerTerm ||
		!o.Process.Accepting || o.Process.Role != observation.Replica || o.Process.Fenced {
		return false
	}
	for _, r := range c.members {
		if r != m && r.rec.Enrolled && !c.allows(o, r) {
			return false
		}
	}
	return true
}

// allows reports whether another member gives no reason against opening the
// owner again. One that was not seen since this service runs might know of a
// newer term.
func (c *watched) allows(owner *observation.Server, r *member) bool {
	switch {
	case r.last == nil:
		return !r.rec.HeldData
	case r.last.Guard.Noted > c.rec.OwnerTerm:
		return false
	case r.last.Data.Empty || r.last.Data.Foreign:
		return true
	}
	// What it has replayed is whole; what it has received may end within a record
	// whose rest was never written. Held-back replay says too little.
	held := cmp.Or(r.last.Log.Applied, r.last.Log.Received, r.last.Log.ShutdownAt)
	if r.last.Replay.Paused || r.last.Links.Upstream != nil && r.last.Links.Upstream.DelaySeconds > 0 {
		held = cmp.Or(r.last.Log.Received, held)
	}
	has := r.last.Standing()
	has.At = held
	more, known := position.Beyond(c.rec.Engine, has, owner.Log.Line, owner.Log.Applied)
	return known && more.IsZero()
}
