package agent

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/deadman"
)

// permission is the shell round the machine of permissions (guard.Agent): it brings the
// machine its events, and carries out what it wants. While fencing is off the machine
// only notes terms and gives out nonces, so that fencing can be switched on.
//
// Invariants: what the machine persists is on disk before what it wants next is done;
// the database is opened by an operation or by reopen, and only while a permission runs
// that the deadman knows of.
type permission struct {
	a *Agent

	mu       sync.Mutex // one event at a time; also guards every other change of terms
	m        guard.Agent
	link     *deadman.Link
	waiting  map[guard.Question]chan guard.Event // calls of the service that wait
	seen     guard.DatabaseState                 // by the newest look
	stood    bool                                // an operation had it stand down: it stays stopped
	killing  bool
	probing  bool
	probedAt time.Time
	commits  commitWatch
	startsAt time.Time // when a database that was killed may be started again
}

// stepEvery is how often time passes for the machine.
const stepEvery = 100 * time.Millisecond

func (p *permission) begin(a *Agent) {
	p.a, p.waiting = a, map[guard.Question]chan guard.Event{}
	var held guard.Ends
	p.link, held = deadman.Dial(filepath.Join(a.dir, deadman.SocketFile))
	p.m = guard.StartAgent(a.cfg.Server, nonce(), a.memory.get().durable(), held, 0, clock.Now())
}

// run lets time pass until ctx ends.
func (p *permission) run(ctx context.Context) {
	go p.endOrphans(ctx)
	go p.link.Run(ctx, func(e guard.Event) { p.step(e) })
	for t := time.NewTicker(stepEvery); ; {
		select {
		case <-ctx.Done():
			t.Stop()
			return
		case <-t.C:
			if s := p.a.memory.get(); s.Fencing {
				p.step(guard.Tick{})
				p.probe(ctx, s)
				p.watchCommits(ctx, s)
				p.startShut(ctx, s)
			}
		}
	}
}

// runs reports whether this server has a permission to write just now.
func (p *permission) runs() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.m.Durable = p.a.memory.get().durable()
	return p.m.MayWrite(clock.Now())
}

// locked does something that no event may come between.
func (p *permission) locked(do func() error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return do()
}

// step delivers one event, and returns the messages that came of it.
func (p *permission) step(e guard.Event) []guard.Send {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.m.Durable = p.a.memory.get().durable()
	next, do := p.m.Step(e, clock.Now())
	var sends []guard.Send
	for _, x := range do {
		switch x := x.(type) {
		case guard.Persist:
			if err := p.persist(x.Durable); err != nil {
				p.a.log.Error("what was decided could not be recorded: nothing is done", "error", err)
				return nil // nothing may rest on it
			}
		case guard.TellDeadman:
			p.link.Tell(x.Hold)
		case guard.Send:
			if p.answers(x) {
				continue
			}
			sends = append(sends, x)
		case guard.Kill:
			if p.kills(e) {
				p.killing = true
				go p.kill(next.Durable.Owner)
			}
		}
	}
	p.m = next
	if _, asked := e.(guard.PledgeAsk); !asked {
		sends = p.toPeers(sends)
	}
	return sends
}

// kills reports whether a database is to be killed that the machine wants killed: only
// one that may take writes, and is this cluster's (invariant: a foreign server is left as
// it is).
func (p *permission) kills(e guard.Event) bool {
	s := p.a.memory.get()
	if _, stands := e.(guard.StandDown); stands {
		p.stood = true
	}
	return s.Fencing && !p.killing && p.a.isOurs() && (p.seen >= guard.DatabaseOpening || s.Opening)
}

// persist puts on disk what the machine decided. A server that is promoted under fencing
// is under it from then on.
func (p *permission) persist(d guard.Durable) error {
	if d.Owner && d.Accepted > p.m.Durable.Accepted {
		p.stood = false
	}
	return p.a.keep(func(s *state) error {
		s.Fencing = s.Fencing || d.Owner && d.Accepted > s.Guard.Accepted
		s.Guard, s.Set, s.Never, s.Lost = d.State, d.Set, d.Never, d.Lost
		return nil
	})
}

