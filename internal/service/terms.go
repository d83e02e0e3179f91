package service

import (
	"context"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/pki"
	"crosstwin/internal/store"
)

// decision returns the newest decision of a cluster, signed; nil when there is none.
// c.mu is held.
func (s *Service) decision(c *watched) *guard.Signed {
	d := guard.Decision{Cluster: c.rec.Name, Made: guard.MadeText(c.rec.CreatedAt), Term: c.rec.OwnerTerm,
		Owner: c.rec.Owner}
	if d.Term == 0 || d.Owner == "" {
		return nil
	}
	if c.signed == nil || c.signed.Decision != d {
		signature, err := s.Authority.SignStatement(d.Statement())
		if err != nil {
			s.log.Error("could not sign a decision", "cluster", d.Cluster, "term", d.Term, "error", err)
			return nil
		}
		c.signed = &guard.Signed{Decision: d, Signature: signature}
	}
	return c.signed
}

// permitted lets the agent that is called ask its peers, for a short time.
func (s *Service) permitted(ctx context.Context, t agentapi.Target) context.Context {
	p := guard.Permit{Cluster: t.Cluster, Holder: t.Server, Until: time.Now().Add(guard.PermitLife)}
	signature, err := s.Authority.SignStatement(p.Statement())
	if err != nil {
		s.log.Error("could not sign a permit", "cluster", t.Cluster, "server", t.Server, "error", err)
		return ctx
	}
	return agentapi.WithPermit(ctx, p.Text(signature))
}

// ours reports whether an agent shows a decision of this service for what it says of
// its term.
func (s *Service) ours(c store.Cluster, m store.Server, o *observation.Server) bool {
	want := guard.Decision{Cluster: c.Name, Made: guard.MadeText(c.CreatedAt), Term: o.Guard.Accepted, Owner: m.Name}
	return o.Decision.Decision == want && pki.SaidBy(s.Authority.Trusted(), want.Statement(), o.Decision.Signature)
}

// claimOf returns the term that a server says it owns, or that its agent says it noted,
// and that nothing of this service backs; 0 for none.
func (s *Service) claimOf(c store.Cluster, m store.Server, o *observation.Server) int64 {
	g := o.Guard
	switch {
	case g.Owner && g.Accepted > c.OwnerTerm && !s.ours(c, m, o) && !(c.OwnerTerm == 0 && m.FirstPrimary):
		return g.Accepted
	case !guard.Believable(g.Noted, c.Term):
		return g.Noted
	}
	return 0
}

// settleTerm returns a cluster its first term when its first primary is seen,
// and takes over a newer term that an agent knows and the records do not (the
// records were restored from an older copy): terms never go back. Who owns it is
// taken over only from a decision that this service signed.
func (s *Service) settleTerm(ctx context.Context, c store.Cluster, m store.Server, o *observation.Server) {
	term, decided := s.termToTake(c, m, o)
	if term == 0 {
		return
	}
	log := s.log.With("cluster", c.Name, "server", m.Name, "term", term)
	if !decided {
		log.Warn("an agent noted a newer term than the records know: its number is taken over")
	} else {
		log.Warn("an agent owns a term that the records do not know: it is taken over")
	}
	if term > c.Term {
		if err := s.Store.OpenTerm(ctx, c.Name, term, 0); err != nil {
			log.Error("could not open a term", "error", err)
			return
		}
	}
	if decided {
		if err := s.Store.Decide(ctx, c.Name, term, m.Name); err != nil {
			log.Error("could not decide a term", "error", err)
			return
		}
		s.audit(ctx, "crosstwin", "", "term decided", c.Name, m.Name)
		s.keepFencing(ctx, c, o)
	}
	if err := s.reload(ctx, c.Name); err != nil {
		log.Error("could not read the records", "error", err)
	}
}

// keepFencing switches fencing on in records that were made before it was: the owner of
// a decision that this service signed, and that they do not know, is under it.
func (s *Service) keepFencing(ctx context.Context, c store.Cluster, o *observation.Server) {
	if c.Policy.Fencing || o.Permission == nil || !o.Permission.Fencing {
		return
	}
	c.Policy.Fencing = true
	if err := s.Store.SetPolicy(ctx, c.Name, c.Policy); err != nil {
		s.log.Error("could not record that fencing is on", "cluster", c.Name, "error", err)
		return
	}
	s.audit(ctx, "crosstwin", "", "policy changed", c.Name, "fencing is on, by the agent of "+o.Decision.Owner)
}

// termToTake returns the term that an observation makes the records take over,
// 0 for none, and whether the observed server owns it.
func (s *Service) termToTake(c store.Cluster, m store.Server, o *observation.Server) (term int64, decided bool) {
	g := o.Guard
	switch {
	case g.Owner && g.Accepted > c.OwnerTerm && s.ours(c, m, o):
		return g.Accepted, true
	case !guard.Believable(g.Noted, c.Term):
		return 0, false
	case c.OwnerTerm == 0 && m.FirstPrimary && o.Process.Accepting && o.Process.Role == observation.Primary:
		return max(g.Noted, c.Term) + 1, true
	case g.Noted > c.Term:
		// An act of a term that agents count as over would be refused.
		return g.Noted, false
	}
	return 0, false
}
