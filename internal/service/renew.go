package service

import (
	"context"
	"time"

	"crosstwin/internal/pki"
)

// renewBefore is how long before its end a certificate is renewed; one that lasts longer
// than any is made for now is of an older version, and renewed too. renewAgain is how
// long after a try the next one follows.
const (
	renewBefore = pki.AgentLife / 2
	renewAgain  = time.Hour
)

// renew has the certificates of agents renewed in time.
func (s *Service) renew(ctx context.Context, c *watched, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range c.members {
		if m.last == nil || m.problem != "" || m.last.CertificateEnds.IsZero() || now.Before(m.renewNext) {
			continue
		}
		if left := m.last.CertificateEnds.Sub(now); left > renewBefore && left <= pki.AgentLife+24*time.Hour {
			continue
		}
		m.renewNext = now.Add(renewAgain)
		go s.renewOne(ctx, c.rec.Name, m.rec.Name)
	}
}

func (s *Service) renewOne(ctx context.Context, cluster, server string) {
	log := s.log.With("cluster", cluster, "server", server)
	err := func() error {
		t, _, err := s.target(cluster, server)
		if err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(ctx, observeTimeout)
		defer cancel()
		return s.agents.Renew(ctx, t, func(request []byte) ([]byte, error) {
			return s.Authority.SignRequest(request, pki.AgentName(cluster, server))
		})
	}()
	if err != nil {
		log.Warn("an agent's certificate could not be renewed; it is tried again", "error", err)
		return
	}
	s.audit(ctx, "crosstwin", "", "certificate renewed", cluster, server)
}
