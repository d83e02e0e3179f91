package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
)

// guarding is the machine of a cluster's permissions (guard.Service), and what the
// service itself remembers beside it. The lock of its cluster guards it.
type guarding struct {
	machine guard.Service
	// opened is the newest term that this process opened, and for whom. noted is the newest
	// that any agent said it noted: it may come before the records know of it.
	opened              guard.Decided
	noted               int64
	granting, upholding bool
	upholdNext          time.Time // after a try
}

func newGuarding() guarding {
	var b [12]byte
	rand.Read(b[:])
	return guarding{machine: guard.StartService(hex.EncodeToString(b[:]), guard.Decided{}, nil, 0, clock.Now())}
}

// permissions returns the machine as the records stand now; c.mu is held. While an agent
// knows of a newer term than the records, whoever owns that is not known: nobody is
// granted anything (invariant I1: the records may be an older copy, and another service
// may have promoted by what they do not hold).
func (c *watched) permissions() *guard.Service {
	d := guard.Decided{Term: max(c.rec.Term, c.guard.noted)}
	switch d.Term {
	case c.rec.OwnerTerm:
		d.Owner = c.rec.Owner
	case c.guard.opened.Term:
		d.Owner = c.guard.opened.Owner
	}
	var members []guard.Member
	for _, m := range c.agents() {
		if m.rec.Enrolled {
			members = append(members, guard.Member{Name: m.rec.Name, Never: m.rec.Referee || m.rec.Rank == 0,
				Referee: m.rec.Referee})
		}
	}
	c.guard.machine = c.guard.machine.Follow(d, c.guard.opened.Term == d.Term, members)
	return &c.guard.machine
}

// guardAsk is what a server's agent is told of its permission with a question; nil where
// fencing is off and the agent knows it. c.mu is held.
func (c *watched) guardAsk(m *member) *agentapi.GuardAsk {
	if !c.rec.Policy.Fencing {
		p := permissionOf(m)
		if p == nil || !p.Fencing || m.last.Guard.Noted > c.rec.Term || m.last.Guard.Accepted > c.rec.OwnerTerm {
			return nil // records that are older than what the agent knows say nothing of fencing
		}
		return &agentapi.GuardAsk{Off: true}
	}
	next, do := c.permissions().Ask(m.rec.Name, clock.Now())
	c.guard.machine = next
	q := &agentapi.GuardAsk{Ask: do.(guard.Send).Message.(guard.Ask), Peers: map[string]string{}}
	for _, o := range c.members {
		if o != m && o.rec.Agent != "" {
			q.Peers[o.rec.Name] = o.rec.Agent
		}
	}
	return q
}

// decided is the newest decided term as it is told to a server's agent; c.mu is held. One
// that the owner was given in place is told to others only once it has accepted it: they
// would pledge in that term alone, and until then it writes by the earlier one.
func (c *watched) decided(server string) int64 {
	if !c.rec.Policy.Fencing || c.rec.KinTerm >= c.rec.OwnerTerm || server == c.rec.Owner {
		return c.rec.OwnerTerm
	}
	if a, _, heard := c.permissions().Heard(c.rec.Owner); heard && a.State.Accepted >= c.rec.OwnerTerm {
		return c.rec.OwnerTerm
	}
	return 0
}

func permissionOf(m *member) *observation.Permission {
	if m == nil || m.last == nil {
		return nil
	}
	return m.last.Permission
}

// hear takes an agent's answer or its proof; c.mu is held. One that claims a term that
// nobody can have opened says nothing.
func (c *watched) hear(e guard.Event) {
	if a, is := e.(guard.Answer); is {
		if !guard.Believable(a.State.Noted, c.rec.Term) {
			return
		}
		c.guard.noted = max(c.guard.noted, a.State.Noted) // settleTerm records it
		if m := c.agent(a.Server); m != nil {
			m.unanswered = 0
		}
	}
	c.guard.machine, _ = c.permissions().Step(e, clock.Now())
}

// ask asks one agent how it stands, apart from its database, and takes its answer.
func (s *Service) ask(ctx context.Context, c *watched, server string) error {
	c.mu.Lock()
	m := c.agent(server)
	if m == nil || !c.rec.Policy.Fencing {
		c.mu.Unlock()
		return nil
	}
	q, t, referee := c.guardAsk(m), agentapi.Target{Cluster: c.rec.Name, Server: server, Address: m.rec.Agent},
		m.rec.Referee
	c.mu.Unlock()
	limit := askLimit
	if !referee && !seen(&c.latest.Load().View, server) {
		limit = unseenLimit / 2 // the others wait for it
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	a, err := s.agents.AskPermission(ctx, t, *q)
	if err != nil || a == nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.hear(*a)
	return nil
}

// askLimit is how long an agent may take to say how it stands: it asks its database
// nothing.
const askLimit = 2 * time.Second

// grantEvery is how often a permission is renewed. It waits for nothing else that the
// service does: neither for a database nor for the disk of the records.
const grantEvery = 500 * time.Millisecond

func (s *Service) keepGranting(ctx context.Context) {
	for t := time.NewTicker(grantEvery); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
			for _, c := range s.all() {
				s.grant(ctx, c)
			}
		}
	}
}

// grant gives the owner of the newest term the permission to go on.
func (s *Service) grant(ctx context.Context, c *watched) {
	c.mu.Lock()
	owner, busy := c.rec.Owner, c.guard.granting
	if m := c.member(owner); m != nil && c.rec.Policy.Fencing {
		m.unanswered++ // counted here, so that a service that had no time itself counts nothing
	}
	if !c.rec.Policy.Fencing || owner == "" || busy {
		c.mu.Unlock()
		return
	}
	c.guard.granting = true
	c.mu.Unlock()
	go func() {
		s.ask(ctx, c, owner) // a grant goes with the question, for the nonce of the answer before
		c.mu.Lock()
		c.guard.granting = false
		c.mu.Unlock()
	}()
}

// grantNow gives the owner of the newest term as much time as a grant can give.
func (s *Service) grantNow(ctx context.Context, c *watched) {
	c.mu.Lock()
	owner := c.rec.Owner
	c.mu.Unlock()
	if !seen(&c.latest.Load().View, owner) {
		return
	}
	if s.ask(ctx, c, owner) == nil {
		s.ask(ctx, c, owner) // the grant goes with the second question
	}
}

func (s *Service) askAll(ctx context.Context, c *watched) {
	c.mu.Lock()
	var names []string
	for _, m := range c.agents() {
		if m.rec.Enrolled {
			names = append(names, m.rec.Name)
		}
	}
	c.mu.Unlock()
	var wg sync.WaitGroup
	for _, n := range names {
		wg.Go(func() { s.ask(ctx, c, n) })
	}
	wg.Wait()
}
