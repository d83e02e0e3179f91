package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
)

// uphold sees to it that the owner of a cluster with fencing has a permission of the
// newest term, with the right servers to pledge to it: it is given a new term in place
// where that is not so, and goes on writing meanwhile.
func (s *Service) uphold(ctx context.Context, c *watched) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.rec.Policy.Fencing || c.op != nil || c.needsYou != nil || c.rec.Owner == "" || c.guard.upholding {
		return
	}
	m := c.permissions()
	owner := c.member(c.rec.Owner)
	a, at, heard := m.Heard(c.rec.Owner)
	if owner == nil || !heard || clock.Now()-at > askLimit || !m.Settled() {
		return
	}
	for _, x := range c.agents() {
		if _, _, heard := m.Heard(x.rec.Name); x.rec.Enrolled && x.last != nil && x.problem == "" && !heard {
			return // it answers, and will say in a moment how it stands
		}
	}
	leads := a.State.Owner && a.State.Accepted == c.rec.Term && c.rec.OwnerTerm == c.rec.Term
	p := permissionOf(owner)
	switch {
	case leads && p != nil && p.Fencing && sameServers(a.Set, m.Set()):
		s.setRanks(ctx, c, m)
	case p == nil || !p.Deadman || !a.State.Owner || a.State.Accepted < c.rec.KinTerm ||
		a.State.Accepted > c.rec.OwnerTerm:
		// it cannot be fenced, or writes by no decision of ours
	case c.rec.Term > c.rec.OwnerTerm && !c.rec.Opened && c.guard.opened.Term != c.rec.Term && !goesOn(owner):
		// The newest term was heard of from the agents: records from an older backup do not know
		// for whom it was opened, and the owner that they name was told to stand down for it. What
		// another server wrote since would be lost.
	case time.Now().Before(c.guard.upholdNext):
	case s.setRanks(ctx, c, m):
		// who is never to lead says so first: the set of the next term leaves it out
	default:
		c.guard.upholding = true
		go func() {
			err := s.newTermInPlace(ctx, c, c.name(), a.State.Accepted)
			c.mu.Lock()
			defer c.mu.Unlock()
			c.guard.upholding = false
			c.guard.upholdNext = time.Now().Add(2 * watchEvery) // what is seen by then shows it
			if err != nil && ctx.Err() == nil {
				c.guard.upholdNext = time.Now().Add(inPlaceLimit / 2)
				s.log.Warn("the primary could not be given a new term in place; it is tried again", "cluster", c.rec.Name,
					"error", err)
			}
		}()
	}
}

// goesOn reports whether a primary is open for writes.
func goesOn(m *member) bool {
	return m.last != nil && m.last.Process.Accepting && m.last.Process.Role == observation.Primary
}

// awaitUpheld waits while the primary is being given a new term in place.
func (c *watched) awaitUpheld(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, upheldLimit)
	defer cancel()
	upholding := func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.guard.upholding
	}
	for upholding() && ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// upheldLimit is how long a plan waits for a new term in place, which takes a tenth of it
// where every server answers.
const upheldLimit = 3 * time.Second

// renewedSince reports whether another term was opened or decided since a view was made.
func (c *watched) renewedSince(v *view.View) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rec.Term != v.Term || c.rec.OwnerTerm != v.OwnerTerm
}

func sameServers(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

// inPlaceLimit bounds a new term for the primary that goes on writing.
const inPlaceLimit = 10 * time.Second

// newTermInPlace gives the owner a further term. One that is decided already and that it
// has not accepted (the service was killed in between) is carried through.
func (s *Service) newTermInPlace(ctx context.Context, c *watched, cluster string, accepted int64) error {
	ctx, cancel := context.WithTimeout(ctx, inPlaceLimit)
	defer cancel()
	c.mu.Lock()
	owner, term := c.rec.Owner, c.rec.Term+1
	begun := c.rec.OwnerTerm == c.rec.Term && accepted < c.rec.Term
	c.mu.Unlock()
	if begun {
		return s.permit(ctx, cluster, owner, term-1)
	}
	if err := s.Store.OpenInPlace(ctx, cluster, term); err != nil {
		return err
	}
	if err := s.openedFor(ctx, c, term, owner); err != nil {
		return err
	}
	s.askAll(ctx, c)
	if err := s.Store.DecideInPlace(ctx, cluster, term, owner); err != nil {
		return err
	}
	s.audit(ctx, "crosstwin", "", "term decided", cluster, owner)
	if err := s.reload(ctx, cluster); err != nil {
		return err
	}
	return s.permit(ctx, cluster, owner, term)
}

// openedFor remembers that this process opened a term, once that is recorded.
func (s *Service) openedFor(ctx context.Context, c *watched, term int64, owner string) error {
	c.mu.Lock()
	c.guard.opened = guard.Decided{Term: term, Owner: owner}
	c.mu.Unlock()
	return s.reload(ctx, c.name())
}

// setRanks tells the agents their ranks, where they know others, and reports whether it
// told any; c.mu is held.
func (s *Service) setRanks(ctx context.Context, c *watched, m *guard.Service) (told bool) {
	for _, x := range m.Members {
		a, at, heard := m.Heard(x.Name)
		if !heard || clock.Now()-at > askLimit || x.Name == c.rec.Owner ||
			a.Never == x.Never && (!a.Lost || x.Never && !m.LacksVote(x)) {
			continue
		}
		next, do := c.guard.machine.SetRank(x.Name, x.Never)
		c.guard.machine = next
		t := agentapi.Target{Cluster: c.rec.Name, Server: x.Name, Address: c.agent(x.Name).rec.Agent}
		for _, e := range do {
			told = true
			go func() {
				ctx, cancel := context.WithTimeout(ctx, askLimit)
				defer cancel()
				got, err := s.agents.SetRank(ctx, t, e.(guard.Send).Message.(guard.SetRank))
				if err != nil {
					return
				}
				c.mu.Lock()
				defer c.mu.Unlock()
				c.hear(got)
			}()
		}
	}
	return told
}

// leastAgents is how many agents fencing needs: each majority of them has one more than
// the server that is left.
const leastAgents = 3

// mayFence says why fencing cannot be switched on or off for a cluster; nil if it can.
func (c *watched) mayFence(on bool) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.op != nil { // its steps rest on it
		return fmt.Errorf("operation %d (%s) is under way: wait for it", c.op.ID, c.op.Kind)
	}
	if !on {
		return nil
	}
	n := 0
	for _, m := range c.agents() {
		if !m.rec.Enrolled {
			continue
		}
		n++
		switch p := permissionOf(m); {
		case m.problem != "" || m.last == nil:
			return fmt.Errorf("%s's agent has to answer for fencing to be switched on, and it does not: %s", m.rec.Name,
				m.problem)
		case p == nil:
			return fmt.Errorf("%s's agent is of a version without fencing: update it first", m.rec.Name)
		case !p.Deadman && !m.rec.Referee:
			return fmt.Errorf("%s has no deadman that would stop its database while its agent does not live: start it "+
				"(crosstwin deadman, the unit crosstwin-deadman)", m.rec.Name)
		}
	}
	switch {
	case n < leastAgents:
		return errors.New("fencing needs three servers, or two and a referee: of two, the one that is left could not go on " +
			"when the service is started again, because nobody else knows the newest term")
	case c.rec.Owner == "":
		return errors.New("fencing needs a primary: it is what is fenced")
	}
	return nil
}
