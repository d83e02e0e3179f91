package service

import (
	"context"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// watched is what the service remembers of a cluster between observations.
type watched struct {
	signed *guard.Signed // the newest decision, as it is told
	// latest is the newest assessment: all faces read it, without a lock.
	latest atomic.Pointer[Assessment]

	mu      sync.Mutex // guards all that follows
	rec     store.Cluster
	members []*member // its servers
	// referees are its agents without a database.
	referees []*member
	// gates are the addresses that applications connect to.
	gates []*member
	clock *lag.Clock
	line  position.Line // that the clock's positions are on
	// written is in the unit of the engine's positions, writtenBytes in bytes of
	// log.
	written, writtenBytes rate
	op                    *view.Running
	needsYou              *waiting
	guard                 guarding
	auto                  automatic
	mode                  keeping
}

type member struct {
	rec     store.Server
	last    *observation.Server
	seenAt  time.Time
	askedAt time.Time
	// claim is a term that its agent says this server owns, without a decision of this
	// service; 0: none.
	claim int64
	// unanswered is how many questions its agent has left without an answer (view.Member).
	unanswered int
	// renewNext is when its agent's certificate may be renewed.
	renewNext time.Time
	claimed   observation.Address // what its agent last said instead of its address
	// The positions of last were read between these two.
	lookedFrom, lookedTo time.Time
	before, missing      view.Missing // what the look before last found missing, and last itself
	state                time.Time    // since when last.GTIDState is as it is
	problem              string
	busy                 bool
	applied              rate
	moved                time.Time
	at                   int64
	// receivedMoved is when the received position last moved.
	receivedMoved time.Time
	received      string
	skew          skew
	conflicts     rate
	series        *history.Series
	// adrift is the cause when it was last judged so; the proof is under way.
	adrift cause.Cause
	proof  pendingProof
	// deposed: a failover took its role, and it has not become part of the cluster again.
	deposed bool
	// stopped is what was found in its data while it does not run.
	stopped stoppedData
}

func newWatched() *watched {
	return &watched{clock: lag.NewClock(clockSamples), written: newRate(shortSpan), writtenBytes: newRate(longSpan),
		guard: newGuarding()}
}

// cluster returns what is remembered of a cluster.
func (s *Service) cluster(name string) (*watched, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if c := s.clusters[name]; c != nil {
		return c, nil
	}
	return nil, NotFound("cluster", name)
}

// all returns all clusters, by name.
func (s *Service) all() []*watched {
	s.mu.RLock()
	defer s.mu.RUnlock()
	names := make([]string, 0, len(s.clusters))
	for n := range s.clusters {
		names = append(names, n)
	}
	slices.Sort(names)
	out := make([]*watched, len(names))
	for i, n := range names {
		out[i] = s.clusters[n]
	}
	return out
}

// reload takes over what the records say of one cluster, and judges it anew; for an empty
// name of every cluster. A cluster that they do not know any more is forgotten.
func (s *Service) reload(ctx context.Context, cluster string) error {
	s.reloading.Lock()
	defer s.reloading.Unlock()
	clusters, err := s.Store.Clusters(ctx, cluster)
	if err != nil {
		return err
	}
	servers, err := s.Store.Servers(ctx, cluster)
	if err != nil {
		return err
	}
	needed, err := s.Store.NeedYou(ctx, cluster)
	if err != nil {
		return err
	}
	members := map[string][]store.Server{}
	for _, rec := range servers {
		members[rec.Cluster] = append(members[rec.Cluster], rec)
	}
	s.mu.RLock()
	before := s.clusters
	s.mu.RUnlock()
	deposed, err := s.Store.Deposed(ctx, cluster)
	if err != nil {
		return err
	}
	next := map[string]*watched{}
	if cluster != "" {
		next = maps.Clone(before)
		delete(next, cluster)
	}
	for _, rec := range clusters {
		c := before[rec.Name]
		if c == nil || c.id() != rec.ID {
			c = newWatched()
		}
		var needsYou *waiting
		if o, found := needed[rec.Name]; found {
			needsYou = waitingOf(o)
		}
		c.take(rec, members[rec.Name], needsYou, deposed[rec.Name])
		next[rec.Name] = c
	}
	if err := s.readCertificates(ctx, cluster); err != nil {
		return err
	}
	s.mu.Lock()
	s.clusters = next
	s.mu.Unlock()
	for name := range before {
		if next[name] == nil {
			s.Hub.publish(EventRemoved, name, Removed{Cluster: name})
		}
	}
	return nil
}

func (c *watched) id() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rec.ID
}

// take takes over a cluster's records; what is known of a member that stays is
// kept.
func (c *watched) take(rec store.Cluster, members []store.Server, needsYou *waiting, deposed map[string]bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.rec.Owner != rec.Owner {
		c.clock.Reset()
	}
	c.rec, c.needsYou = rec, needsYou
	old := c.everyone()
	c.members, c.referees, c.gates = nil, nil, nil
	for _, sr := range members {
		m := &member{applied: newRate(shortSpan), conflicts: newRate(conflictSpan)}
		for _, o := range old {
			if o.rec.ID == sr.ID {
				m = o
			}
		}
		m.rec, m.deposed = sr, deposed[sr.Name]
		switch {
		case sr.Referee:
			c.referees = append(c.referees, m)
		case sr.Gate:
			c.gates = append(c.gates, m)
		default:
			c.members = append(c.members, m)
		}
	}
	c.assess(time.Now())
}

