package simulation

import (
	"time"

	"crosstwin/internal/core/guard"
)

// disturb plans the disturbances of a run.
func (w *world) disturb() {
	n := 4 + w.rng.IntN(22)
	for range n {
		at := w.between(3*time.Second, calm-8*time.Second)
		w.after(at, func() { w.fault() })
		if w.chance(0.5) { // two close together find more than two far apart
			w.after(at+w.between(0, 3*time.Second), func() { w.fault() })
		}
	}
	if w.cfg.Kind == Everything && w.chance(0.3) {
		w.loss = w.rng.Float64() * 0.2
		w.slow = w.rng.Float64() * 0.2
	}
	if w.cfg.Kind == RoleChanges {
		w.loss, w.slow = 0.05, 0.25
		for at := 3 * time.Second; at < calm-8*time.Second; at += w.between(2*time.Second, 6*time.Second) {
			w.after(at, w.plan)
		}
	}
	w.after(calm, func() {
		w.log("the disturbances are over")
		w.loss, w.slow = 0, 0
		clear(w.cut)
		w.service.start()
	})
}

func (w *world) fault() {
	switch w.cfg.Kind {
	case PlannedOnly:
		w.plan()
		return
	case ServiceOnly:
		w.disturbService()
		return
	}
	switch w.rng.IntN(10) {
	case 0, 1:
		w.disturbService()
	case 2, 3:
		w.cutOff()
	case 4, 5:
		w.plan()
	case 6:
		w.changeRank()
	default:
		w.disturbServer()
	}
}

// one gives a server: mostly the one that writes.
func (w *world) one() *server {
	if s := w.server(w.last); s != nil && w.chance(0.5) {
		return s
	}
	return w.servers[w.rng.IntN(len(w.servers))]
}

func (w *world) disturbServer() {
	s := w.one()
	if s.down {
		return
	}
	switch w.rng.IntN(9) {
	case 0:
		if w.now < s.deaf {
			return
		}
		w.log("%s: its agent crashes", s.name)
		s.crashAgent()
	case 1:
		if w.now < s.deaf {
			return
		}
		d := w.between(200*time.Millisecond, 20*time.Second)
		w.log("%s: its agent is frozen for %v", s.name, d.Round(time.Millisecond))
		s.freeze(d)
	case 8:
		if s.agent == nil || s.frozen {
			return
		}
		w.log("%s: its deadman is frozen for 16 s, and later its agent", s.name)
		s.deaf = w.now + 16*time.Second
		start := s.starts
		w.after(7*time.Second, func() {
			if s.starts == start && s.w.now < s.deaf {
				s.freeze(8 * time.Second)
			}
		})
	case 2:
		if s.agent == nil || s.frozen { // both dead at a time: no protocol helps
			return
		}
		w.log("%s: its deadman crashes", s.name)
		s.crashDeadman()
	case 3:
		w.log("%s: its host crashes", s.name)
		s.crash(w.between(time.Second, 12*time.Second))
	case 4:
		w.log("%s: its database crashes", s.name)
		s.die()
	case 5, 6:
		w.log("%s: its database hangs", s.name)
		s.hung = true
		process := s.process
		w.after(w.between(time.Second, 20*time.Second), func() {
			if s.process == process {
				s.hung = false
			}
		})
	case 7:
		if !w.chance(0.4) {
			return
		}
		w.log("%s: its host crashes, and the agent's state is lost", s.name)
		s.crash(w.between(time.Second, 8*time.Second))
		s.disk = guard.Durable{Lost: true, Never: true}
		w.after(w.between(10*time.Second, 15*time.Second), func() {
			if w.service.machine != nil { // one that never leads gets its vote back all the same
				w.service.rank[s.name] = s.referee || len(w.servers) > 2 && w.chance(0.3)
			}
		})
	}
}

func (w *world) disturbService() {
	v := w.service
	switch w.rng.IntN(6) {
	case 5:
		w.swapSides()
	case 0, 1:
		back := w.between(100*time.Millisecond, 15*time.Second)
		w.log("service: crashes, back after %v", back.Round(time.Millisecond))
		v.machine = nil
		w.after(back, v.start)
	case 2:
		old, members := v.records, v.members
		promised, number, leader := v.promised, v.number, v.leader
		w.after(w.between(100*time.Millisecond, 12*time.Second), func() {
			w.log("service: is restored from a backup of term %d; it knew %d", old.Term, v.records.Term)
			v.machine, v.records, v.members, v.sealed = nil, old, members, false
			v.promised, v.number, v.leader = promised, number, leader
			w.after(w.between(50*time.Millisecond, 2*time.Second), v.start)
		})
	default:
		for _, s := range w.servers {
			if w.chance(0.5) {
				w.cutLink(serviceName, s.name, w.between(time.Second, 15*time.Second))
			}
		}
	}
}

// swapSides lets the service reach one part of the agents alone, and then, restored
// from a backup of before, the other part alone. It is asked for changes on both sides.
func (w *world) swapSides() {
	v, old, members := w.service, w.service.records, w.service.members
	d := w.between(2*time.Second, 9*time.Second)
	var near, far []*server
	for _, s := range w.servers {
		if w.chance(0.5) {
			near = append(near, s)
		} else {
			far = append(far, s)
		}
	}
	if len(near) == 0 || len(far) == 0 {
		return
	}
	ask := func(of []*server) {
		if w.cfg.Kind != ServiceOnly {
			v.wish = of[w.rng.IntN(len(of))].name
		}
	}
	for _, s := range far {
		w.cutBoth(s.name, d)
	}
	ask(near)
	w.after(d, func() {
		w.log("service: is restored from a backup of term %d; it knew %d", old.Term, v.records.Term)
		v.machine, v.records, v.members, v.sealed = nil, old, members, false
		v.start()
		for _, s := range near {
			w.cutBoth(s.name, w.between(2*time.Second, 12*time.Second))
		}
		w.after(6*time.Second, func() { ask(far) })
	})
}

func (w *world) cutBoth(name string, d Time) {
	w.log("the path between service and %s is cut for %v (both ways)", name, d.Round(time.Millisecond))
	for _, link := range [][2]string{{serviceName, name}, {name, serviceName}} {
		w.cut[link] = true
		w.after(d, func() { delete(w.cut, link) })
	}
}

// cutLink cuts one direction or both.
func (w *world) cutLink(a, b string, d Time) {
	how := w.rng.IntN(3)
	w.log("the path between %s and %s is cut for %v (%s)", a, b, d.Round(time.Millisecond),
		[]string{"both ways", "to the latter", "to the former"}[how])
	for i, link := range [][2]string{{a, b}, {b, a}} {
		if how == 0 || how == i+1 {
			w.cut[link] = true
			w.after(d, func() { delete(w.cut, link) })
		}
	}
}

func (w *world) cutOff() {
	s := w.one()
	d := w.between(time.Second, 20*time.Second)
	if w.chance(0.5) {
		w.cutLink(serviceName, s.name, d)
	}
	for _, o := range w.servers {
		if o != s && w.chance(0.6) {
			w.cutLink(s.name, o.name, d)
		}
	}
}

func (w *world) plan() {
	to := w.servers[w.rng.IntN(len(w.servers))]
	w.service.wish = to.name
	w.log("service: is asked to make %s primary", to.name)
}

func (w *world) changeRank() {
	s := w.one()
	if s.referee || w.service.machine == nil {
		return
	}
	never := !s.disk.Never
	if never && len(w.servers) < 3 {
		return
	}
	w.log("service: is asked to set the rank of %s, never: %t", s.name, never)
	w.service.rank[s.name] = never
}
