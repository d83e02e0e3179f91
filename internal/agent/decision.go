package agent

import (
	"bytes"
	"errors"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/pki"
)

// keepDecision keeps the newest decision that the service signed, to be shown with what
// the agent says of its term. One of a cluster that was made anew comes before any that
// was kept.
func (a *Agent) keepDecision(d *guard.Signed) error {
	kept := a.memory.get().Decision
	switch {
	case d == nil || d.Cluster != a.cfg.Cluster || d.Made == kept.Made && d.Term < kept.Term:
		return nil
	case d.Decision == kept.Decision && bytes.Equal(d.Signature, kept.Signature):
		return nil
	case d.Made == kept.Made && d.Term == kept.Term && d.Owner != kept.Owner:
		return nil // a term has one owner
	}
	if !pki.SaidBy(a.authorities(), d.Statement(), d.Signature) {
		a.log.Warn("a decision came without the service's signature: it is not kept", "term", d.Term, "owner", d.Owner)
		return nil
	}
	return a.memory.change(func(s *state) error { s.Decision = *d; return nil })
}

var errUnsigned = errors.New("the permit is not signed by the service")

// notePromise keeps the number of the newest change of what acknowledged writes rest on. A
// service with older records is known by it.
func (a *Agent) notePromise(number int64) error {
	if number <= a.memory.get().Promise {
		return nil
	}
	return a.memory.change(func(s *state) error { s.Promise = max(s.Promise, number); return nil })
}
