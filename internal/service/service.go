// Package service wires the long-running parts together: it watches every
// server through its agent, judges each cluster with core/view, makes plans
// with core/plan and has the runner carry them out. It never opens a database
// connection and holds no database password.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/pki"
	"crosstwin/internal/runner"
	"crosstwin/internal/store"
)

// watchEvery is the time between two observations of a server.
const watchEvery = time.Second

// observeTimeout bounds one observation. It leaves an agent time to say that its
// server has not answered within 3 s.
const observeTimeout = 5 * time.Second

// clockSamples is how many samples of a primary's position are remembered: an
// hour of a busy cluster.
const clockSamples = 3600

// Service is the running service.
type Service struct {
	Store     *store.Store
	Hub       *Hub
	Authority *pki.Authority
	// Keep says for how long samples are kept; AlertCommand is run with each
	// alert on its standard input. Both are set before Run.
	Keep         history.Keep
	AlertCommand string

	agents *agentapi.Caller
	log    *slog.Logger
	runner *runner.Runner
	alerts alert.Tracker // of the watching loop alone

	attempts attempts

	// reloading orders the readings of the records: an older one must not take
	// the place of a newer one.
	reloading sync.Mutex

	mu       sync.Mutex
	clusters map[string]*watched
	running  sync.WaitGroup
	ctx      context.Context
}

// watched is what the service remembers of a cluster between observations.
type watched struct {
	rec     store.Cluster
	members []*member
	clock   *lag.Clock
	line    position.Line // that the clock's positions are on
	// written is in units of position.Order, writtenBytes in bytes of log.
	written, writtenBytes rate
	op, needsYou          *view.Running
}

type member struct {
	rec     store.Server
	last    *observation.Server
	seenAt  time.Time
	askedAt time.Time
	state   time.Time // since when last.GTIDState is as it is
	problem string
	busy    bool
	applied rate
	moved   time.Time
	at      int64
	// receivedMoved is when the received position last moved.
	receivedMoved time.Time
	received      string
	skew          skew
	conflicts     rate
	series        *history.Series
}

// New makes a service on its records. killpoint is nil but in tests.
func New(st *store.Store, authority *pki.Authority, log *slog.Logger, killpoint func(kind, step, where string)) (*Service, error) {
	pair, err := authority.Pair(pki.ServiceName)
	if err != nil {
		return nil, err
	}
	s := &Service{Store: st, Hub: newHub(), Authority: authority, log: log, clusters: map[string]*watched{}, ctx: context.Background(), Keep: history.DefaultKeep()}
	s.agents = agentapi.NewCaller(tls.Certificate(pair), authority.Pool())
	s.runner = &runner.Runner{Journal: st, Servers: servers{s}, Local: s.localVerbs(), Log: log, Changed: s.operationChanged, Killpoint: killpoint}
	return s, s.reload(context.Background())
}

