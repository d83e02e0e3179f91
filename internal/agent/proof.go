package agent

import (
	"errors"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// proof is that this server held a mark of a term in its own log, and what it
// was then (invariant: only a server that is proven to share the current history
// becomes primary, or is fetched from).
type proof struct {
	Term int64 `json:"term"`
	// Process is the database process that held the mark.
	Process string `json:"process"`
	// Own is the newest number of its own in its log (MariaDB): a replica makes
	// none, so one more is a write of others.
	Own uint64 `json:"own,omitempty"`
}

// proofOf is what a proof of o's server would hold; none of a server that is not
// a running replica.
func proofOf(o *observation.Server, term int64) proof {
	if !o.Process.Accepting || o.Process.Role != observation.Replica || o.Process.Identity == "" {
		return proof{}
	}
	return proof{Term: term, Process: o.Process.Identity, Own: o.Standing().OwnNumber()}
}

// stillProven returns the term in which the server that o shows was proven; 0 when
// it is not, or not any more. A proof is lost for good when another process runs,
// when the server is a primary, or when it wrote something of its own. While it
// does not answer, or does not run, nothing is proven and nothing lost.
func (a *Agent) stillProven(o *observation.Server, p proof) int64 {
	if p.Term == 0 || !o.Process.Accepting {
		return 0
	}
	if p == proofOf(o, p.Term) {
		return p.Term
	}
	a.log.Info("no longer proven to share the primary's history", "proven", p, "now", proofOf(o, p.Term))
	if err := a.memory.change(func(s *state) error {
		if s.Proof == p {
			s.Proof = proof{}
		}
		return nil
	}); err != nil {
		a.log.Error("could not record that a proof is lost", "error", err)
	}
	return 0
}

var errStrayed = errors.New(
	"it was open for writes without right, on a history that others wrote as well: that it holds a mark proves " +
		"nothing; rejoin it")

// noteStray remembers that a process which had no right to is open for writes. An
// old primary that is caught alive has strayed in no such way: up to the fork it
// wrote the history itself. Neither has one that was promoted by hand: its own
// history begins where it parted.
func (a *Agent) noteStray(o *observation.Server, s state) error {
	// A process that hangs does not tell all of its identity, and one of which only
	// children are left none.
	if s.Strayed || strings.HasPrefix(s.Opened, o.Process.Identity) || s.MarkLine > 0 && o.Log.Line.Number > s.MarkLine {
		return nil
	}
	return a.memory.change(func(s *state) error { s.Strayed = true; return nil })
}

// examined takes in an examination. One that compared the histories by content
// shows whether a server that strayed wrote anything; by position none does.
func (a *Agent) examined(x *verb.Examination) error {
	a.doubtFiltered(x)
	if !a.memory.get().Strayed {
		return nil
	}
	if x.ByContent && x.Kinship == string(position.Kin) && x.TailBytes == 0 {
		return a.memory.change(func(s *state) error { s.Strayed = false; return nil })
	}
	x.Strayed = !x.ByContent
	return nil
}
