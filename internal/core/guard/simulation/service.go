package simulation

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/synchronous"
)

const serviceName = "service"

// service is the process around the service's machine: it polls, and decides without
// much wit. The protocol has to hold whatever it decides.
type service struct {
	w       *world
	clock   clock
	members []guard.Member
	records guard.Decided // on disk
	sealed  bool
	starts  int
	machine *guard.Service

	lastHeard map[string]guard.Time
	openedAt  guard.Time
	startedAt guard.Time
	promoted  int64  // the newest term that a promotion was sent in
	wish      string // a planned change to this server
	rank      map[string]bool

	// With a synchronous mode: on disk is what is promised, by how many changes, and of which
	// primary; then what the servers said to hold, and in which term they were asked.
	promised []synchronous.List
	number   int64
	leader   string
	holds    map[string]holding
	asked    int64
}

const (
	pollEvery   = 300 * time.Millisecond
	silentAfter = 3500 * time.Millisecond
	givesUp     = 9 * time.Second
)

func (v *service) now() guard.Time { return v.clock.read(v.w.now) }

func (v *service) start() {
	if v.machine != nil {
		return
	}
	v.starts++
	m := guard.StartService(fmt.Sprintf("service/%d", v.starts), v.records, v.members, v.w.cfg.Omit, v.now())
	m.Sealed = v.sealed
	v.machine, v.lastHeard, v.openedAt = &m, map[string]guard.Time{}, v.now()
	v.startedAt = v.now()
	v.wish, v.promoted, v.rank = "", 0, map[string]bool{}
	v.holds, v.asked = map[string]holding{}, 0
	for _, s := range v.w.servers {
		v.lastHeard[s.name] = v.now()
	}
	v.tick(v.starts)
}

func (v *service) tick(start int) {
	v.w.after(v.clock.span(pollEvery), func() {
		if v.machine == nil || v.starts != start {
			return
		}
		for _, s := range v.w.servers {
			v.poll(s.name)
		}
		v.decide()
		v.tick(start)
	})
}

func (v *service) poll(name string) {
	next, do := v.machine.Ask(name, v.now())
	v.machine = &next
	v.carryOut([]guard.Effect{do})
}

func (v *service) take(e guard.Event) {
	if v.machine == nil {
		return
	}
	next, do := v.machine.Step(e, v.now())
	v.machine = &next
	v.carryOut(do)
	defer func() {
		if _, ok := e.(guard.Proof); ok {
			v.decide()
		}
	}()
	if a, ok := e.(guard.Answer); ok && a.Question.Process == next.Process {
		v.lastHeard[a.Server] = v.now()
		if a.Lost {
			v.member(a.Server, true)
		}
	}
	if p, ok := e.(guard.Proof); ok && next.Proven(p.Server) {
		v.w.log("service: %s is proven to have stopped, term %d", p.Server, p.Term)
	}
}

func (v *service) carryOut(do []guard.Effect) {
	for _, e := range do {
		switch e := e.(type) {
		case guard.Record:
			v.records = e.Decided
		case guard.Send:
			to := v.w.server(e.To)
			v.w.send(serviceName, e.To, func() { to.step(e.Message) })
		}
	}
}

// hears reports whether an agent answered lately.
func (v *service) hears(name string) bool { return v.now()-v.lastHeard[name] < silentAfter }

// decide opens terms and carries the newest one through.
func (v *service) decide() {
	m := v.machine
	if !m.Settled() && m.Omit&guard.HeardMajority == 0 {
		return
	}
	owner := m.Decided.Owner
	if owner == "" {
		owner = v.newest()
	}
	a, _, ok := m.Heard(owner)
	if !ok && (v.now()-v.startedAt < silentAfter || v.alive(owner)) {
		return // whoever writes has not answered yet, or answers others
	}
	leads := ok && a.State.Owner && a.State.Accepted == m.Decided.Term
	switch {
	case m.Decided.Owner == "":
		v.open(owner, "a term was opened by somebody else")
	case leads && v.hears(owner):
		if v.w.modes != nil {
			v.keepMode(owner)
		}
		v.serve(owner)
	case leads && !v.alive(owner):
		v.open(v.another(owner), owner+" is silent")
	case !leads && v.now()-v.openedAt > givesUp:
		if v.w.chance(0.5) {
			v.open(v.newest(), "the change did not come about")
		} else {
			v.open(v.another(owner), "the change did not come about")
		}
	case !leads:
		v.carryThrough(owner)
	}
}

