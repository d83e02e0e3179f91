package service

import (
	"context"
	"net"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/authority"
	"crosstwin/internal/pki"
)

// renewAgain is how long after a try to renew the next one follows; exchangeAgain while the
// authority is being exchanged, which waits for it.
const (
	renewAgain    = time.Hour
	exchangeAgain = 10 * time.Second
)

// renew has the certificates of agents renewed in time.
func (s *Service) renew(ctx context.Context, c *watched, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, m := range c.everyone() {
		if m.last == nil || m.problem != "" || m.last.CertificateEnds.IsZero() || now.Before(m.renewNext) {
			continue
		}
		host := m.databaseHost()
		if !m.renewable(s.Authority, host, now) {
			continue
		}
		if m.renewNext = now.Add(renewAgain); s.Authority.Stage() != "" {
			m.renewNext = now.Add(exchangeAgain)
		}
		go s.renewOne(ctx, c.rec.Name, m.rec.Name, host)
	}
}

// renewable reports whether a certificate of a server has to be renewed: it ends soon, or
// is of a former authority.
func (m *member) renewable(by *pki.Authority, host string, now time.Time) bool {
	o := m.last
	switch authority.LackOf(o, by.Stage(), pki.Fingerprints(by.Trusted())) {
	case authority.LacksTrust:
		if by.Stage() != "" {
			return false // it would not take one of an authority that it does not know
		}
	case authority.LacksCertificate:
		return true
	case authority.LacksDatabase:
		return host != ""
	}
	return !good(o.CertificateEnds, pki.AgentLife, now) ||
		host != "" && o.Encryption != nil && !good(o.Encryption.CertificateEnds, pki.DatabaseLife, now)
}

// databaseHost is the host for which the database gets a certificate: the one at which
// its agent was reached, which is all that is known to be this server's (invariant:
// nobody gets a certificate for an address by saying that it is theirs). Empty where the
// database is reached at another one.
func (m *member) databaseHost() string {
	agent, _, err := net.SplitHostPort(m.rec.Agent)
	if err != nil || agent != m.last.Host.Address.Host {
		return ""
	}
	return agent
}

// awaitCertificates gives servers that have just been enrolled time to get one, so that
// a first copy goes encrypted already.
func (s *Service) awaitCertificates(ctx context.Context, c *watched) {
	for end := time.Now().Add(certificateWait); time.Now().Before(end) && ctx.Err() == nil; {
		missing := []string{}
		c.mu.Lock()
		for _, m := range c.members {
			tried := m.renewNext.Add(-renewAgain)
			if m.last != nil && m.problem == "" && m.last.Encryption != nil && m.last.Encryption.CertificateEnds.IsZero() &&
				m.databaseHost() != "" && (m.renewNext.IsZero() || time.Since(tried) < certificateWait) {
				missing = append(missing, m.rec.Name)
			}
		}
		c.mu.Unlock()
		if len(missing) == 0 {
			return
		}
		s.renew(ctx, c, time.Now())
		time.Sleep(100 * time.Millisecond)
		for _, n := range missing {
			s.observe(ctx, c.rec.Name, n, false)
		}
	}
}

// certificateWait is for how long.
const certificateWait = 3 * time.Second

// good reports whether a certificate that is made for a life need not be renewed: more
// than half of that is left. One that lasts longer is of an older version.
func good(ends time.Time, life time.Duration, now time.Time) bool {
	left := ends.Sub(now)
	return left > life/2 && left <= life+24*time.Hour
}

// renewOne renews the certificates of an agent and, for a host, of its database.
func (s *Service) renewOne(ctx context.Context, cluster, server, host string) {
	log := s.log.With("cluster", cluster, "server", server)
	err := func() error {
		t, _, err := s.target(cluster, server)
		if err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(ctx, observeTimeout)
		defer cancel()
		defer s.agents.Forget(t) // the new one is seen once there is a new connection
		return s.agents.Renew(ctx, t, func(asked agentapi.Renewal) (signed agentapi.Renewal, err error) {
			own, err := s.Authority.SignRequest([]byte(asked.Request), t.Name())
			if err == nil {
				err = s.certified(ctx, cluster, server, own)
			}
			if err != nil || asked.DatabaseRequest == "" || host == "" {
				return agentapi.Renewal{Certificate: string(own)}, err
			}
			database, err := s.Authority.SignDatabase([]byte(asked.DatabaseRequest), host)
			return agentapi.Renewal{Certificate: string(own), DatabaseCertificate: string(database)}, err
		})
	}()
	if err != nil {
		log.Warn("an agent's certificate could not be renewed; it is tried again", "error", err)
		return
	}
	s.audit(ctx, "crosstwin", "", "certificate renewed", cluster, server)
}
