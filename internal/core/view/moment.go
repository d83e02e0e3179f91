package view

import (
	"time"

	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// Two servers are never seen at one moment: each is asked, looks, and answers when it
// has looked. So what a replica holds is held against what the primary had written
// when the replica was asked, by the lag clock; and the primary's own view of its
// replicas, where its engine has one, belongs to the moment of what it had written.
// Of both the better one counts: each is true of a moment within the last second.

// measureLag fills in bytes, time and stages of a replica. Positions compare
// only when both servers are on histories of one line.
func measureLag(in Input, m Member, owner *Member, s *Server) {
	o := m.Last
	if owner == nil || owner.Last == nil || m.Name == in.Owner || o.Process.Role != observation.Replica {
		return
	}
	at, ok := position.Order(in.Engine, o.Log.Applied)
	if !ok || owner.Last.Log.Written == "" {
		return
	}
	asked := moment(m)
	if d, found := owner.Last.DownstreamNamed(m.Name); found {
		if heard, ok := position.Order(in.Engine, d.Applied); ok && heard > at {
			at, asked = heard, moment(*owner)
		}
	}
	if in.Clock != nil {
		s.Lag = in.Clock.Behind(at, asked)
	}
	s.CatchUp = -1
	if lacks, ok := position.Lacks(in.Engine, o.Log.Applied, owner.Last.Log.Written); ok {
		if t, ok := lag.CatchUp(lacks.Amount, m.AppliedRate, in.WrittenRate); ok {
			s.CatchUp = t
		}
		if lacks.IsZero() {
			s.Lag.Seconds = 0
			return // the newest write is applied: no byte is missing
		}
	}
	sc := scale{in.Engine, owner.Last}
	applied, ok1 := sc.applied(o)
	written, ok2 := sc.written()
	if !ok1 || !ok2 {
		return
	}
	if heard, ok := position.Order(in.Engine, o.Log.Applied); ok && at > heard && !in.coordinates() {
		applied = at
	}
	written = applied + in.of(asked, at, owner.Last.Log.Written, written-applied)
	received, ok := sc.received(o)
	if !ok || received < applied {
		received = applied
	}
	s.LagBytes = max(0, written-applied)
	s.Stages = stages(sc, m.Name, written, received, applied)
	if s.LagBytes == 0 && s.Lag.Seconds < slight || s.Lag.Known && !s.Lag.AtLeast && s.Lag.Seconds == 0 {
		s.LagBytes, s.Lag.Seconds, s.Stages = 0, 0, lag.Stages{}
	}
	if s.missing.Applied = s.LagBytes > 0; passing(s.Lag, m.Before.Applied) {
		s.LagBytes, s.Lag.Seconds, s.Stages = 0, 0, lag.Stages{}
	}
}

// passing reports whether a lag is that of writes which were under way as the servers
// were looked at: shorter than the time between two looks, and new. One that stays
// is seen again by the next look.
func passing(r lag.Reading, before bool) bool {
	return r.Known && !r.AtLeast && r.Seconds < slight && !before
}

// slight is how many seconds pass between two looks at a server. A shorter lag may
// be one of nothing: bytes and seconds are counted apart on an engine whose positions
// are no bytes.
const slight = 1

// moment is when a member's positions were read, at the earliest.
func moment(m Member) time.Time {
	if m.LookedAt.IsZero() {
		return m.SeenAt
	}
	return m.LookedAt
}

// of takes out of a distance in bytes what the primary wrote after the moment at
// which the other server stood at a position.
func (in Input) of(moment time.Time, at int64, written string, bytes int64) int64 {
	newest, ok1 := position.Order(in.Engine, written)
	then, ok2 := int64(0), false
	if in.Clock != nil {
		then, ok2 = in.Clock.StoodAt(moment)
	}
	switch {
	case !ok1 || !ok2 || newest <= at:
		return bytes
	case then <= at:
		return 0
	}
	return int64(float64(bytes) * min(1, float64(then-at)/float64(newest-at)))
}

// shown returns the position to show of a server: of a healthy replica the one of
// the moment at which its primary was seen, so that no replica is shown ahead of it.
// What is adrift or unproven is shown as it is.
func shown(in Input, s *Server, owner *Member) string {
	if owner == nil || owner.Last == nil || s.Role == observation.Primary || s.Health != InStep && s.Health != Behind {
		return s.Position
	}
	written := owner.Last.Log.Written
	at, ok := position.Order(in.Engine, s.Position)
	if !ok || written == "" {
		return s.Position
	}
	if d, found := owner.Last.DownstreamNamed(s.Name); found {
		if heard, known := position.Order(in.Engine, d.Applied); known && heard > at {
			return d.Applied
		}
	}
	if lacks, known := position.Lacks(in.Engine, s.Position, written); known && lacks.IsZero() {
		return written // it holds all of this, and more by now
	}
	return s.Position
}

// atRisk says what is safe on no replica that may take over.
func atRisk(in Input, v *View, owner *Member) AtRisk {
	if owner == nil || owner.Last == nil || owner.Last.Log.Written == "" {
		return AtRisk{}
	}
	sc := scale{in.Engine, owner.Last}
	written, ok := sc.written()
	if !ok {
		return AtRisk{}
	}
	if s := v.Synchronous; s != nil && s.Safe {
		// Each write is on another server before it is acknowledged: on which disk, and whether
		// that is well, is known while one may take over.
		return AtRisk{Known: v.CanLose > 0}
	}
	if s := v.Find(owner.Name); s != nil && s.Health == Unseen {
		return AtRisk{} // what it wrote since it was seen last, nobody knows
	}
	r := AtRisk{Known: true, Everything: true}
	for i, s := range v.Servers {
		if !s.MayTakeOver {
			continue
		}
		bytes, seconds, ok := notSafe(in, sc, &v.Servers[i], owner, written)
		if ok && (r.Everything || bytes < r.Bytes) {
			r.Everything, r.Bytes, r.Seconds, r.On = false, bytes, seconds, s.Name
		}
	}
	return r
}

// notSafe returns how much of the primary's log a replica's own disk does not hold, in
// bytes of that log and in seconds: as it says itself or as the primary heard from
// it, whichever is better.
func notSafe(in Input, sc scale, s *Server, owner *Member, written int64) (bytes int64, seconds float64, ok bool) {
	safe, ok := sc.received(s.Observation)
	if !ok {
		return 0, 0, false
	}
	at, _ := position.Order(in.Engine, s.Observation.Log.Received)
	m := findMember(in, s.Name)
	asked := moment(*m)
	bytes = in.of(asked, at, owner.Last.Log.Written, max(0, written-safe))
	if lacks, known := position.Lacks(in.Engine, s.Observation.Log.Received, owner.Last.Log.Written); known &&
		lacks.IsZero() {
		bytes = 0
	}
	if d, found := owner.Last.DownstreamNamed(s.Name); found && !in.coordinates() {
		if heard, known := position.Order(in.Engine, d.Safe); known && max(0, written-heard) < bytes {
			bytes, at, asked = max(0, written-heard), heard, moment(*owner)
		}
	}
	if bytes > 0 && in.Clock != nil {
		reading := in.Clock.Behind(at, asked)
		seconds, s.missing.Safe = reading.Seconds, !reading.Known || reading.Seconds > 0
		if reading.Known && seconds == 0 || passing(reading, m.Before.Safe) {
			return 0, 0, true
		}
	}
	return bytes, seconds, true
}
