package service

import (
	"context"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// watchAll begins one observation of every server that has none under way, and
// has every cluster recorded, told and published as it was judged last. It does not wait
// for the servers.
func (s *Service) watchAll(ctx context.Context) {
	clusters, now := s.all(), time.Now()
	go s.lookAll(ctx, due(clusters), now)
	for _, c := range clusters {
		if now.Sub(c.latest.Load().View.At) > watchEvery {
			c.assessNow() // nothing came in: silence counts as well
		}
		s.fenceNew(ctx, c)
		s.uphold(ctx, c)
		s.keepMode(ctx, c)
		s.consider(ctx, c)
		s.bringBack(ctx, c)
		s.watchExit(ctx, c)
		s.prove(ctx, c, now)
		s.examineStopped(ctx, c, now)
		s.renew(ctx, c, now)
		s.lookAgain(ctx, c, now)
	}
	s.exchangeAuthority(ctx)
	s.record(ctx, clusters, now)
	s.raise(ctx, s.Assessments(), now)
	go s.publishAll(ctx, clusters, now)
}

// look is one server that is to be looked at.
type look struct {
	c      *watched
	server string
}

// due returns the servers of which no observation is under way, always in the same order: a
// server's turn does not wander.
func due(clusters []*watched) (looks []look) {
	for _, c := range clusters {
		c.mu.Lock()
		for _, m := range c.everyone() {
			if m.rec.Enrolled && !m.busy {
				m.busy = true
				looks = append(looks, look{c, m.rec.Name})
			}
		}
		c.mu.Unlock()
	}
	return looks
}

// lookAll looks at each server in its turn.
func (s *Service) lookAll(ctx context.Context, looks []look, from time.Time) {
	for i, l := range looks {
		sleep(ctx, time.Until(from.Add(turn(i, len(looks)))))
		s.lookers.run(ctx, func() {
			s.observe(ctx, l.c.name(), l.server, false)
			l.c.mu.Lock()
			defer l.c.mu.Unlock()
			if m := l.c.named(l.server); m != nil {
				m.busy = false
			}
		})
	}
}

// publishAll has each cluster published in its turn: a console draws some at a time, not
// hundreds at once.
func (s *Service) publishAll(ctx context.Context, clusters []*watched, from time.Time) {
	for i, c := range clusters {
		sleep(ctx, time.Until(from.Add(turn(i, len(clusters)))))
		s.publishView(c, c.latest.Load())
	}
}

func (c *watched) name() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rec.Name
}

// turnStep: turns that are nearer to each other than this are one.
const turnStep = 10 * time.Millisecond

// turn returns each of many servers its own moment within the second, so that the
// work is even and nobody's question waits behind a thousand others. A few are
// asked at once: what they say then belongs to one moment.
func turn(i, of int) time.Duration {
	const few = 30
	if of <= few {
		return 0
	}
	return (watchEvery * 9 / 10 * time.Duration(i) / time.Duration(of)).Truncate(turnStep)
}

