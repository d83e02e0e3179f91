package service

import (
	"context"
	"time"

	"crosstwin/internal/core/failover"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/words"
)

// comeBack is what is remembered of a server that may be brought back by itself. The lock
// of its cluster guards it.
type comeBack struct {
	since time.Time // when it was first seen apart from its cluster
	next  time.Time // when it is tried again
	why   string    // it was left to a person
	soon  bool      // it is brought back as soon as that may begin
	// refused counts the tries in a row that were.
	refused int
}

// staysApart is why a server is not brought back by itself, where that was tried; the lock
// of its cluster is held.
func (a *automatic) staysApart(server string) string {
	if b := a.apart[server]; b != nil {
		return b.why
	}
	return ""
}

// comesBack reports whether a server is brought back by itself soon; the lock of its cluster
// is held.
func (a *automatic) comesBack(server string) bool {
	b := a.apart[server]
	return b != nil && b.soon
}

// rejoinAgain is how long after a rejoin began the next one is tried, where it came to nothing.
const rejoinAgain = 5 * time.Minute

// bringBack has a server rejoin by itself that crashed or was fenced, where the policy
// says so. One operation at a time: the next look finds the next server.
func (s *Service) bringBack(ctx context.Context, c *watched) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now, v := time.Now(), c.latest.Load().View
	in := c.failoverInput(v, now)
	for i := range v.Servers {
		x := &v.Servers[i]
		if !failover.CameApart(&v, x) {
			delete(c.auto.apart, x.Name)
			continue
		}
		if c.auto.apart == nil {
			c.auto.apart = map[string]*comeBack{}
		}
		b := c.auto.apart[x.Name]
		if b == nil {
			b = &comeBack{since: now}
			c.auto.apart[x.Name] = b
		}
		d := failover.Rejoins(in, x, now.Sub(b.since))
		held := in.WaitsForPerson || v.Policy.Maintenance.On(now) || now.Before(v.Policy.Automatic.OffUntil)
		b.soon = d.Verdict == failover.Go || d.Verdict == failover.Wait && !held
		if d.Verdict != failover.Go || now.Before(b.next) || c.auto.rejoining {
			continue
		}
		c.auto.rejoining, b.next = true, now.Add(rejoinAgain)
		go func() {
			why := s.rejoin(ctx, c.name(), x.Name, d)
			c.mu.Lock()
			defer c.mu.Unlock()
			c.auto.rejoining, b.why = false, why
			if why != "" {
				b.refused++
				b.next = time.Now().Add(failover.RejoinAgain(b.refused))
				s.log.Warn("a server is not brought back by itself", "cluster", c.rec.Name, "server", x.Name, "why", why)
			}
		}()
	}
}

// rejoin begins a rejoin that was decided, or says why its plan is left to a person.
func (s *Service) rejoin(ctx context.Context, cluster, server string, d failover.Decision) string {
	p, err := s.preview(ctx, cluster, operation.Request{Kind: operation.Rejoin, Server: server}, false)
	if err != nil {
		return err.Error()
	}
	if reason, refused := p.Refused(); refused {
		return reason
	}
	c, err := s.cluster(cluster)
	if err != nil {
		return err.Error()
	}
	c.mu.Lock()
	v := c.latest.Load().View
	policy := c.rec.Policy.Automatic.Rejoin
	// The plan rests on a new look at every server: what was decided may be true no more.
	x, b := v.Find(server), c.auto.apart[server]
	again := x != nil && b != nil && failover.Rejoins(c.failoverInput(v, time.Now()), x,
		time.Since(b.since)).Verdict == failover.Go
	c.mu.Unlock()
	if !again {
		return "things are otherwise by now"
	}
	if why := failover.AcceptsRejoin(p, policy); why != "" {
		return why
	}
	p.Decided = decidedBy(d)
	s.log.Info("a server is brought back by itself", "cluster", cluster, "server", server, "why", p.Decided.Text)
	if _, err := s.start(ctx, p, byItself, ""); err != nil {
		return err.Error()
	}
	return ""
}

// decidedBy is a decision as it is kept with its operation.
func decidedBy(d failover.Decision) *operation.Decided {
	out := &operation.Decided{Why: d.Why, Text: words.Say(d.Why), Evidence: d.Evidence}
	for i := range out.Evidence {
		e := &out.Evidence[i]
		e.Text = words.Say(e.Seen)
	}
	return out
}
