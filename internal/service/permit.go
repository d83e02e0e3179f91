package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
)

// A server is opened for writes under fencing only when no other one can have a
// permission any more, and its own agent has one (invariant I1).

// opensForWrites reports whether a call needs a permission to write first.
func (s *Service) opensForWrites(cluster string, call verb.Call) bool {
	opens := false
	switch v := call.(type) {
	case verb.Promote:
		opens = true
	case verb.Start:
		opens = v.As == observation.Primary
	}
	c, err := s.cluster(cluster)
	if !opens || err != nil {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rec.Policy.Fencing
}

// permit gives a server the permission to write in a term, once nobody else can.
func (s *Service) permit(ctx context.Context, cluster, server string, term int64) error {
	c, err := s.cluster(cluster)
	if err != nil {
		return err
	}
	for {
		why, err := s.tryPermit(ctx, c, server, term)
		if err != nil || why == "" {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s gets no permission to write in term %d: %s", server, term, why)
		case <-time.After(permitEvery):
		}
	}
}

const permitEvery = 20 * time.Millisecond

// freshAnswer is how old an agent's answer may be for a promotion to carry its nonce.
const freshAnswer = time.Second

// tryPermit does what can be done now for a server's permission, and says what it still
// waits for.
func (s *Service) tryPermit(ctx context.Context, c *watched, server string, term int64) (why string, err error) {
	s.quieten(ctx, c, server)
	c.mu.Lock()
	m := c.permissions()
	if m.Decided != (guard.Decided{Term: term, Owner: server}) {
		defer c.mu.Unlock()
		return "", fmt.Errorf("term %d of %s is not %s's, or not the newest", term, c.rec.Name, server)
	}
	a, at, heard := m.Heard(server)
	if heard && a.State.Owner && a.State.Accepted == term {
		c.mu.Unlock()
		return "", nil
	}
	stale := !heard || clock.Now()-at > freshAnswer || a.State.Noted != term
	c.mu.Unlock()
	if stale {
		if err := s.ask(ctx, c, server); err != nil {
			return err.Error(), nil
		}
	}
	c.mu.Lock()
	next, do, not, other := c.permissions().Promote(clock.Now())
	c.guard.machine = next
	t := agentapi.Target{Cluster: c.rec.Name, Server: server, Address: c.member(server).rec.Agent}
	q := agentapi.GuardPromote{Decision: s.decision(c)}
	why = c.notYet(not, other)
	c.mu.Unlock()
	if why != "" {
		if not == guard.TooFewNoted || not == guard.NotSettled {
			s.askAll(ctx, c)
		}
		return why, nil
	}
	q.Promote = do[0].(guard.Send).Message.(guard.Promote)
	answer, err := s.agents.PromotePermission(ctx, t, q)
	if err != nil {
		return err.Error(), nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.hear(answer)
	switch {
	case answer.State.Owner && answer.State.Accepted == term:
		return "", nil
	case answer.Pledged > 0:
		return fmt.Sprintf("it promised another server %s ago not to become primary, and that holds for %s more",
			words.Span((guard.PledgeWait - answer.Pledged).Seconds()), words.Span(answer.Pledged.Seconds())), nil
	}
	return "its agent does not obey: it was started a few seconds ago, or a newer term was opened", nil
}

// notYet says what a promotion waits for; c.mu is held.
func (c *watched) notYet(not guard.NotYet, other string) string {
	switch not {
	case guard.Now:
		return ""
	case guard.MayStillWrite:
		left := (c.guard.machine.Until[other] - clock.Now()).Seconds()
		return fmt.Sprintf("%s may still write for up to %s, and has not proven that it stopped", other,
			words.Span(max(0, left)))
	case guard.NotHeard:
		return other + "'s agent has not noted the term"
	case guard.OwnerUnknown:
		return "who owns the newest term is not known"
	}
	return "too few agents of " + c.rec.Name + " answer: a majority has to have noted the term"
}

// quieten has every other server that may still have a permission stand down and prove
// it, where its agent answers.
func (s *Service) quieten(ctx context.Context, c *watched, but string) {
	type job struct {
		t agentapi.Target
		q guard.StandDown
	}
	var jobs []job
	c.mu.Lock()
	m := c.permissions()
	now := clock.Now()
	for _, x := range m.Members {
		_, at, heard := m.Heard(x.Name)
		if x.Name == but || x.Referee || now >= m.Until[x.Name] || m.Proven(x.Name) || !heard || now-at > askLimit {
			continue
		}
		next, do := m.StandDown(x.Name, false)
		c.guard.machine = next
		for _, e := range do {
			jobs = append(jobs, job{agentapi.Target{Cluster: c.rec.Name, Server: x.Name, Address: c.member(x.Name).rec.Agent},
				e.(guard.Send).Message.(guard.StandDown)})
		}
	}
	c.mu.Unlock()
	var wg sync.WaitGroup
	for _, j := range jobs {
		wg.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, observeTimeout)
			defer cancel()
			got, err := s.agents.StandDown(ctx, j.t, j.q)
			if err != nil {
				s.log.Warn("a server could not be had to stand down", "cluster", j.t.Cluster, "server", j.t.Server, "error", err)
				return
			}
			c.mu.Lock()
			defer c.mu.Unlock()
			c.hear(got.Answer)
			if got.Proof != nil {
				c.hear(*got.Proof)
			}
		})
	}
	wg.Wait()
}

// outlastPledge waits, while the primary takes writes and needs no pledges, until one that
// the candidate gave before has ended: it would be refused in the write pause.
func (s *Service) outlastPledge(ctx context.Context, c *watched, candidate string) {
	ctx, cancel := context.WithTimeout(ctx, guard.PledgeWait)
	defer cancel()
	for ctx.Err() == nil && s.ask(ctx, c, candidate) == nil {
		c.mu.Lock()
		_, quiet := c.writes()
		a, _, _ := c.permissions().Heard(candidate)
		fencing := c.rec.Policy.Fencing && c.rec.Owner != candidate
		c.mu.Unlock()
		if !fencing || !quiet || a.Pledged == 0 {
			return
		}
		sleep(ctx, 5*permitEvery)
	}
}

// outlast waits until no other server than one can write any more, and that one has
// promised nobody not to become primary: who still writes by the pledges of others goes
// on doing so.
func (s *Service) outlast(ctx context.Context, c *watched, candidate string) error {
	for {
		s.quieten(ctx, c, candidate)
		s.askAll(ctx, c)
		c.mu.Lock()
		m := c.permissions()
		why := ""
		if other, may := m.MayWrite(candidate, clock.Now()); may {
			why = c.notYet(guard.MayStillWrite, other)
		}
		if a, at, ok := m.Heard(candidate); !ok || clock.Now()-at > askLimit {
			why = candidate + "'s agent does not answer"
		} else if a.Pledged > 0 {
			why = fmt.Sprintf("%s promised not to become primary for %s more: the primary has asked it to, and its database "+
				"commits", candidate, words.Span(a.Pledged.Seconds()))
		}
		c.mu.Unlock()
		if why == "" {
			return nil
		}
		select {
		case <-ctx.Done():
			return errors.New(why)
		case <-time.After(5 * permitEvery):
		}
	}
}
