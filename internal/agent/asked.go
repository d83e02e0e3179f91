package agent

import (
	"context"
	"maps"
	"net/http"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/verb"
)

// What the service asks of the machine of permissions.

// underFencing puts a server that owns no term under fencing. One that does comes under
// it by the promotion that gives it its first permission.
func (a *Agent) underFencing() error {
	if s := a.memory.get(); s.Fencing || s.Guard.Owner {
		return nil
	}
	return a.memory.change(func(s *state) error { s.Fencing = true; return nil })
}

// asked takes what the service says of fencing, and answers how this agent stands; nil
// where fencing is off.
func (a *Agent) asked(q *agentapi.GuardAsk) (*guard.Answer, error) {
	s := a.memory.get()
	if q == nil || q.Off {
		if s.Fencing && q != nil {
			a.log.Warn("fencing is switched off: the database may take writes without a permission that runs out")
			return nil, a.memory.change(func(s *state) error { s.Fencing, s.Opening = false, false; return nil })
		}
		if s.Lost && !s.Fencing {
			return nil, a.memory.change(func(s *state) error { s.Lost = false; return nil })
		}
		return nil, nil
	}
	if err := a.underFencing(); err != nil {
		return nil, err
	}
	if !maps.Equal(s.Peers, q.Peers) {
		if err := a.memory.change(func(s *state) error { s.Peers = q.Peers; return nil }); err != nil {
			return nil, err
		}
	}
	for _, x := range a.permission.step(q.Ask) {
		if m, is := x.Message.(guard.Answer); is {
			return &m, nil
		}
	}
	return nil, nil
}

func (a *Agent) serveAsked(w http.ResponseWriter, r *http.Request) error {
	var q agentapi.GuardAsk
	if err := decode(r.Body, &q); err != nil {
		return err
	}
	m, err := a.asked(&q)
	if err != nil {
		return err
	}
	return answer(w, m)
}

// servePromotion makes this server the owner of a term, when it obeys; the answer says
// whether.
func (a *Agent) servePromotion(w http.ResponseWriter, r *http.Request) error {
	var q agentapi.GuardPromote
	if err := decode(r.Body, &q); err != nil {
		return err
	}
	if err := a.mayTouch(r, verb.Promote{}.Verb()); err != nil {
		return err
	}
	if err := a.keepDecision(q.Decision); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.Context(), askedLimit)
	defer cancel()
	var out guard.Answer
	if err := a.permission.wait(ctx, q.Promote.Question, q.Promote, func(e guard.Event) bool {
		m, is := e.(guard.Answer)
		out = m
		return is
	}); err != nil {
		return err
	}
	return answer(w, out)
}

// askedLimit bounds what the service waits for here.
const askedLimit = 3 * time.Second

// serveStandDown ends what this server may, and proves that it cannot take writes.
func (a *Agent) serveStandDown(w http.ResponseWriter, r *http.Request) error {
	var q guard.StandDown
	if err := decode(r.Body, &q); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.Context(), askedLimit)
	defer cancel()
	a.lookBriefly(ctx) // a database that was stopped in order is not to be killed
	looking, enough := context.WithCancel(ctx)
	defer enough()
	go func() {
		for looking.Err() == nil { // what was seen before it stood down proves nothing
			a.observe(looking, false)
			sleep(looking, proofLook)
		}
	}()
	var out agentapi.StoodDown
	err := a.permission.wait(ctx, q.Question, q, func(e guard.Event) bool {
		switch m := e.(type) {
		case guard.Answer:
			out.Answer = m
		case guard.Proof:
			out.Proof = &m
		}
		return out.Proof != nil
	})
	if err != nil && out.Answer.Server == "" {
		return err
	}
	return answer(w, out)
}

// lookLimit is how long a database may take to say how it is before it stands down, and
// proofLook how often it is looked at until it is proven to have stopped.
const (
	lookLimit = 500 * time.Millisecond
	proofLook = 5 * time.Millisecond
)

// lookBriefly looks at the database, and does not wait for one that hangs.
func (a *Agent) lookBriefly(ctx context.Context) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		a.observe(ctx, false)
	}()
	select {
	case <-done:
	case <-time.After(lookLimit):
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func (a *Agent) serveRank(w http.ResponseWriter, r *http.Request) error {
	var q guard.SetRank
	if err := decode(r.Body, &q); err != nil {
		return err
	}
	for _, x := range a.permission.step(q) {
		if m, is := x.Message.(guard.Answer); is {
			return answer(w, m)
		}
	}
	return answer(w, struct{}{})
}
