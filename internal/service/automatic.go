package service

import (
	"context"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/failover"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// automatic is what a decision about a failover is made from, beyond what is seen now. The
// lock of its cluster guards it.
type automatic struct {
	goodAt time.Time // when the primary was last seen to take writes
	atRisk view.AtRisk
	last   time.Time // when the newest failover began by itself
	known  bool      // last was read from the records
	tried  time.Time // when one began that came to nothing
	// started is when the primary was last started again by itself, or could not be.
	started time.Time
	busy    bool
	refuse  cause.Cause // why none begins now
	// apart are the servers that may be brought back by themselves.
	apart     map[string]*comeBack
	rejoining bool // a plan for one is being made
	// watching: its process is being watched for its end.
	watching bool
}

// tryAgain is how long after a failover was begun that came to nothing the next one is.
const tryAgain = 15 * time.Second

// byItself is who asks for an operation that no person asked for.
const byItself = "crosstwin"

// consider decides whether a failover begins by itself, and begins it. It is asked with
// every look: what was refused begins as soon as it may.
func (s *Service) consider(ctx context.Context, c *watched) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	a := c.latest.Load()
	if p := a.View.Find(a.View.Primary); c.auto.goodAt.IsZero() {
		c.auto.goodAt, c.auto.atRisk = now, a.View.AtRisk
	} else if m := c.member(a.View.Primary); p != nil && p.Health == view.TakesWrites && m != nil {
		c.auto.goodAt, c.auto.atRisk = m.askedAt, a.View.AtRisk // it may have changed since
	}
	if !c.rec.Policy.Automatic.On {
		c.auto.refuse = cause.Cause{}
		return
	}
	if c.auto.busy || now.Sub(c.auto.tried) < tryAgain || c.op == nil && !c.auto.known && !s.lastByItself(ctx, c) {
		return
	}
	d := failover.Decide(c.failoverInput(a.View, now))
	if d.Verdict != failover.Go { // why a plan was refused is said until another one is made
		c.auto.refuse = cause.Cause{}
	}
	switch d.Verdict {
	case failover.Refuse:
		c.auto.refuse = d.Why
	case failover.Go:
		c.auto.busy = true
		go func() {
			why := s.failOver(ctx, c.name(), d)
			c.mu.Lock()
			defer c.mu.Unlock()
			c.auto.busy = false
			if c.auto.refuse = why; why.IsZero() {
				c.auto.known = false // how it ends, the records will say
			} else if d.To != "" {
				c.auto.started = time.Now() // another server takes over then
			}
		}()
	}
}

// failoverInput is what a decision is made from; c.mu is held.
func (c *watched) failoverInput(v view.View, now time.Time) failover.Input {
	a, quiet := &c.auto, time.Duration(c.rec.Policy.Automatic.QuietSeconds*float64(time.Second))
	return failover.Input{View: v, Now: now, Down: now.Sub(a.goodAt), Last: a.last, AtRisk: a.atRisk,
		StartedAgain:   !a.started.IsZero() && (a.started.After(a.goodAt) || now.Sub(a.started) < quiet),
		StartFailed:    c.needsYou != nil && c.needsYou.startAgain,
		WaitsForPerson: c.needsYou != nil && !c.needsYou.startAgain}
}

// exitLimit is a little longer than an agent waits for an exit: one that is cut off says
// nothing any more, and by then another server may be the primary.
const exitLimit = 30 * time.Second

// watchExit has the primary's agent say at once when its database's process ends.
func (s *Service) watchExit(ctx context.Context, c *watched) {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, writes := c.writes()
	m := c.member(c.rec.Owner)
	if !c.rec.Policy.Automatic.On || !writes || c.auto.watching || m == nil {
		return
	}
	c.auto.watching = true
	t := agentapi.Target{Cluster: c.rec.Name, Server: m.rec.Name, Address: m.rec.Agent}
	go func() {
		limited, cancel := context.WithTimeout(ctx, exitLimit)
		defer cancel()
		if ended, err := s.agents.AwaitExit(limited, t); err == nil && ended {
			s.observe(ctx, t.Cluster, t.Server, false)
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.auto.watching = false
	}()
}

// lastByItself reads when the newest failover began by itself; c.mu is held.
func (s *Service) lastByItself(ctx context.Context, c *watched) bool {
	list, err := s.Store.Operations(ctx, c.rec.Name, "", string(operation.Failover), 20)
	if err != nil {
		s.log.Error("cannot read the records", "error", err)
		return false
	}
	c.auto.known = true
newest:
	for _, op := range list {
		switch {
		case op.Plan.Decided == nil || op.Outcome == operation.OutcomeRefused || op.CreatedAt.Before(c.rec.CreatedAt):
			continue
		case op.Plan.StartsAgain():
			if op.CreatedAt.After(c.auto.started) {
				c.auto.started = op.CreatedAt
			}
			continue
		case op.Outcome == operation.OutcomeUndone:
			if op.CreatedAt.After(c.auto.tried) {
				c.auto.tried = op.CreatedAt
			}
			continue
		}
		c.auto.last = op.CreatedAt
		break newest
	}
	return true
}

// failOver begins a failover that was decided, or says why its plan cannot be carried out.
func (s *Service) failOver(ctx context.Context, cluster string, d failover.Decision) cause.Cause {
	c, err := s.cluster(cluster)
	if err != nil {
		return cause.Cause{Code: cause.FailoverPlan, Text: err.Error()}
	}
	req := operation.Request{Kind: operation.Failover, To: d.To}
	if d.To != "" {
		c.mu.Lock()
		req.StartSeconds = c.rec.Policy.Automatic.StartSeconds
		c.mu.Unlock()
	}
	p, err := s.preview(ctx, cluster, req, true)
	if err != nil {
		return cause.Cause{Code: cause.FailoverPlan, Text: err.Error()}
	}
	if reason, refused := p.Refused(); refused {
		return cause.Cause{Code: cause.FailoverPlan, Text: reason}
	}
	c.mu.Lock()
	policy, atRisk, lastGood := c.rec.Policy.Automatic, c.auto.atRisk, c.auto.goodAt
	// The plan rests on a new look at every server: what was decided may be true no more.
	again := failover.Decide(c.failoverInput(c.latest.Load().View, time.Now()))
	c.mu.Unlock()
	if again.Verdict != failover.Go || again.To != d.To {
		return again.Why
	}
	if !failover.Accepts(p, policy, atRisk) {
		return cause.Cause{Code: cause.FailoverPlan, Text: "more would be lost than is accepted: " + p.Destroys}
	}
	p.Decided = decidedBy(d)
	p.Decided.LastGood = lastGood.UTC()
	s.log.Warn("a failover begins by itself", "cluster", cluster, "why", p.Decided.Text)
	if _, err := s.start(ctx, p, byItself, ""); err != nil {
		s.log.Error("a failover could not be begun", "cluster", cluster, "error", err)
		return cause.Cause{Code: cause.FailoverPlan, Text: err.Error()}
	}
	return cause.Cause{}
}
