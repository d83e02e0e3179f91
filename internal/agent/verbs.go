package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// request is a call as it arrives, its arguments read.
type request struct {
	agentapi.Envelope
	call verb.Call
}

func (r request) key() string { return fmt.Sprintf("%d/%s", r.Operation, r.Step) }

// handler carries out one verb. Progress is for long ones.
type handler func(ctx context.Context, r request, p engine.Progress) (any, error)

// act makes a handler of a call without a result.
func act[C verb.Call](do func(context.Context, C) error) (verb.Name, handler) {
	var zero C
	return zero.Verb(), func(ctx context.Context, r request, _ engine.Progress) (any, error) {
		return nil, do(ctx, r.call.(C))
	}
}

// ask makes a handler of a call with a result.
func ask[C verb.Asks[R], R any](do func(context.Context, C) (R, error)) (verb.Name, handler) {
	var zero C
	return zero.Verb(), func(ctx context.Context, r request, _ engine.Progress) (any, error) {
		return listed(do(ctx, r.call.(C)))
	}
}

// listed has an empty list as a result be one: nil would read as no result.
func listed[R any](r R, err error) (any, error) {
	if v := reflect.ValueOf(r); v.Kind() == reflect.Slice && v.IsNil() {
		return reflect.MakeSlice(v.Type(), 0, 0).Interface(), err
	}
	return r, err
}

// actLong makes a handler of a long call without a result.
func actLong[C verb.Call](do func(context.Context, C, engine.Progress) error) (verb.Name, handler) {
	var zero C
	return zero.Verb(), func(ctx context.Context, r request, p engine.Progress) (any, error) {
		return nil, do(ctx, r.call.(C), p)
	}
}

// askLong makes a handler of a long call with a result.
func askLong[C verb.Asks[R], R any](do func(context.Context, C, engine.Progress) (R, error)) (verb.Name, handler) {
	var zero C
	return zero.Verb(), func(ctx context.Context, r request, p engine.Progress) (any, error) {
		return listed(do(ctx, r.call.(C), p))
	}
}

// underTerm makes a handler of a call that changes who may write: it needs the
// term of its request.
func underTerm[C verb.Call](do func(ctx context.Context, c C, term int64) (any, error)) (verb.Name, handler) {
	var zero C
	return zero.Verb(), func(ctx context.Context, r request, _ engine.Progress) (any, error) {
		return do(ctx, r.call.(C), r.Term)
	}
}

// without drops the arguments of a call that has none.
func without[C verb.Call](do func(context.Context) error) (verb.Name, handler) {
	return act(func(ctx context.Context, _ C) error { return do(ctx) })
}

// table lists what this agent can do: what every engine offers, and the further
// abilities of its own.
func (a *Agent) table() map[verb.Name]handler {
	m := map[verb.Name]handler{}
	add := func(n verb.Name, h handler) { m[n] = h }
	add(without[verb.Note](a.jobs.settled)) // serveVerb noted the term
	add(underTerm(a.start))
	add(underTerm(a.promote))
	add(underTerm(a.mark))
	add(underTerm(a.awaitMark))
	add(without[verb.Stop](a.engine.Stop))
	add(act(func(ctx context.Context, c verb.Fence) error { return a.fence(ctx, c.Gently) }))
	add(act(a.engine.Follow))
	if x, ok := a.engine.(engine.Reserver); ok {
		add(act(x.Slots))
	}
	if x, ok := a.engine.(engine.Checkpointer); ok {
		add(without[verb.Checkpoint](x.Checkpoint))
	}
	if x, ok := a.engine.(engine.Accounter); ok {
		add(act(func(ctx context.Context, c verb.Prepare) error { return a.prepare(ctx, x, c) }))
		add(act(func(ctx context.Context, c verb.Account) error { return a.learnAccount(ctx, c.From) }))
		add(ask(func(ctx context.Context, c verb.Probe) (verb.Probed, error) { return a.probe(ctx, x, c), nil }))
	}
	if x, ok := a.engine.(engine.LogKeeper); ok {
		add(act(x.Trim))
	}
	if x, ok := a.engine.(engine.Tuner); ok {
		add(act(x.Set))
	}
	if x, ok := a.engine.(engine.Synchronizer); ok {
		add(act(x.Synchronize))
		add(ask(func(ctx context.Context, _ verb.TimeCommits) (verb.Timed, error) { return x.TimeCommits(ctx) }))
	}
	if x, ok := a.engine.(engine.Scheduler); ok {
		add(without[verb.Events](x.Events))
	}
	if x, ok := a.engine.(engine.Seeder); ok {
		add(actLong(func(ctx context.Context, c verb.Seed, p engine.Progress) error {
			if err := a.learnAccount(ctx, c.Source); err != nil {
				return err
			}
			return x.Seed(ctx, c, p)
		}))
		add(actLong(func(ctx context.Context, _ verb.Verify, p engine.Progress) error { return x.Verify(ctx, p) }))
	}
	if x, ok := a.engine.(engine.Fitter); ok {
		add(ask(x.Fit))
	}
	add(ask(a.leave))
	if x, ok := a.engine.(engine.Settler); ok {
		add(without[verb.Settle](x.Settle))
	}
	if x, ok := a.engine.(engine.Rewinder); ok {
		add(actLong(func(ctx context.Context, c verb.Rewind, p engine.Progress) error {
			if err := a.learnAccount(ctx, c.Source); err != nil {
				return err
			}
			return x.Rewind(ctx, c, p)
		}))
	}
	if x, ok := a.engine.(engine.Salvager); ok {
		add(askLong(func(ctx context.Context, c verb.Salvage, p engine.Progress) (tail.Tail, error) {
			return a.salvage(ctx, x, c, p)
		}))
	}
	if x, ok := a.engine.(engine.Comparer); ok {
		a.addComparer(add, x)
	}
	return m
}