// answers hands an answer or a proof to the call that waits for it.
func (p *permission) answers(x guard.Send) bool {
	var q guard.Question
	switch m := x.Message.(type) {
	case guard.Answer:
		q = m.Question
	case guard.Proof:
		q = m.Question
	default:
		return false
	}
	c, waits := p.waiting[q]
	if !waits {
		return false
	}
	select {
	case c <- x.Message:
	default:
	}
	return true
}

// toPeers sends questions for pledges, and returns the other messages.
func (p *permission) toPeers(sends []guard.Send) []guard.Send {
	fencing := p.a.memory.get().Fencing
	return slices.DeleteFunc(sends, func(x guard.Send) bool {
		q, is := x.Message.(guard.PledgeAsk)
		if is && fencing {
			go p.askPledge(x.To, q)
		}
		return is
	})
}

// wait delivers a call of the service's and waits for what answers it; each hears all, and
// says when it is enough.
func (p *permission) wait(ctx context.Context, q guard.Question, e guard.Event, each func(guard.Event) bool) error {
	c := make(chan guard.Event, 4)
	p.mu.Lock()
	p.waiting[q] = c
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.waiting, q)
		p.mu.Unlock()
	}()
	p.step(e)
	for {
		select {
		case m := <-c:
			if each(m) {
				return nil
			}
		case <-ctx.Done():
			return fmt.Errorf("%s's agent has not come to an answer in time: %w", p.a.cfg.Server, context.Cause(ctx))
		}
	}
}

// own makes this server the owner of a term, or says why it may not write in it.
func (p *permission) own(term int64) error {
	if !p.a.memory.get().Fencing {
		return p.a.accept(term, true)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.m.Durable = p.a.memory.get().durable()
	if d := p.m.Durable; d.Accepted != term || !p.m.MayWrite(clock.Now()) {
		return fmt.Errorf("%s has no permission that runs to take writes in term %d; the newest that its agent accepted is "+
			"%d", p.a.cfg.Server, term, d.Accepted)
	}
	return nil
}

// see tells the machine how the database is, and the observation how permission is.
func (p *permission) see(o *observation.Server) {
	s, opening := p.a.memory.get(), p.a.isOpening()
	shut := !o.Process.Running || !s.Opening && o.Process.Accepting && o.Process.Role == observation.Replica
	if shut && !opening && (s.Opening || s.Open != "") {
		if err := p.a.memory.change(func(s *state) error { s.Opening, s.Open = false, ""; return nil }); err != nil {
			p.a.log.Error("could not record that the database is shut", "error", err)
		}
		s = p.a.memory.get()
	}
	o.Process.DiskWaits = p.commits.waiting()
	state := databaseState(o, s, opening)
	p.mu.Lock()
	past := endedSince(o)
	if !past {
		p.seen = state
	}
	owes := p.m.StandsDown() // also one that fencing was switched on for a moment ago
	p.mu.Unlock()
	if (s.Fencing || owes) && !past && !o.Data.Foreign {
		p.step(guard.DatabaseIs{State: state})
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	now := clock.Now()
	left := func(end guard.Time) float64 { return max(0, (end - now).Seconds()) }
	o.Permission = &observation.Permission{Fencing: s.Fencing, Deadman: p.link.Up(), Set: p.m.Durable.Set,
		GrantSeconds: left(p.m.Held.Grant), PledgeSeconds: left(p.m.Held.Pledge), PledgedSeconds: left(p.m.Pledged),
		NeverLeads: p.m.Durable.Never || p.m.Durable.Lost}
}

// endedSince reports whether the process that was looked at has ended: what was seen of it says
// nothing of one that was started since, which runs shut and would be killed for it.
func endedSince(o *observation.Server) bool {
	return o.Process.Running && !o.Process.Doomed && o.Process.Identity != "" && processOf(o.Process.Identity) == ""
}

// databaseState is what a database can do, by what was seen of it. One that does not say
// is what it was opened for.
func databaseState(o *observation.Server, s state, opening bool) guard.DatabaseState {
	open := o.Process.Identity != "" && strings.HasPrefix(s.Open, o.Process.Identity)
	switch {
	case !o.Process.Running, o.Process.Doomed:
		return guard.DatabaseStopped
	case o.Process.Role == observation.Primary:
		return guard.DatabaseOpen
	case opening || s.Opening:
		return guard.DatabaseOpening
	case o.Process.Accepting:
		return guard.DatabaseShut
	case open:
		return guard.DatabaseOpen
	}
	return guard.DatabaseShut
}
