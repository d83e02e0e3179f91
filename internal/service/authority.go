package service

import (
	"context"
	"fmt"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/authority"
	"crosstwin/internal/pki"
)

// The authority is exchanged in steps; each begins only when the one before is complete
// on every server (invariant: nobody shows a certificate that its counterpart does not
// trust yet, and no trust ends while something rests on it). A server that cannot be
// reached therefore holds the exchange up, at any step, and harms nothing by it.

// AuthorityNow returns the state of the authority.
func (s *Service) AuthorityNow() authority.State {
	trusted := s.Authority.Trusted()
	prints := pki.Fingerprints(trusted)
	out := authority.State{Fingerprint: prints[0], Made: trusted[0].NotBefore, Ends: trusted[0].NotAfter,
		Certificates: string(pki.EncodeCertificates(trusted)), Stage: s.Authority.Stage(), Servers: []authority.Server{}}
	now := time.Now()
	for _, c := range s.all() {
		c.mu.Lock()
		for _, m := range c.everyone() {
			if !m.rec.Enrolled {
				continue
			}
			x := authority.Server{Cluster: c.rec.Name, Server: m.rec.Name, Unreachable: m.problem}
			if m.last != nil && m.problem == "" && now.Sub(m.seenAt) < 2*observeTimeout {
				x.Lacks = authority.LackOf(m.last, out.Stage, prints)
			} else if x.Unreachable == "" {
				x.Unreachable = "its agent has not been reached yet"
			}
			out.Servers = append(out.Servers, x)
		}
		c.mu.Unlock()
	}
	return out
}

// ConflictError says that something is not as the request takes it to be.
type ConflictError struct{ error }

func conflict(format string, args ...any) error { return ConflictError{fmt.Errorf(format, args...)} }

// RotateAuthority begins to exchange the authority that has the given fingerprint. It goes
// on by itself, also after a restart.
func (s *Service) RotateAuthority(ctx context.Context, fingerprint string) (authority.State, error) {
	now := s.AuthorityNow()
	switch {
	case now.Stage != "":
		return now, conflict("the authority is being exchanged already: crosstwin authority show says how far it is")
	case now.Fingerprint != fingerprint:
		return now, conflict("the authority is %s by now, not %s", now.Fingerprint, fingerprint)
	}
	for _, x := range now.Servers {
		if x.Unreachable != "" {
			return now, conflict("%s of %s has to be told, and its agent cannot be reached: %s. Bring it back first, or remove "+
				"the server", x.Server, x.Cluster, x.Unreachable)
		}
	}
	if err := s.Authority.Introduce(); err != nil {
		return now, err
	}
	return s.AuthorityNow(), s.useAuthority()
}

// useAuthority has the service itself show and trust what it is to.
func (s *Service) useAuthority() error {
	pair, err := s.Authority.Pair(pki.ServiceName)
	if err != nil {
		return err
	}
	s.agents.Use(pair, s.Authority.Pool())
	for _, c := range s.all() {
		c.mu.Lock()
		c.signed = nil // by the former one
		for _, m := range c.everyone() {
			m.renewNext = time.Time{}
		}
		c.mu.Unlock()
	}
	return nil
}

// exchangeAuthority tells agents whom to trust, and takes the next step of an exchange
// once the one before is complete.
func (s *Service) exchangeAuthority(ctx context.Context) {
	now := s.AuthorityNow()
	for _, x := range now.Servers {
		if x.Lacks == authority.LacksTrust {
			s.tellAuthorities(ctx, x, now.Certificates)
		}
	}
	if now.Stage == "" || !now.Complete() {
		return
	}
	step, done := s.Authority.Switch, "authority switched"
	if now.Stage == authority.Renewing {
		step, done = s.Authority.Forget, "authority exchanged"
	}
	err := step()
	if err == nil {
		err = s.useAuthority()
	}
	if err != nil {
		s.log.Error("the exchange of the authority cannot go on", "error", err)
		return
	}
	s.log.Info(done, "authority", s.Authority.Fingerprint())
	s.audit(ctx, "crosstwin", "", done, "", s.Authority.Fingerprint())
}

// tellAgain is how long after an agent was told it may be told again, tellLater after
// that failed.
const (
	tellAgain = 2 * time.Second
	tellLater = 30 * time.Second
)

// tellAuthorities tells one agent whom to trust, in the background.
func (s *Service) tellAuthorities(ctx context.Context, x authority.Server, certificates string) {
	t, _, err := s.target(x.Cluster, x.Server)
	if err != nil {
		return
	}
	if _, under := s.telling.LoadOrStore(t, true); under {
		return
	}
	go func() {
		again := tellAgain
		defer func() { time.AfterFunc(again, func() { s.telling.Delete(t) }) }()
		ctx, cancel := context.WithTimeout(ctx, observeTimeout)
		defer cancel()
		signature, err := s.Authority.SignStatement(pki.AuthoritiesStatement([]byte(certificates)))
		if err == nil {
			err = s.agents.Trust(ctx, t, agentapi.Authorities{Certificates: certificates, Signature: signature})
		}
		if err != nil {
			again = tellLater
			s.log.Warn("an agent could not be told which authorities to trust; it is tried again", "cluster", x.Cluster,
				"server", x.Server, "error", err)
		}
	}()
}
