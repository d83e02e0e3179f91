package guard

import "time"

// Time is a reading of a process's own clock, one that counts suspension
// (CLOCK_BOOTTIME), since any moment. Readings of two hosts are never compared: every
// wait below is measured by one clock, and is long enough for the other one to be
// Drift slow (rule 0 of the handbook's page on safety).
type Time = time.Duration

// The constants of the protocol. They are the same for all clusters: an agent and a
// service of other values would not keep the same promises.
const (
	// GrantLasts and PledgeLasts are d and p: so long after the nonce was issued, or the
	// question was sent, the database is stopped at the latest.
	GrantLasts  = 5 * time.Second
	PledgeLasts = 5 * time.Second
	// Fencing is F: what is left for stopping the database when a permission ends.
	Fencing = time.Second
	// slack is ε, for what a clock's reading and a timer are off.
	slack = 50 * time.Millisecond
	// GrantWait and PledgeWait are W and V: k·d+ε, with k = (1+ρ)/(1−ρ) and a rate
	// error ρ of at most one in a hundred.
	GrantWait  = GrantLasts*101/99 + slack
	PledgeWait = PledgeLasts*101/99 + slack
	// NoQuestions is X: so long a primary that was told to stand down asks for no
	// pledges.
	NoQuestions = 15 * time.Second
	// askFrom is how much of a permission may be left before pledges are asked for, and
	// askEvery is how often.
	askFrom  = 2 * time.Second
	askEvery = time.Second
	// tellEvery is how often a deadman that has not answered is told again, and
	// startGrace is how long a deadman waits for a living agent before it stops a
	// database: both are parts of Fencing.
	tellEvery  = 100 * time.Millisecond
	startGrace = 300 * time.Millisecond
)

// Ends says until when a server may write, and by what: the service's grant and the
// other agents' pledges run apart, and the later one counts.
type Ends struct {
	Grant  Time `json:"grant"`
	Pledge Time `json:"pledge"`
}

// Last is when the last permission ends.
func (e Ends) Last() Time { return max(e.Grant, e.Pledge) }

// Runs reports whether a permission runs.
func (e Ends) Runs(now Time) bool { return now < e.Last() }

// least keeps of each permission the shorter one.
func (e Ends) least(o Ends) Ends { return Ends{min(e.Grant, o.Grant), min(e.Pledge, o.Pledge)} }
