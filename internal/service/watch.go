package service

import (
	"cmp"
	"context"
	"slices"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
)

// watchAll begins one observation of every server that has none under way, and
// publishes every cluster as it stands.
func (s *Service) watchAll(ctx context.Context) {
	type job struct{ cluster, server string }
	var jobs []job
	s.mu.Lock()
	for name, c := range s.clusters {
		for _, m := range c.members {
			if m.rec.EnrolledAt != nil && !m.busy {
				m.busy = true
				jobs = append(jobs, job{name, m.rec.Name})
			}
		}
	}
	s.mu.Unlock()
	// The same order each second: a server's turn does not wander.
	slices.SortFunc(jobs, func(a, b job) int { return cmp.Or(cmp.Compare(a.cluster, b.cluster), cmp.Compare(a.server, b.server)) })
	for i, j := range jobs {
		go func() {
			sleep(ctx, turn(i, len(jobs)))
			s.observe(ctx, j.cluster, j.server, false)
			s.mu.Lock()
			defer s.mu.Unlock()
			if c := s.clusters[j.cluster]; c != nil {
				for _, m := range c.members {
					if m.rec.Name == j.server {
						m.busy = false
					}
				}
			}
		}()
	}
	views := s.Views()
	now := time.Now()
	s.record(ctx, views, now)
	s.raise(ctx, views, now)
	for _, v := range views {
		s.publishView(v)
	}
}

// turn gives each of many servers its own moment within the second, so that the
// work is even and nobody's question waits behind a thousand others. A few are
// asked at once: what they say then belongs to one moment.
func turn(i, of int) time.Duration {
	const few = 30
	if of <= few {
		return 0
	}
	return watchEvery * 9 / 10 * time.Duration(i) / time.Duration(of)
}

func sleep(ctx context.Context, d time.Duration) {
	if d == 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (s *Service) publishView(v view.View) {
	for i := range v.Servers {
		v.Servers[i].Observation = nil // too large for every second
	}
	s.Hub.publish("cluster", v.Cluster, v)
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
// agent knows that the records do not.
func (s *Service) take(ctx context.Context, name, server string, asked time.Time, o *observation.Server, failed error) {
	now := time.Now()
	s.mu.Lock()
	c := s.clusters[name]
	if c == nil {
		s.mu.Unlock()
		return
	}
	var first *member
	for _, m := range c.members {
		if m.rec.Name != server {
			continue
		}
		if failed != nil {
			m.problem = failed.Error()
			break
		}
		if m.last != nil && o.Settings == nil && o.SettingsProblem == "" {
			o.Settings, o.Facts = m.last.Settings, m.last.Facts
		}
		if m.last == nil || m.last.GTIDState != o.GTIDState {
			m.state = now
		}
		m.last, m.seenAt, m.askedAt, m.problem = o, now, asked, ""
		m.skew.add(o.At, asked, now)
		c.measure(m, now)
		first = m
	}
	var rec = c.rec
	busy := c.op != nil
	var id int64 // of a server that is seen with a database for the first time
	if first != nil && !o.DataEmpty && !first.rec.HeldData {
		id, first.rec.HeldData = first.rec.ID, true
	}
	s.mu.Unlock()
	if id != 0 {
		if err := s.Store.NoteHeldData(ctx, id); err != nil {
			s.log.Error("that a server holds data was not recorded", "cluster", name, "server", server, "error", err)
		}
	}
	if first != nil && !busy {
		s.settleTerm(ctx, rec.Name, rec.Term, rec.OwnerTerm, first, o)
	}
}

func (c *watched) measure(m *member, now time.Time) {
	o := m.last
	if m.rec.Name == c.rec.Owner && o.Role == observation.Primary {
		if pos, ok := position.Order(c.rec.Engine, o.Written); ok {
			if c.line != o.Line && o.Line.Number != c.line.Number {
				c.clock.Reset()
				c.line = o.Line
			}
			c.clock.Add(lag.Sample{At: now, Position: pos})
			c.written.add(now, pos)
			if bytes, ok := position.Bytes(c.rec.Engine, o.Written, o.LogFiles, o.WrittenAt); ok {
				c.writtenBytes.add(now, bytes)
			}
		}
		return
	}
	if at := o.Received + " " + o.ReceivedAt; at != m.received || m.receivedMoved.IsZero() {
		m.received, m.receivedMoved = at, now
	}
	var conflicts int64
	for _, n := range o.Conflicts {
		conflicts += n
	}
	m.conflicts.add(now, conflicts)
	if pos, ok := position.Order(c.rec.Engine, o.Applied); ok {
		m.applied.add(now, pos)
		if pos != m.at || m.moved.IsZero() {
			m.at, m.moved = pos, now
		}
	}
}

// settleTerm gives a cluster its first term when its first primary is seen,
// and takes over a newer term that an agent knows and the records do not (the
// records were put back from an older copy): terms never go back.
func (s *Service) settleTerm(ctx context.Context, cluster string, openTerm, ownerTerm int64, m *member, o *observation.Server) {
	var term int64
	g := o.Guard
	switch {
	case g.Owner && g.Accepted > ownerTerm:
		term = g.Accepted
		s.log.Warn("an agent owns a newer term than the records know: taking it over", "cluster", cluster, "server", m.rec.Name, "term", term)
	case ownerTerm == 0 && m.rec.FirstPrimary && o.Accepting && o.Role == observation.Primary:
		term = g.Noted + 1
		s.log.Info("first primary seen", "cluster", cluster, "server", m.rec.Name)
	case g.Noted > openTerm:
		// An act of a term that agents count as over would be refused.
		s.log.Warn("an agent noted a newer term than the records know: taking its number over", "cluster", cluster, "server", m.rec.Name, "term", g.Noted)
		if err := s.Store.OpenTerm(ctx, cluster, g.Noted); err != nil {
			s.log.Error("cannot open a term", "cluster", cluster, "error", err)
		}
		if err := s.reload(ctx); err != nil {
			s.log.Error("cannot read the records", "error", err)
		}
		return
	default:
		return
	}
	if err := s.Store.OpenTerm(ctx, cluster, term); err != nil {
		s.log.Error("cannot open a term", "cluster", cluster, "error", err)
		return
	}
	if err := s.Store.Decide(ctx, cluster, term, m.rec.Name); err != nil {
		s.log.Error("cannot decide a term", "cluster", cluster, "error", err)
		return
	}
	s.audit(ctx, "crosstwin", "", "term decided", cluster, m.rec.Name)
	if err := s.reload(ctx); err != nil {
		s.log.Error("cannot read the records", "error", err)
	}
}