func (a *Agent) addComparer(add func(verb.Name, handler), x engine.Comparer) {
	add(ask(func(ctx context.Context, c verb.Hold) (verb.Held, error) {
		if err := a.jobs.void(ctx, verb.Sums{}.Verb()); err != nil {
			return verb.Held{}, err
		}
		return x.Hold(ctx, c.Seconds)
	}))
	add(act(func(ctx context.Context, c verb.Snapshot) error {
		if err := a.jobs.void(ctx, verb.Sums{}.Verb()); err != nil {
			return err
		}
		return x.Snapshot(ctx, c)
	}))
	add(without[verb.Release](x.Release))
	add(without[verb.Forget](x.Forget))
	add(ask(x.Rows))
	add(askLong(func(ctx context.Context, _ verb.Sums, p engine.Progress) ([]verb.TableSum, error) {
		return x.Sums(ctx, p)
	}))
}

// abilities lists the verbs of the table; the agent reports them with each
// observation, so nobody asks twice.
func (a *Agent) abilities() []string {
	var out []string
	for n := range a.verbs {
		out = append(out, string(n))
	}
	slices.Sort(out)
	return out
}

func (a *Agent) mayAct(term int64) error { return a.memory.get().Guard.MayAct(term) }

// serveVerb refuses acts of an older term before anything else (invariant I3:
// a command of an older term has no effect), then carries out one at a time.
func (a *Agent) serveVerb(w http.ResponseWriter, r *http.Request) error {
	req, do, err := a.readRequest(r)
	if err != nil {
		return err
	}
	if err := a.mayAct(req.Term); err != nil {
		return err
	}
	name := req.call.Verb()
	if err := a.mayTouch(r, name); err != nil {
		return err
	}
	if err := a.keepDecision(req.Decision); err != nil {
		return err
	}
	a.log.Info("verb", "verb", name, "operation", req.Operation, "step", req.Step, "term", req.Term)
	if verb.Long(name) {
		return a.serveLong(w, req, do, agentapi.PermitOf(r.Context()))
	}
	if _, note := req.call.(verb.Note); note {
		// Noted before its turn comes: what runs under an older term ends by it.
		if err := a.note(req.Term); err != nil {
			return err
		}
	}
	ctx, done, err := a.acts.begin(r.Context(), req.Term)
	if err != nil {
		return err
	}
	defer done()
	// Once more in its turn: a newer term may have arrived meanwhile.
	if err := a.mayAct(req.Term); err != nil {
		return err
	}
	result, err := do(ctx, req, nil)
	var stale guard.StaleTermError
	if errors.As(context.Cause(ctx), &stale) {
		return stale // whatever came of it counts for nothing
	}
	if err != nil {
		a.log.Warn("verb failed", "verb", name, "operation", req.Operation, "step", req.Step, "error", err)
		return err
	}
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	return answer(w, agentapi.Answer{Result: raw})
}

