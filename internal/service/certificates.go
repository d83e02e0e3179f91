package service

import (
	"context"
	"crypto/x509"
	"fmt"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
	"crosstwin/internal/store"
)

// certificates are those of agents that count, as the records have them.
//
// Invariant: of the certificates that were made for a server's name only the newest one that
// was seen counts, and those made since. A removed server's counts nowhere, not even once
// another server has its name. Records from an older backup do not know the newest: one that
// was made later than all they know is taken for it, because only the authority can have.
type certificates struct {
	mu sync.Mutex
	of map[agentOf][]store.Certificate // in the order in which they were recorded
}

type agentOf struct{ cluster, server string }

func (x *certificates) take(list []store.Certificate) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.of = map[agentOf][]store.Certificate{}
	for _, c := range list {
		k := agentOf{c.Cluster, c.Server}
		x.of[k] = append(x.of[k], c)
	}
}

func (x *certificates) add(c store.Certificate) {
	x.mu.Lock()
	defer x.mu.Unlock()
	k := agentOf{c.Cluster, c.Server}
	x.of[k] = append(x.of[k], c)
}

func (x *certificates) keep(c store.Certificate) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.of[agentOf{c.Cluster, c.Server}] = []store.Certificate{c}
}

// serials returns those of the named servers of a cluster; none when those of one are not
// known: it was enrolled by an older version and has not been seen since.
func (x *certificates) serials(cluster string, servers []string) (out []string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, s := range servers {
		list := x.of[agentOf{cluster, s}]
		if len(list) == 0 {
			return nil
		}
		for _, c := range list {
			out = append(out, c.Serial)
		}
	}
	return out
}

// standing is what a certificate that an agent shows is.
type standing int

const (
	known     standing = iota // one of those that count
	newest                    // the newest of several: the others have served
	later                     // not in the records, and made after all that are
	withdrawn                 // not in the records, and older
)

func (x *certificates) standing(c store.Certificate) standing {
	x.mu.Lock()
	defer x.mu.Unlock()
	list := x.of[agentOf{c.Cluster, c.Server}]
	for i, have := range list {
		switch {
		case have.Serial != c.Serial:
		case i > 0 && i == len(list)-1:
			return newest
		default:
			return known
		}
	}
	if len(list) > 0 && c.MadeAt.Before(list[len(list)-1].MadeAt) {
		return withdrawn
	}
	return later
}

// certificateLimit is how long the records may take to note a certificate.
const certificateLimit = 5 * time.Second

// showsCertificate judges the certificate by which an agent answers the service.
func (s *Service) showsCertificate(t agentapi.Target, leaf *x509.Certificate) error {
	ctx, cancel := context.WithTimeout(context.Background(), certificateLimit)
	defer cancel()
	c := store.Certificate{Cluster: t.Cluster, Server: t.Server, Serial: pki.Serial(leaf), MadeAt: leaf.NotBefore}
	switch s.certificates.standing(c) {
	case withdrawn:
		return fmt.Errorf("its certificate is not its newest one and does not count any more; start the agent that was "+
			"enrolled last, or enrol it again: crosstwin server code %s %s", t.Cluster, t.Server)
	case later:
		return s.addCertificate(ctx, c)
	case newest:
		if err := s.Store.KeepCertificate(ctx, c); err != nil {
			return err
		}
		s.certificates.keep(c)
	}
	return nil
}

// certified records a certificate that was just made, before it is handed over.
func (s *Service) certified(ctx context.Context, cluster, server string, text []byte) error {
	list, err := pki.ReadCertificates(text)
	if err != nil {
		return err
	}
	return s.addCertificate(ctx, store.Certificate{Cluster: cluster, Server: server, Serial: pki.Serial(list[0]),
		MadeAt: list[0].NotBefore})
}

func (s *Service) addCertificate(ctx context.Context, c store.Certificate) error {
	if err := s.Store.AddCertificate(ctx, c); err != nil {
		return err
	}
	s.certificates.add(c)
	return nil
}

func (s *Service) readCertificates(ctx context.Context) error {
	list, err := s.Store.Certificates(ctx)
	if err != nil {
		return err
	}
	s.certificates.take(list)
	return nil
}

// serials are told to the agents of a cluster; c.mu is held. Nothing is told before each
// agent was asked once: the records may be older than what it shows.
func (s *Service) serials(c *watched) []string {
	var names []string
	for _, m := range c.agents() {
		if m.rec.Agent == "" {
			continue // it has not enrolled
		}
		if m.last == nil && m.problem == "" {
			return nil
		}
		names = append(names, m.rec.Name)
	}
	return s.certificates.serials(c.rec.Name, names)
}
