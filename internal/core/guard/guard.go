// Package guard decides what an agent may do under which term, and until when. It holds
// no I/O and no clock: the time is handed in.
//
// State is what every agent keeps today, on disk, synced before it answers. Agent,
// Service and Deadman are the machines of the permission to write that runs out: grants,
// pledges, terms, stand-down and proof, ranks, by the rules of the handbook's page on
// safety, whose numbers stand with each Rule. Step takes a state, an event and the time,
// and gives the next state with what is to be done, in order. Package simulation plays
// them against each other; internal/agent, internal/service and internal/deadman are the
// processes round them.
//
// The invariants that State keeps:
//
//   - Terms never go back. An agent that noted term T refuses every act of an
//     older term (a service restored from a backup, a second service, a late
//     message of an operation that was given up).
//   - Only the owner of the newest accepted term may be writable. A server that
//     is writable and follows, or whose term another server owns, is fenced by
//     its own agent at once.
//   - An agent that lost its state knows no term: it may not promote or open
//     a database as primary until a service tells it a term again.
package guard

import "fmt"

// State is what an agent remembers across restarts.
type State struct {
	// Noted is the newest term the agent was asked about.
	Noted int64 `json:"noted"`
	// Accepted is the newest term whose owner the agent knows.
	Accepted int64 `json:"accepted"`
	// Owner reports whether this server is the owner of Accepted.
	Owner bool `json:"owner"`
}

// StaleTermError refuses an act of an older term.
type StaleTermError struct{ Asked, Noted int64 }

func (e StaleTermError) Error() string {
	return fmt.Sprintf("term %d is over: this agent has noted term %d", e.Asked, e.Noted)
}

// Note records that term t was asked about.
func (s State) Note(t int64) (State, error) {
	if t < s.Noted {
		return s, StaleTermError{t, s.Noted}
	}
	s.Noted = t
	return s, nil
}

// Accept records the decision who owns term t. A decision of an older term
// than the accepted one is refused; the same term cannot change its owner.
func (s State) Accept(t int64, owner bool) (State, error) {
	switch {
	case t < s.Noted:
		return s, StaleTermError{t, s.Noted}
	case t < s.Accepted:
		return s, StaleTermError{t, s.Accepted}
	case t == s.Accepted && owner != s.Owner:
		return s, fmt.Errorf("term %d already has another owner", t)
	}
	return State{Noted: t, Accepted: t, Owner: owner}, nil
}

// Learn takes in a decision that is told again and again with every
// observation. What is older than the accepted one is ignored, not an error: the
// asker learns the newer term from the answer. A newer decision for another
// server always ends ownership, whatever was noted since; one for this server
// counts only while no newer term was noted.
func (s State) Learn(t int64, owner bool) State {
	if t <= s.Accepted || owner && t < s.Noted {
		return s
	}
	return State{Noted: max(t, s.Noted), Accepted: t, Owner: owner}
}

// MayReopen reports whether a server that came back closed may be opened again
// in the term that it owns: a fresh answer names it as the owner of exactly the
// accepted term, and no newer term was noted.
func (s State) MayReopen(t int64, owner bool) bool {
	return owner && s.Owner && t == s.Accepted && s.Noted == s.Accepted
}

// MayAct reports whether an act of term t may be carried out here.
func (s State) MayAct(t int64) error {
	if t < s.Noted {
		return StaleTermError{t, s.Noted}
	}
	return nil
}

// MayOpen reports whether this server may be made writable in term t: the term
// must be one that it owns by an accepted decision.
func (s State) MayOpen(t int64) error {
	if err := s.MayAct(t); err != nil {
		return err
	}
	if s.Accepted != t || !s.Owner {
		return fmt.Errorf("this server is not the owner of term %d: it may not take writes", t)
	}
	return nil
}

// MustFence reports whether a server in this state has to be stopped at once
// because it is writable without being allowed to. A server that no service
// has taken under its care yet (no accepted term) is left alone.
func (s State) MustFence(writable bool) bool {
	return writable && s.Accepted > 0 && !s.Owner
}