func (a *Agent) readRequest(r *http.Request) (req request, do handler, err error) {
	if err := decode(r.Body, &req.Envelope); err != nil {
		return req, nil, err
	}
	name := verb.Name(r.PathValue("verb"))
	do, ok := a.verbs[name]
	if !ok {
		return req, nil, agentapi.Problem{Title: "Unknown verb",
			Detail: fmt.Sprintf("%s's agent cannot do %q", a.cfg.Server, name), Status: http.StatusNotFound,
			Code: agentapi.CodeBadInput}
	}
	if req.call, err = verb.Read(name, req.Args); err != nil {
		return req, nil, agentapi.Problem{Title: "Unreadable", Detail: err.Error(), Status: http.StatusBadRequest,
			Code: agentapi.CodeBadInput}
	}
	return req, do, nil
}

func (a *Agent) serveLong(w http.ResponseWriter, req request, do handler, permit string) error {
	job, busy, err := a.jobs.start(req.key(), req.call.Verb(), req.Term, a.mayAct,
		func(ctx context.Context, p engine.Progress) (any, error) {
			return do(agentapi.WithPermit(ctx, permit), req, p)
		})
	if err != nil {
		return err
	}
	if busy {
		return agentapi.Problem{Title: "Busy agent",
			Detail: fmt.Sprintf("%s's agent is still at work on %s for operation step %s", a.cfg.Server, job.Kind, job.Key),
			Status: http.StatusConflict, Code: agentapi.CodeBusy}
	}
	return answer(w, agentapi.Answer{Job: &job})
}

// start opens a database. For writes only with a term that this server owns:
// the decision is on disk before the data is opened.
func (a *Agent) start(ctx context.Context, c verb.Start, term int64) (any, error) {
	if c.As != observation.Primary {
		return nil, a.engine.Start(ctx, observation.Replica)
	}
	return nil, a.open(term, func() error { return a.engine.Start(ctx, observation.Primary) })
}

// open makes this server the owner of a term, where fencing is off, and opens its database
// for writes. With fencing on it is the owner already, by a permission that runs.
func (a *Agent) open(term int64, do func() error) error {
	if err := a.permission.own(term); err != nil {
		return err
	}
	if err := a.memory.get().Guard.MayOpen(term); err != nil {
		return err
	}
	a.setOpening(true)
	defer a.setOpening(false)
	if err := a.memory.change(func(s *state) error { s.Opening = s.Fencing; return nil }); err != nil {
		return err
	}
	return do()
}

// promote accepts the term on disk first. A server that has an unfinished copy
// or rewind is never promoted.
func (a *Agent) promote(ctx context.Context, c verb.Promote, term int64) (any, error) {
	if u := a.memory.Unfinished(); u != "" {
		return nil, fmt.Errorf("%s may not be promoted: a %s was interrupted on it", a.cfg.Server, u)
	}
	if c.Server != a.cfg.Server {
		return nil, agentapi.Problem{Title: "Another server",
			Detail: fmt.Sprintf("the promotion is for %q and this is the agent of %q", c.Server, a.cfg.Server),
			Status: http.StatusConflict, Code: agentapi.CodeBadInput}
	}
	return nil, a.open(term, func() error { return a.engine.Promote(ctx) })
}

// mark writes a mark for the term. Only the owner may: a mark says whose
// history this is.
func (a *Agent) mark(ctx context.Context, _ verb.Mark, term int64) (any, error) {
	if g := a.memory.get().Guard; !g.Owner {
		return nil, fmt.Errorf("%s does not own term %d: it writes no mark", a.cfg.Server, g.Accepted)
	}
	m, err := a.engine.Mark(ctx, nonce(), term, fmt.Sprintf("term %d, %s", term, a.cfg.Server))
	if err != nil {
		return nil, err
	}
	if err := a.engine.Close(); err != nil {
		return nil, err
	}
	return m, a.memory.change(func(s *state) error { s.Kin, s.MarkLine = m.ID, m.Line.Number; return nil })
}

// awaitMark finds a mark of the term in this server's own log: that proves that
// it shares the primary's history. What it was is looked at before, so that a
// restart meanwhile voids the proof.
func (a *Agent) awaitMark(ctx context.Context, v verb.AwaitMark, term int64) (any, error) {
	if a.memory.get().Strayed {
		return nil, fmt.Errorf("%s: %w", a.cfg.Server, errStrayed)
	}
	before := proofOf(a.look(ctx, false), term)
	if err := a.engine.FindMark(ctx, v.Mark); err != nil {
		return nil, err
	}
	return nil, a.memory.change(func(s *state) error {
		s.Kin, s.MarkLine, s.Proof = v.Mark.ID, v.Mark.Line.Number,
			before
		return nil
	})
}