// alive reports whether another agent's pledge to the owner runs.
func (v *service) alive(owner string) bool {
	for _, s := range v.w.servers {
		a, at, ok := v.machine.Heard(s.name)
		if ok && s.name != owner && v.hears(s.name) && a.Writes && at+a.Pledged > v.now() {
			return true
		}
	}
	return false
}

// serve looks for what is to be done while a primary leads.
func (v *service) serve(owner string) {
	for _, name := range slices.Sorted(maps.Keys(v.rank)) {
		never := v.rank[name]
		a, _, ok := v.machine.Heard(name)
		if !ok || name == owner {
			delete(v.rank, name)
			continue
		}
		if never {
			v.member(name, true) // the records first
		}
		if a.Never == never && !a.Lost {
			delete(v.rank, name)
			if never {
				v.open(owner, "no set has to hold "+name)
				return
			}
			continue
		}
		next, do := v.machine.SetRank(name, never)
		v.machine = &next
		if do == nil {
			v.member(name, never)
			v.open(owner, "a set is to hold "+name)
			return
		}
		v.carryOut(do)
	}
	if v.wish != "" {
		to := v.wish
		v.wish = ""
		if to != owner && v.hears(to) && v.fit(to) {
			v.w.wish = to
			v.open(to, "a planned change")
		}
	}
}

// member changes what the records hold of a server's rank.
func (v *service) member(name string, never bool) {
	members := append([]guard.Member(nil), v.members...)
	for i := range members {
		if members[i].Name == name {
			members[i].Never = never
		}
	}
	v.members, v.machine.Members = members, members
}

// carryThrough proves that the others have stopped where they answer, and promotes.
func (v *service) carryThrough(owner string) {
	for _, s := range v.w.servers {
		if a, _, ok := v.machine.Heard(s.name); ok && s.name != owner && a.State.Owner && v.hears(s.name) &&
			!v.machine.Proven(s.name) {
			next, do := v.machine.StandDown(s.name, false)
			v.machine = &next
			v.carryOut(do)
		}
	}
	if v.w.modes != nil && !v.mayPromote(owner) {
		return
	}
	next, do, why, _ := v.machine.Promote(v.now())
	v.machine = &next
	if why == guard.Now && v.promoted != next.Decided.Term {
		v.promoted = next.Decided.Term // asked again and again, until it obeys
		v.w.log("service: promotes %s, term %d", owner, next.Decided.Term)
	}
	if why == guard.OwnerUnknown {
		v.open(v.newest(), "whoever owns the term is not known")
	}
	v.carryOut(do)
}

func (v *service) open(owner, why string) {
	if owner == "" {
		return
	}
	next, do := v.machine.OpenTerm(owner, v.now())
	if do == nil {
		return
	}
	v.machine, v.openedAt = &next, v.now()
	v.w.log("service: opens term %d for %s: %s", next.Decided.Term, owner, why)
	v.carryOut(do)
}

func (v *service) fit(name string) bool {
	a, _, ok := v.machine.Heard(name)
	s := v.w.server(name)
	eligible := !a.Never && !a.Lost || v.machine.Omit&(guard.OwnRank|guard.LostIsNever) != 0
	return ok && !s.referee && eligible && v.hears(name)
}

// newest names the owner of the newest term that anybody accepted.
func (v *service) newest() string {
	name, term := "", int64(0)
	for _, s := range v.w.servers {
		if a, _, ok := v.machine.Heard(s.name); ok && a.State.Owner && a.State.Accepted > term && v.hears(s.name) {
			name, term = s.name, a.State.Accepted
		}
	}
	if name == "" {
		return v.another("")
	}
	return name
}

// another names a server that may lead, by chance: one that answered just now, so
// that it would have said that the owner writes by its pledge.
func (v *service) another(than string) string {
	var fit []string
	for _, s := range v.w.servers {
		if s.name != than && v.fit(s.name) && v.now()-v.lastHeard[s.name] < time.Second {
			fit = append(fit, s.name)
		}
	}
	if len(fit) == 0 {
		return ""
	}
	return fit[v.w.rng.IntN(len(fit))]
}
