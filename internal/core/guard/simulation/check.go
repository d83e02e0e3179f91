package simulation

import (
	"slices"

	"crosstwin/internal/core/guard"
)

// check holds after every event.
func (w *world) check() {
	open := 0
	for _, s := range w.servers {
		if s.database == guard.DatabaseOpen {
			open++
		}
	}
	if open > 1 {
		w.breaks("I1", "two servers can acknowledge writes")
	}
	w.checkGrants()
	w.checkPledges()
	w.checkOwners()
	if w.cfg.Kind == ServiceOnly && !w.cfg.Synchronous && w.last != "" && w.server(w.last).database != guard.DatabaseOpen {
		w.breaks("L1", "%s stopped taking writes, and only the service was disturbed", w.last)
	}
}

// checkGrants: no grant is used that the service takes to be over (I2).
func (w *world) checkGrants() {
	m := w.service.machine
	if m == nil {
		return
	}
	for _, s := range w.servers {
		past := w.service.now() >= m.Until[s.name] || m.Proven(s.name)
		if past && s.holds() && !s.referee {
			w.breaks("I2", "the service takes %s for past its grant, and it has one", s.name)
		}
	}
}

// holds reports whether a grant is in use, by the agent or by the deadman.
func (s *server) holds() bool {
	now := s.now()
	return s.agent != nil && now < s.agent.Held.Grant || s.deadman != nil && now < s.deadman.Ends.Grant
}

// checkPledges holds the pledges that are used against those who gave them (I2).
func (w *world) checkPledges() {
	for _, s := range w.servers {
		a := s.agent
		if a == nil || s.now() >= a.Held.Pledge || !a.Durable.Owner {
			continue
		}
		for _, name := range a.Durable.Set {
			p := w.server(name)
			if p == nil || p.agent == nil {
				continue
			}
			waits := p.agent.Waits(p.now()) && w.cfg.Omit&guard.StartWait == 0
			if p.now() >= p.agent.Pledged && !waits {
				w.breaks("I2", "%s writes by a pledge of %s that has run out", s.name, name)
			}
		}
	}
}

// checkOwners: no term has two owners (I3).
func (w *world) checkOwners() {
	for i, s := range w.servers {
		for _, o := range w.servers[:i] {
			if s.disk.Owner && o.disk.Owner && s.disk.Accepted == o.disk.Accepted {
				w.breaks("I3", "term %d belongs to %s and to %s", s.disk.Accepted, o.name, s.name)
			}
		}
	}
}

// checkStep holds one step of an agent against I3 and I4.
func (s *server) checkStep(before, after guard.Agent) {
	b, a := before.Durable, after.Durable
	if a.Noted < b.Noted || a.Accepted < b.Accepted {
		s.w.breaks("I3", "%s went from %+v to %+v", s.name, b.State, a.State)
	}
	if a.Owner && a.Accepted > b.Accepted && s.now() < before.Pledged {
		s.w.breaks("I4", "%s is promoted while its own pledge runs", s.name)
	}
	if a.Owner && a.Accepted > b.Accepted && a.Accepted < b.Noted {
		s.w.breaks("I3", "%s takes term %d after it noted %d", s.name, a.Accepted, b.Noted)
	}
	if a.Owner && a.Accepted == b.Accepted && !b.Owner {
		s.w.breaks("I3", "term %d got another owner on %s", a.Accepted, s.name)
	}
}

// checkEnd holds when all was calm for a while.
func (w *world) checkEnd() {
	var open []string
	for _, s := range w.servers {
		if s.database == guard.DatabaseOpen {
			open = append(open, s.name)
		}
	}
	if w.cfg.Kind == PlannedOnly && len(open) == 1 && w.wish != "" && open[0] != w.wish {
		w.breaks("L3", "%s takes writes, and %s was to", open[0], w.wish)
	}
	if len(open) == 1 || !w.canLead() {
		return
	}
	name := "L2"
	if w.cfg.Kind == PlannedOnly {
		name = "L3"
	}
	w.now = end
	w.breaks(name, "%d servers take writes %v after the last disturbance", len(open), end-calm)
}

// canLead reports whether a server is left that may be promoted, and agents enough
// to note a term.
func (w *world) canLead() bool {
	votes := 0
	for _, s := range w.servers {
		if !s.disk.Lost {
			votes++
		}
	}
	return votes > len(w.servers)/2 && slices.ContainsFunc(w.servers, func(s *server) bool {
		return !s.referee && !s.disk.Lost && !s.disk.Never
	})
}