// quiet returns the newest assessment, and whether its owner takes writes and no
// operation is under way: then the service may ask for what nobody asked for; c.mu is
// held.
func (c *watched) quiet() (*Assessment, bool) {
	a, writes := c.writes()
	return a, c.op == nil && writes
}

// writes returns the newest assessment, and whether its owner takes writes; c.mu is held.
func (c *watched) writes() (*Assessment, bool) {
	a := c.latest.Load()
	owner := a.View.Find(c.rec.Owner)
	return a, owner != nil && owner.Health == view.TakesWrites
}

// input collects what a cluster is judged from; c.mu is held.
func (c *watched) input(now time.Time) view.Input {
	in := view.Input{Cluster: c.rec.Name, Engine: c.rec.Engine, Term: c.rec.Term,
		OwnerTerm: c.rec.OwnerTerm, KinTerm: c.rec.KinTerm,
		Owner: c.rec.Owner, Policy: c.rec.Policy, Promised: c.rec.Promised, Promises: c.rec.Promises,
		NoFailover: c.auto.refuse,
		Clock:      c.clock, WrittenRate: c.written.perSecond(now), WrittenBytesRate: c.writtenBytes.perSecond(now),
		Operation: c.op, NeedsYou: c.needsYou.running(), Now: now}
	for _, m := range c.members {
		in.Members = append(in.Members, view.Member{Member: m.rec.Member, Last: m.last, SeenAt: m.seenAt, AskedAt: m.askedAt,
			Unanswered: m.unanswered, Claim: m.claim, LookedAt: m.lookedFrom, Before: m.before, StateSince: m.state,
			Problem:   m.problem,
			WasAdrift: m.adrift, ProofProblem: m.proof.problem, Deposed: m.deposed, ComesBack: c.auto.comesBack(m.rec.Name),
			StaysApart:   c.auto.staysApart(m.rec.Name),
			Examined:     c.examined(m),
			AppliedSince: m.moved, AppliedRate: m.applied.perSecond(now), ReceivedSince: m.receivedMoved,
			ClockSkew: m.clockSkew(), ConflictsPerHour: m.conflicts.perSecond(now) * 3600})
	}
	for _, m := range c.referees {
		in.Referees = append(in.Referees, view.Member{Member: m.rec.Member, Last: m.last, SeenAt: m.seenAt,
			Problem: m.problem})
	}
	for _, m := range c.gates {
		in.Gates = append(in.Gates, view.Member{Member: m.rec.Member, Last: m.last, SeenAt: m.seenAt, Problem: m.problem})
	}
	return in
}

// member finds a server by name; c.mu is held.
func (c *watched) member(name string) *member {
	for _, m := range c.members {
		if m.rec.Name == name {
			return m
		}
	}
	return nil
}

// agents returns the members with a database and the referees; c.mu is held.
func (c *watched) agents() []*member { return slices.Concat(c.members, c.referees) }

// everyone returns those and the gates; c.mu is held.
func (c *watched) everyone() []*member { return slices.Concat(c.members, c.referees, c.gates) }

// named finds one of all these by name; c.mu is held.
func (c *watched) named(name string) *member {
	for _, m := range c.gates {
		if m.rec.Name == name {
			return m
		}
	}
	return c.agent(name)
}

// agent finds a member or a referee by name; c.mu is held.
func (c *watched) agent(name string) *member {
	for _, list := range [][]*member{c.members, c.referees} {
		for _, m := range list {
			if m.rec.Name == name {
				return m
			}
		}
	}
	return nil
}

// target returns where a server's agent is, and what it is told with each
// question.
func (s *Service) target(cluster, server string) (agentapi.Target, agentapi.ObserveRequest, error) {
	c, err := s.cluster(cluster)
	if err != nil {
		return agentapi.Target{}, agentapi.ObserveRequest{}, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	m := c.named(server)
	if m == nil {
		return agentapi.Target{}, agentapi.ObserveRequest{}, NotFound("server", server)
	}
	if m.rec.Gate {
		return targetOf(m.rec), agentapi.ObserveRequest{Orders: c.orders(), Decision: s.decision(c)}, nil
	}
	req := agentapi.ObserveRequest{Term: c.decided(server), Owner: c.rec.Owner == server, Reopen: c.mayReopen(m),
		Decision: s.decision(c), KeepTails: s.KeepTails.Seconds(), Guard: c.guardAsk(m),
		Promise: c.rec.Promises, Certificates: s.knownCertificates(c)}
	if v := c.latest.Load().View.Find(server); v != nil {
		req.Readers = &agentapi.Readers{Hidden: m.rec.Hidden, LagSeconds: v.Lag.Seconds,
			Known: v.Lag.Known && !v.Lag.AtLeast && (v.Health == view.InStep || v.Health == view.Behind)}
	}
	if o := c.member(c.rec.Owner); o != nil && o.last != nil {
		req.System = o.last.Data.System
	}
	return targetOf(m.rec), req, nil
}
