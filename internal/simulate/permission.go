package simulate

import (
	"encoding/json"
	"net/http"
	"strconv"
	"sync"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
)

// permission is the machine of a simulated agent's permissions, with a deadman that answers
// at once. There is no disk behind it, and no database.
type permission struct {
	mu      sync.Mutex
	fencing bool
	machine guard.Agent
	deadman guard.Deadman
}

func newPermission(m maker) *permission {
	return &permission{
		machine: guard.StartAgent(m.name(), strconv.Itoa(m.number), guard.Durable{}, guard.Ends{}, 0, clock.Now()),
		deadman: guard.Deadman{Started: clock.Now()}}
}

// step delivers an event to the machine, and what it tells the deadman, and returns its answer
// and its proof, where there are any.
func (p *permission) step(e guard.Event) (answer *guard.Answer, proof *guard.Proof) {
	now := clock.Now()
	for events := []guard.Event{e}; len(events) > 0; events = events[1:] {
		next, do := p.machine.Step(events[0], now)
		p.machine = next
		for _, x := range do {
			switch x := x.(type) {
			case guard.TellDeadman:
				var held []guard.Effect
				p.deadman, held = p.deadman.Step(x.Hold, now)
				for _, h := range held {
					events = append(events, h.(guard.Send).Message)
				}
			case guard.Send:
				switch m := x.Message.(type) {
				case guard.Answer:
					answer = &m
				case guard.Proof:
					proof = &m
				}
			}
		}
	}
	return answer, proof
}

func (p *permission) learn(term int64, owner bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	// With fencing on, a server comes to own a term by a promotion alone, but for its first one:
	// here that may come a moment later.
	if !owner || !p.fencing || p.machine.Durable.Accepted == 0 {
		p.machine.Durable.State = p.machine.Durable.State.Learn(term, owner)
	}
}

// asked takes what the service says of fencing.
func (p *permission) asked(q *agentapi.GuardAsk) *guard.Answer {
	p.mu.Lock()
	defer p.mu.Unlock()
	if q == nil {
		return nil
	}
	if p.fencing = !q.Off; q.Off {
		return nil
	}
	p.step(guard.Tick{})
	a, _ := p.step(q.Ask)
	return a
}

// show puts into an observation how the permission is. While fencing is off the agent takes the
// service's word for whose the newest term is.
func (p *permission) show(o *observation.Server, q agentapi.ObserveRequest) {
	p.learn(q.Term, q.Owner)
	said := p.asked(q.Guard)
	p.mu.Lock()
	defer p.mu.Unlock()
	now := clock.Now()
	o.Guard = p.machine.Durable.State
	o.Permission = &observation.Permission{Fencing: p.fencing, Deadman: true, Set: p.machine.Durable.Set, Answer: said,
		GrantSeconds: max(0, (p.machine.Held.Grant - now).Seconds())}
}

// permissions serves what the service asks of permissions, apart from observations.
func (f *Fleet) permissions(mux *http.ServeMux) {
	serve(mux, "POST /agent/v1/permission/ask", f, func(p *permission, q agentapi.GuardAsk) any { return p.asked(&q) })
	serve(mux, "POST /agent/v1/permission/promote", f, func(p *permission, q agentapi.GuardPromote) any {
		return p.take(q.Promote)
	})
	serve(mux, "POST /agent/v1/permission/rank", f, func(p *permission, q guard.SetRank) any { return p.take(q) })
	serve(mux, "POST /agent/v1/permission/stand-down", f, (*permission).standDown)
}

func (p *permission) take(e guard.Event) *guard.Answer {
	p.mu.Lock()
	defer p.mu.Unlock()
	a, _ := p.step(e)
	return a
}

// standDown is asked of replicas only, which take no writes.
func (p *permission) standDown(q guard.StandDown) any {
	p.mu.Lock()
	defer p.mu.Unlock()
	a, proof := p.step(q)
	if proof == nil {
		_, proof = p.step(guard.DatabaseIs{State: guard.DatabaseShut})
	}
	return agentapi.StoodDown{Answer: *a, Proof: proof}
}

// serve serves one kind of question for every agent of the fleet.
func serve[Q any](mux *http.ServeMux, pattern string, f *Fleet, do func(*permission, Q) any) {
	mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
		var q Q
		if err := json.NewDecoder(r.Body).Decode(&q); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(do(f.member(r.TLS.ServerName).permission, q))
	})
}