// Run watches and carries out operations until ctx ends. Operations that an
// earlier process left are taken up first.
func (s *Service) Run(ctx context.Context) error {
	s.ctx = ctx
	ids, err := s.Store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		op, err := s.Store.Operation(ctx, id)
		if err != nil {
			return err
		}
		s.log.Info("taking up an operation that was under way", "operation", id, "kind", op.Kind, "cluster", op.Cluster)
		s.carryOut(id, op.Cluster, op.Kind, true)
	}
	if err := s.restoreAlerts(ctx); err != nil {
		return err
	}
	s.running.Add(1)
	go func() {
		defer s.running.Done()
		s.deliver(ctx)
	}()
	t := time.NewTicker(watchEvery)
	defer t.Stop()
	var forgot time.Time
	for {
		s.watchAll(ctx)
		if now := time.Now(); now.Sub(forgot) > forgetEvery {
			forgot = now
			if err := s.Store.Forget(ctx, s.Keep, now); err != nil && ctx.Err() == nil {
				s.log.Error("old records cannot be removed", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			s.running.Wait()
			s.saveAll()
			return nil
		case <-t.C:
		}
	}
}

// reload takes over the membership from the records.
func (s *Service) reload(ctx context.Context) error {
	s.reloading.Lock()
	defer s.reloading.Unlock()
	clusters, err := s.Store.Clusters(ctx)
	if err != nil {
		return err
	}
	all, err := s.Store.Servers(ctx, "")
	if err != nil {
		return err
	}
	needed, err := s.Store.NeedYou(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	next := map[string]*watched{}
	for _, rec := range clusters {
		c := s.clusters[rec.Name]
		if c == nil {
			c = &watched{clock: lag.NewClock(clockSamples), written: newRate(shortSpan), writtenBytes: newRate(longSpan)}
		}
		c.needsYou = nil
		if o, found := needed[rec.Name]; found {
			c.needsYou = &view.Running{ID: o.ID, Kind: o.Kind}
		}
		if c.rec.Owner != rec.Owner {
			c.clock.Reset()
		}
		c.rec = rec
		old := c.members
		c.members = nil
		for _, sr := range all {
			if sr.Cluster != rec.Name {
				continue
			}
			m := &member{applied: newRate(shortSpan), conflicts: newRate(conflictSpan)}
			for _, o := range old {
				if o.rec.ID == sr.ID {
					m = o
				}
			}
			m.rec = sr
			c.members = append(c.members, m)
		}
		next[rec.Name] = c
	}
	for name := range s.clusters {
		if next[name] == nil {
			s.Hub.publish("removed", name, map[string]string{"cluster": name})
		}
	}
	s.clusters = next
	return nil
}

func (s *Service) target(cluster, server string) (agentapi.Target, agentapi.ObserveRequest, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.clusters[cluster]
	if c == nil {
		return agentapi.Target{}, agentapi.ObserveRequest{}, NotFound("cluster", cluster)
	}
	for _, m := range c.members {
		if m.rec.Name == server {
			return agentapi.Target{Cluster: cluster, Server: server, Address: m.rec.Agent}, agentapi.ObserveRequest{Term: c.rec.OwnerTerm, Owner: c.rec.Owner == server}, nil
		}
	}
	return agentapi.Target{}, agentapi.ObserveRequest{}, NotFound("server", server)
}

// servers is the runner's way to the agents.
type servers struct{ s *Service }

func (x servers) Observe(ctx context.Context, cluster, server string) (*observation.Server, error) {
	return x.s.observe(ctx, cluster, server, false)
}

func (x servers) Do(ctx context.Context, cluster, server, name string, r verb.Request) (agentapi.Answer, error) {
	t, _, err := x.s.target(cluster, server)
	if err != nil {
		return agentapi.Answer{}, err
	}
	return x.s.agents.Do(ctx, t, name, r)
}

func (x servers) StopJob(ctx context.Context, cluster, server, key string) error {
	t, _, err := x.s.target(cluster, server)
	if err != nil {
		return err
	}
	return x.s.agents.StopJob(ctx, t, key)
}

// Views gives all clusters as judged now, by name.
func (s *Service) Views() []view.View {
	s.mu.Lock()
	names := make([]string, 0, len(s.clusters))
	for n := range s.clusters {
		names = append(names, n)
	}
	s.mu.Unlock()
	out := []view.View{}
	for _, n := range names {
		if v, err := s.View(n); err == nil {
			out = append(out, v)
		}
	}
	return out
}

// View judges one cluster now.
func (s *Service) View(name string) (view.View, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.clusters[name]
	if c == nil {
		return view.View{}, NotFound("cluster", name)
	}
	return view.Assess(c.input(time.Now())), nil
}

func (c *watched) input(now time.Time) view.Input {
	in := view.Input{Cluster: c.rec.Name, Engine: c.rec.Engine, Term: c.rec.Term, OwnerTerm: c.rec.OwnerTerm, Owner: c.rec.Owner, Policy: c.rec.Policy,
		Clock: c.clock, WrittenRate: c.written.perSecond(now), WrittenBytesRate: c.writtenBytes.perSecond(now), Operation: c.op, NeedsYou: c.needsYou, Now: now}
	for _, m := range c.members {
		in.Members = append(in.Members, view.Member{Name: m.rec.Name, Rank: m.rec.Rank, Site: m.rec.Site, Hidden: m.rec.Hidden, Agent: m.rec.Agent, Enrolled: m.rec.EnrolledAt != nil, HeldData: m.rec.HeldData,
			Last: m.last, SeenAt: m.seenAt, AskedAt: m.askedAt, StateSince: m.state, Problem: m.problem, AppliedSince: m.moved, AppliedRate: m.applied.perSecond(now),
			ReceivedSince: m.receivedMoved, ClockSkew: m.clockSkew(), ConflictsPerHour: m.conflicts.perSecond(now) * 3600})
	}
	return in
}

// Ready tells whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.Store.Ping(ctx) }

// NotFoundError says that a name is unknown.
type NotFoundError struct{ Kind, Name string }

func (e NotFoundError) Error() string { return fmt.Sprintf("there is no %s %q", e.Kind, e.Name) }

// NotFound makes a NotFoundError.
func NotFound(kind, name string) error { return NotFoundError{kind, name} }

// InputError says that a request makes no sense as it is.
type InputError struct{ Err error }

func (e InputError) Error() string { return e.Err.Error() }

// Unwrap gives the reason.
func (e InputError) Unwrap() error { return e.Err }

func badInput(format string, args ...any) error { return InputError{fmt.Errorf(format, args...)} }

func orNotFound(err error, kind, name string) error {
	if errors.Is(err, store.ErrNotFound) {
		return NotFound(kind, name)
	}
	return err
}
