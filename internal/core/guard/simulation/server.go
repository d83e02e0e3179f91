package simulation

import (
	"fmt"
	"time"

	"crosstwin/internal/core/guard"
)

// server is one host: its clock, its agent's disk, and three processes.
type server struct {
	w       *world
	name    string
	clock   clock
	referee bool
	disk    guard.Durable

	agent   *guard.Agent
	deadman *guard.Deadman
	starts  int           // of agents
	seen    guard.Durable // the newest that an agent here answered with
	told    Time          // when the newest Hold reaches the deadman
	deaf    Time          // until when the deadman does nothing, in the world's time
	// frozen processes do nothing; what reaches them waits.
	frozen  bool
	waiting []func()

	data     data
	database guard.DatabaseState
	process  int  // of the database: what was begun with an earlier one has no effect
	hung     bool // the database answers, and commits nothing
	dying    bool
	down     bool // the host
}

// tickEvery is how often agent and deadman look.
const tickEvery = 50 * time.Millisecond

func (s *server) now() guard.Time { return s.clock.read(s.w.now) }

func (s *server) after(d Time, do func()) { s.w.after(s.clock.span(d), do) }

func (s *server) startAgent() {
	if s.down || s.agent != nil {
		return
	}
	s.starts++
	held := guard.Ends{}
	if s.deadman != nil {
		held = s.deadman.Ends
	}
	disk := s.disk
	if s.w.cfg.Omit&guard.LostIsNever != 0 && disk.Lost {
		disk.Never, disk.Lost = false, false
	}
	if !disk.Lost && (disk.Noted < s.seen.Noted || disk.Accepted < s.seen.Accepted) {
		s.w.breaks("I3", "%s knew %+v, and knows %+v after a crash", s.name, s.seen.State, disk.State)
	}
	a := guard.StartAgent(s.name, fmt.Sprintf("%s/%d", s.name, s.starts), disk, held, s.w.cfg.Omit, s.now())
	s.agent, s.frozen, s.waiting = &a, false, nil
	s.look()
	s.tick(s.starts)
}

func (s *server) tick(start int) {
	s.after(tickEvery, func() {
		if s.agent == nil || s.starts != start {
			return
		}
		s.step(guard.Tick{})
		s.look()
		s.tick(start)
	})
}

// look tells the agent how its database is.
func (s *server) look() {
	if !s.referee {
		s.step(guard.DatabaseIs{State: s.database, Commits: s.database != guard.DatabaseStopped && !s.hung})
	}
}

func (s *server) startDeadman() {
	if s.down || s.deadman != nil {
		return
	}
	d := guard.Deadman{Started: s.now(), Omit: s.w.cfg.Omit}
	s.deadman = &d
	s.watch(s.deadman)
}

func (s *server) watch(d *guard.Deadman) {
	s.after(tickEvery, func() {
		if s.deadman != d {
			return
		}
		if s.w.now >= s.deaf {
			s.stepDeadman(guard.Tick{})
		}
		s.watch(d)
	})
}

// tellDeadman brings a Hold, which waits while the deadman is frozen.
func (s *server) tellDeadman(h guard.Hold) {
	d := s.deadman
	if s.w.now >= s.deaf {
		s.stepDeadman(h)
		return
	}
	s.w.after(s.deaf-s.w.now, func() {
		if s.deadman == d && d != nil {
			s.stepDeadman(h)
		}
	})
}

func (s *server) stepDeadman(e guard.Event) {
	next, do := s.deadman.Step(e, s.now())
	*s.deadman = next
	for _, effect := range do {
		switch effect := effect.(type) {
		case guard.Kill:
			s.kill("deadman")
		case guard.Send:
			s.after(time.Millisecond, func() { s.step(effect.Message) })
		}
	}
}

// step delivers an event to the agent, and carries out what it wants.
func (s *server) step(e guard.Event) {
	if s.agent == nil {
		return
	}
	if s.frozen {
		if _, tick := e.(guard.Tick); !tick {
			if _, look := e.(guard.DatabaseIs); !look {
				s.waiting = append(s.waiting, func() { s.step(e) })
			}
		}
		return
	}
	before := *s.agent
	next, do := s.agent.Step(e, s.now())
	if before.MayWrite(s.now()) && !next.MayWrite(s.now()) && next.Durable.Owner {
		s.w.log("%s: is told to stand down, term %d", s.name, next.Durable.Noted)
	}
	s.checkStep(before, next)
	s.agent = &next
	for _, effect := range do {
		if s.w.now < calm && s.w.chance(s.w.betweenActs()) {
			s.w.log("%s: the agent crashes between two acts", s.name)
			s.crashAgent()
			return
		}
		s.carryOut(effect)
	}
}

