package service

import (
	"context"
	"crypto/x509"
	"fmt"
	"slices"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/pki"
	"crosstwin/internal/store"
)

// certificates are those of agents that count, as the records have them. Whoever changes the
// records holds changing until both say the same; mu is for the map alone, so that nobody who
// asks waits for a disk.
//
// Invariant: of the certificates that were made for a server's name only the newest one that
// was seen counts, and those made since. A removed server's counts nowhere, not even once
// another server has its name. Records from an older backup do not know the newest: one that
// was made later than all they know is taken for it, because only the authority can have.
type certificates struct {
	changing, mu sync.Mutex
	of           map[agentOf][]store.Certificate // in the order in which they were recorded
	// changed is when those of a cluster did so last, or were read first: an agent that was away
	// while one came and went is told the same list as before, and has to learn of it.
	changed map[string]time.Time
}

type agentOf struct{ cluster, server string }

func (x *certificates) list(cluster, server string) []store.Certificate {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.of[agentOf{cluster, server}]
}

func (x *certificates) set(cluster, server string, list []store.Certificate) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.of[agentOf{cluster, server}] = list
	x.changed[cluster] = time.Now().UTC()
}

// setAll takes what the records say of one cluster; of all clusters for an empty name.
func (x *certificates) setAll(cluster string, of map[agentOf][]store.Certificate) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.changed == nil {
		x.changed = map[string]time.Time{}
	}
	for k, list := range x.of {
		if cluster != "" && k.cluster != cluster {
			of[k] = list
		}
	}
	same := func(a, b store.Certificate) bool { return a.Serial == b.Serial }
	for _, all := range []map[agentOf][]store.Certificate{x.of, of} {
		for k := range all {
			if !slices.EqualFunc(x.of[k], of[k], same) {
				x.changed[k.cluster] = time.Now().UTC()
			}
		}
	}
	x.of = of
}

// told is what agents are told of the named servers of a cluster; nil when those of one are not
// known: it was enrolled by an older version and has not been seen since.
func (x *certificates) told(cluster string, servers []string) *agentapi.Certificates {
	x.mu.Lock()
	defer x.mu.Unlock()
	out := &agentapi.Certificates{Changed: x.changed[cluster]}
	for _, s := range servers {
		list := x.of[agentOf{cluster, s}]
		if len(list) == 0 {
			return nil
		}
		for _, c := range list {
			out.Serials = append(out.Serials, c.Serial)
		}
	}
	if len(out.Serials) == 0 {
		return nil
	}
	return out
}

// certificateLimit is how long the records may take to note a certificate.
const certificateLimit = 5 * time.Second

// showsCertificate judges the certificate by which an agent answers the service.
func (s *Service) showsCertificate(t agentapi.Target, leaf *x509.Certificate) error {
	x, c := &s.certificates, certificateOf(t.Cluster, t.Server, leaf)
	if list := x.list(t.Cluster, t.Server); len(list) == 1 && list[0].Serial == c.Serial {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), certificateLimit)
	defer cancel()
	x.changing.Lock()
	defer x.changing.Unlock()
	list := x.list(t.Cluster, t.Server)
	at := slices.IndexFunc(list, func(have store.Certificate) bool { return have.Serial == c.Serial })
	switch last := len(list) - 1; {
	case at > 0 && at == last: // the newest: the others have served
		if err := s.Store.KeepCertificate(ctx, c); err != nil {
			return err
		}
		x.set(t.Cluster, t.Server, []store.Certificate{c})
	case at >= 0: // it counts as long as the newest was not seen
	case last >= 0 && c.MadeAt.Before(list[last].MadeAt):
		return fmt.Errorf("its certificate is not its newest one and does not count any more; start the agent that was "+
			"enrolled last, or enrol it again: crosstwin server code %s %s", t.Cluster, t.Server)
	default:
		return s.add(ctx, c)
	}
	return nil
}

// certified records a certificate that was just made, before it is handed over.
func (s *Service) certified(ctx context.Context, cluster, server string, text []byte) error {
	list, err := pki.ReadCertificates(text)
	if err != nil {
		return err
	}
	s.certificates.changing.Lock()
	defer s.certificates.changing.Unlock()
	return s.add(ctx, certificateOf(cluster, server, list[0]))
}

func certificateOf(cluster, server string, leaf *x509.Certificate) store.Certificate {
	return store.Certificate{Cluster: cluster, Server: server, Serial: pki.Serial(leaf), MadeAt: pki.MadeAt(leaf)}
}

// add records one more of a server's; changing is held.
func (s *Service) add(ctx context.Context, c store.Certificate) error {
	if err := s.Store.AddCertificate(ctx, c); err != nil {
		return err
	}
	x := &s.certificates
	x.set(c.Cluster, c.Server, append(slices.Clone(x.list(c.Cluster, c.Server)), c))
	return nil
}

func (s *Service) readCertificates(ctx context.Context, cluster string) error {
	x := &s.certificates
	x.changing.Lock()
	defer x.changing.Unlock()
	list, err := s.Store.Certificates(ctx, cluster)
	if err != nil {
		return err
	}
	of := map[agentOf][]store.Certificate{}
	for _, c := range list {
		k := agentOf{c.Cluster, c.Server}
		of[k] = append(of[k], c)
	}
	x.setAll(cluster, of)
	return nil
}

// knownCertificates are told to the agents of a cluster; c.mu is held. Nothing is told before
// each agent was asked once: the records may be older than what it shows.
func (s *Service) knownCertificates(c *watched) *agentapi.Certificates {
	var names []string
	for _, m := range c.everyone() {
		if m.rec.Agent == "" {
			continue // it has not enrolled
		}
		if m.last == nil && m.problem == "" {
			return nil
		}
		names = append(names, m.rec.Name)
	}
	return s.certificates.told(c.rec.Name, names)
}