func sleep(ctx context.Context, d time.Duration) {
	if d <= 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// publishView puts a cluster on the stream, unless it was removed: that has been said then,
// or will be.
func (s *Service) publishView(c *watched, a *Assessment) {
	data, err := a.Shown()
	if err != nil {
		s.log.Error("a cluster cannot be shown", "cluster", a.View.Cluster, "error", err)
		return
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.clusters[a.View.Cluster] == c {
		s.Hub.send(EventCluster, a.View.Cluster, data)
	}
}

// observe asks one agent and takes its answer into the cluster's memory.
func (s *Service) observe(ctx context.Context, cluster, server string, thorough bool) (*observation.Server, error) {
	t, req, err := s.target(cluster, server)
	if err != nil {
		return nil, err
	}
	req.Thorough = thorough
	timeout := observeTimeout
	if thorough {
		timeout = agentapi.ThoroughTimeout + observeTimeout
	}
	octx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	asked := time.Now()
	o, err := s.agents.Observe(octx, t, req)
	if ctx.Err() != nil && err != nil {
		return nil, err
	}
	s.take(ctx, cluster, server, asked, o, err)
	return o, err
}

// take files an observation: positions into the lag clock, rates, and what an
// agent knows that the records do not. It ends in one assessment of the cluster.
func (s *Service) take(ctx context.Context, name, server string, asked time.Time, o *observation.Server, failed error) {
	c, err := s.cluster(name)
	if err != nil {
		return
	}
	now := time.Now()
	c.mu.Lock()
	m := c.named(server)
	if m == nil {
		c.mu.Unlock()
		return
	}
	if failed != nil {
		m.problem = failed.Error()
		c.assess(now)
		c.mu.Unlock()
		return
	}
	if m.rec.Gate {
		m.file(o, asked, now)
		c.assess(now)
		c.mu.Unlock()
		return
	}
	unknown := !m.rec.Referee && s.fixAddress(m, o)
	m.file(o, asked, now)
	if !m.rec.Referee {
		c.measure(m, now)
	}
	first := !o.Data.Empty && !m.rec.HeldData // seen with a database for the first time
	m.rec.HeldData = m.rec.HeldData || first
	m.claim = s.claimOf(c.rec, m.rec, o)
	if p := o.Permission; p != nil && p.Answer != nil {
		c.hear(*p.Answer)
		p.Answer = nil // it was for the machine alone
	}
	rec, server_, busy := c.rec, m.rec, c.op != nil
	older := o.Promise > rec.Promises && guard.Believable(o.Promise, rec.Promises)
	c.assess(now)
	c.mu.Unlock()
	if unknown {
		if err := s.Store.NoteAddress(ctx, server_.ID, server_.Host, server_.Port); err != nil {
			s.log.Error("could not record where the server is reached", "cluster", name, "server", server, "error", err)
		}
	}
	if older {
		s.olderPromise(ctx, name, server, o.Promise)
	}
	if first {
		if err := s.Store.NoteHeldData(ctx, server_.ID); err != nil {
			s.log.Error("could not record that the server holds data", "cluster", name, "server", server, "error", err)
		}
	}
	if !busy {
		s.settleTerm(ctx, rec, server_, o)
		if rec.Policy.Automatic.On {
			s.consider(ctx, c) // not only with the next second
		}
	}
}

// fixAddress holds a server's address to the one of its enrolment (invariant: what an
// agent says later of its address reaches no other server). An enrolment of before
// that was kept has its first address noted; unknown reports that.
func (s *Service) fixAddress(m *member, o *observation.Server) (unknown bool) {
	said := &o.Host.Address
	switch {
	case m.rec.Host != "":
		if said.Host != m.rec.Host || said.Port != m.rec.Port {
			if m.last == nil || m.claimed != *said {
				s.log.Warn("an agent gives another address than at its enrolment: it counts for nothing", "server", m.rec.Name,
					"said", *said, "enrolled", m.rec.Host)
			}
			m.claimed = *said
			said.Host, said.Port = m.rec.Host, m.rec.Port
		}
	case cluster.CheckHost(said.Host) == nil && said.Port > 0:
		m.rec.Host, m.rec.Port = said.Host, said.Port
		return true
	default:
		*said = observation.Address{}
	}
	return false
}

// file keeps an observation. What only a thorough one collects stays from the
// last one that did.
func (m *member) file(o *observation.Server, asked, now time.Time) {
	if m.last != nil && o.Config.Settings == nil && o.Config.Problem == "" {
		last := m.last.Config
		o.Config.Settings, o.Config.Facts, o.Config.AtNextStart = last.Settings, last.Facts, last.AtNextStart
	}
	if m.last == nil || m.last.Log.GTIDState != o.Log.GTIDState {
		m.state = now
	}
	m.last, m.seenAt, m.askedAt, m.problem = o, now, asked, ""
	m.before = m.missing
	m.lookedFrom, m.lookedTo = o.Looked.Between(asked, now)
	if o.Process.Running {
		m.stopped = stoppedData{busy: m.stopped.busy}
	}
	m.skew.add(o.At, asked, now)
}

func (c *watched) measure(m *member, now time.Time) {
	o := m.last
	if m.rec.Name == c.rec.Owner && o.Process.Role == observation.Primary {
		if pos, ok := position.Order(c.rec.Engine, o.Log.Written); ok {
			if c.line != o.Log.Line && o.Log.Line.Number != c.line.Number {
				c.clock.Reset()
				c.line = o.Log.Line
			}
			c.clock.Add(lag.Sample{At: m.lookedTo, Position: pos})
			c.written.add(now, pos)
			if bytes, ok := position.LogBytes(c.rec.Engine, o.Log.Written, o.Log.Files, o.Log.WrittenAt); ok {
				c.writtenBytes.add(now, bytes)
			}
		}
		return
	}
	if at := o.Log.Received + " " + o.Log.ReceivedAt; at != m.received || m.receivedMoved.IsZero() {
		m.received, m.receivedMoved = at, now
	}
	var conflicts int64
	for _, n := range o.Replay.Conflicts {
		conflicts += n
	}
	m.conflicts.add(now, conflicts)
	if pos, ok := position.Order(c.rec.Engine, o.Log.Applied); ok {
		m.applied.add(now, pos)
		if pos != m.at || m.moved.IsZero() {
			m.at, m.moved = pos, now
		}
	}
}