func (s *server) carryOut(e guard.Effect) {
	w := s.w
	switch e := e.(type) {
	case guard.Persist:
		if w.cfg.Omit&guard.RecordsFirst != 0 {
			s.after(time.Second, func() { s.disk = e.Durable })
			return
		}
		if e.Durable.Accepted > s.disk.Accepted {
			w.log("%s: accepts term %d, owner: %t, set %v", s.name, e.Durable.Accepted, e.Durable.Owner, e.Durable.Set)
		}
		s.disk = e.Durable
	case guard.TellDeadman:
		start := s.starts
		s.told = max(s.told, w.now+w.between(time.Millisecond, 30*time.Millisecond)) // one after the other
		w.after(s.told-w.now, func() {
			if s.deadman != nil && s.agent != nil && s.starts == start {
				s.tellDeadman(e.Hold)
			}
		})
	case guard.Send:
		s.seen = s.agent.Durable
		if e.To == "" {
			w.send(s.name, serviceName, func() { w.service.take(e.Message) })
		} else if to := w.server(e.To); to != nil {
			w.send(s.name, e.To, func() { to.step(e.Message) })
		}
	case guard.Open:
		s.open()
	case guard.Kill:
		s.kill("agent")
	}
}

// open promotes or opens the database, which takes a while.
func (s *server) open() {
	if s.database != guard.DatabaseShut || s.dying || s.hung {
		return
	}
	s.w.log("%s: opens, term %d", s.name, s.agent.Durable.Accepted)
	s.database = guard.DatabaseOpening
	process := s.process
	s.after(s.w.opening(), func() {
		if s.process == process && s.database == guard.DatabaseOpening {
			s.database = guard.DatabaseOpen
			s.w.log("%s: takes writes", s.name)
			if s.w.modes != nil {
				s.promoted()
			}
			if s.w.last != s.name {
				s.w.last = s.name
				s.w.changes++
			}
		}
	})
}

// opening is how long a promotion takes: mostly a while, sometimes nothing.
func (w *world) opening() Time {
	if w.chance(0.4) {
		return w.between(0, 50*time.Millisecond)
	}
	return w.between(50*time.Millisecond, 2500*time.Millisecond)
}

// betweenActs is the share of acts after which an agent crashes.
func (w *world) betweenActs() float64 {
	switch w.cfg.Kind {
	case Everything:
		return 0.0003
	case RoleChanges:
		return 0.002
	}
	return 0
}

// kill stops a database that can, or soon could, acknowledge writes. It is gone a
// moment later.
func (s *server) kill(by string) {
	if s.database < guard.DatabaseOpening || s.dying {
		return
	}
	s.dying = true
	s.w.log("%s: its %s kills its database", s.name, by)
	s.after(s.w.between(5*time.Millisecond, 200*time.Millisecond), func() {
		s.die()
		s.look()
	})
}

// die ends the database; its host starts it again, shut.
func (s *server) die() {
	s.database, s.hung, s.dying = guard.DatabaseStopped, false, false
	s.process++
	process := s.process
	s.after(s.w.between(200*time.Millisecond, 3*time.Second), func() {
		if s.process == process && !s.down && !s.referee {
			s.database = guard.DatabaseShut
			if s.w.cfg.Omit&guard.StartsShut != 0 && s.disk.Owner {
				s.database = guard.DatabaseOpen
			}
		}
	})
}

func (s *server) crashAgent() {
	s.agent = nil
	s.after(s.w.between(50*time.Millisecond, 4*time.Second), s.startAgent)
}

func (s *server) crashDeadman() {
	s.deadman, s.deaf = nil, 0
	if s.agent != nil {
		s.step(guard.DeadmanGone{})
	}
	s.after(s.w.between(20*time.Millisecond, 250*time.Millisecond), s.startDeadman)
}

// crash takes the whole host away; its clock begins anew.
func (s *server) crash(back Time) {
	s.down, s.agent, s.deadman, s.deaf = true, nil, nil, 0
	s.database, s.hung, s.dying = guard.DatabaseStopped, false, false
	s.process++
	s.w.after(back, func() {
		s.down = false
		s.startDeadman()
		s.startAgent()
		s.die()
	})
}

func (s *server) freeze(d Time) {
	if s.agent == nil || s.frozen {
		return
	}
	s.frozen = true
	start := s.starts
	s.w.after(d, func() {
		if s.starts != start {
			return
		}
		s.frozen = false
		waiting := s.waiting
		s.waiting = nil
		for _, do := range waiting {
			do()
		}
	})
}
