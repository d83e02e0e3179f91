package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// request is a verb as it arrives.
type request struct {
	Operation int64           `json:"operation"`
	Step      string          `json:"step"`
	Term      int64           `json:"term"`
	Args      json.RawMessage `json:"args"`
}

func (r request) key() string { return fmt.Sprintf("%d/%s", r.Operation, r.Step) }

// args decodes a verb's arguments.
func args[T any](r request) (T, error) {
	var v T
	if len(r.Args) == 0 || string(r.Args) == "null" {
		return v, nil
	}
	if err := json.Unmarshal(r.Args, &v); err != nil {
		return v, agentapi.Problem{Title: "Unreadable", Detail: "the arguments cannot be read: " + err.Error(), Status: http.StatusBadRequest, Code: agentapi.CodeBadInput}
	}
	return v, nil
}

// serveVerb refuses acts of an older term before anything else (invariant I3:
// a command of an older term has no effect), then carries out one at a time.
func (a *Agent) serveVerb(w http.ResponseWriter, r *http.Request) error {
	var req request
	if err := decode(r.Body, &req); err != nil {
		return err
	}
	name := r.PathValue("verb")
	if err := a.mayAct(req.Term); err != nil {
		return err
	}
	a.log.Info("verb", "verb", name, "operation", req.Operation, "step", req.Step, "term", req.Term)
	if kind, long := a.longVerbs()[name]; long {
		job, busy, err := a.jobs.start(req.key(), name, req.Term, a.mayAct, func(ctx context.Context, p engine.Progress) (any, error) { return kind(ctx, req, p) })
		if err != nil {
			return err
		}
		if busy {
			return agentapi.Problem{Title: "The agent is busy", Detail: fmt.Sprintf("%s's agent is still at work on %s for operation step %s", a.cfg.Server, job.Kind, job.Key), Status: http.StatusConflict, Code: agentapi.CodeBusy}
		}
		return answer(w, agentapi.Answer{Job: &job})
	}
	do, ok := a.shortVerbs()[name]
	if !ok {
		return agentapi.Problem{Title: "Unknown verb", Detail: "this agent does not know the verb " + name, Status: http.StatusNotFound, Code: agentapi.CodeBadInput}
	}
	if name == verb.Note {
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
	result, err := do(ctx, req)
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

func (a *Agent) mayAct(term int64) error { return a.memory.get().Guard.MayAct(term) }

type shortVerb func(ctx context.Context, r request) (any, error)

// withArgs adapts a typed verb without a result.
func withArgs[T any](do func(ctx context.Context, v T) error) shortVerb {
	return func(ctx context.Context, r request) (any, error) {
		v, err := args[T](r)
		if err != nil {
			return nil, err
		}
		return nil, do(ctx, v)
	}
}

func (a *Agent) shortVerbs() map[string]shortVerb {
	none := func(do func(context.Context) error) shortVerb {
		return func(ctx context.Context, _ request) (any, error) { return nil, do(ctx) }
	}
	m := map[string]shortVerb{
		verb.Note:       none(a.jobs.settled), // serveVerb noted the term
		verb.Start:      a.start,
		verb.Stop:       none(a.engine.Stop),
		verb.Fence:      withArgs(func(ctx context.Context, v verb.FenceArgs) error { return a.fence(ctx, v.Gently) }),
		verb.Promote:    a.promote,
		verb.Follow:     withArgs(a.engine.Follow),
		verb.Slots:      withArgs(a.engine.Slots),
		verb.Checkpoint: none(a.engine.Checkpoint),
		verb.Mark:       a.mark,
		verb.AwaitMark:  withArgs(a.awaitMark),
	}
	if x, ok := a.engine.(engine.Accounter); ok {
		m[verb.Prepare] = withArgs(func(ctx context.Context, v verb.PrepareArgs) error { return a.prepare(ctx, x, v) })
		m[verb.Account] = withArgs(func(ctx context.Context, v verb.PrepareArgs) error { return a.learnAccount(ctx, v.From) })
		m[verb.Probe] = func(ctx context.Context, r request) (any, error) {
			v, err := args[verb.ProbeArgs](r)
			if err != nil {
				return nil, err
			}
			acc, err := a.account()
			if err != nil {
				return verb.ProbeResult{Problem: err.Error()}, nil
			}
			return x.Probe(ctx, v.Peer, acc), nil
		}
	}
	if x, ok := a.engine.(engine.LogKeeper); ok {
		m[verb.Trim] = withArgs(x.Trim)
	}
	if x, ok := a.engine.(engine.Tuner); ok {
		m[verb.Set] = withArgs(x.Set)
	}
	if x, ok := a.engine.(engine.Scheduler); ok {
		m[verb.Events] = none(x.Events)
	}
	if x, ok := a.engine.(engine.Rewinder); ok {
		m[verb.Settle] = none(x.Settle)
	}
	if x, ok := a.engine.(engine.Comparer); ok {
		m[verb.Hold] = func(ctx context.Context, r request) (any, error) {
			v, err := args[verb.HoldArgs](r)
			if err != nil {
				return nil, err
			}
			if err := a.jobs.void(ctx, verb.Sums); err != nil {
				return nil, err
			}
			return x.Hold(ctx, v.Seconds)
		}
		m[verb.Snapshot] = func(ctx context.Context, r request) (any, error) {
			v, err := args[verb.SnapshotArgs](r)
			if err != nil {
				return nil, err
			}
			if err := a.jobs.void(ctx, verb.Sums); err != nil {
				return nil, err
			}
			return nil, x.Snapshot(ctx, v)
		}
		m[verb.Release] = none(x.Release)
		m[verb.Forget] = none(x.Forget)
		m[verb.Rows] = func(ctx context.Context, r request) (any, error) {
			v, err := args[verb.RowsArgs](r)
			if err != nil {
				return nil, err
			}
			return x.Rows(ctx, v)
		}
	}
	return m
}

type longVerb func(ctx context.Context, r request, p engine.Progress) (any, error)

func (a *Agent) longVerbs() map[string]longVerb {
	m := map[string]longVerb{}
	if x, ok := a.engine.(engine.Seeder); ok {
		m[verb.Seed] = func(ctx context.Context, r request, p engine.Progress) (any, error) {
			v, err := args[verb.SeedArgs](r)
			if err != nil {
				return nil, err
			}
			if err := a.learnAccount(ctx, v.Source); err != nil {
				return nil, err
			}
			return nil, x.Seed(ctx, v, p)
		}
		m[verb.Verify] = func(ctx context.Context, _ request, p engine.Progress) (any, error) { return nil, x.Verify(ctx, p) }
	}
	if x, ok := a.engine.(engine.Rewinder); ok {
		m[verb.Rewind] = func(ctx context.Context, r request, p engine.Progress) (any, error) {
			v, err := args[verb.RewindArgs](r)
			if err != nil {
				return nil, err
			}
			if err := a.learnAccount(ctx, v.Source); err != nil {
				return nil, err
			}
			return nil, x.Rewind(ctx, v, p)
		}
	}
	if x, ok := a.engine.(engine.Salvager); ok {
		m[verb.Salvage] = func(ctx context.Context, r request, p engine.Progress) (any, error) {
			v, err := args[verb.SalvageArgs](r)
			if err != nil {
				return nil, err
			}
			return a.salvage(ctx, x, v, p)
		}
	}
	if x, ok := a.engine.(engine.Comparer); ok {
		m[verb.Sums] = func(ctx context.Context, _ request, p engine.Progress) (any, error) { return x.Sums(ctx, p) }
	}
	return m
}

// start opens a database. For writes only with a term that this server owns:
// the decision is on disk before the data is opened.
func (a *Agent) start(ctx context.Context, r request) (any, error) {
	v, err := args[verb.StartArgs](r)
	if err != nil {
		return nil, err
	}
	if v.As != "primary" {
		return nil, a.engine.Start(ctx, "replica")
	}
	if err := a.accept(r.Term, true); err != nil {
		return nil, err
	}
	if err := a.memory.get().Guard.MayOpen(r.Term); err != nil {
		return nil, err
	}
	a.setOpening(true)
	defer a.setOpening(false)
	return nil, a.engine.Start(ctx, "primary")
}

// promote accepts the term on disk first. A server that has an unfinished copy
// or rewind is never promoted.
func (a *Agent) promote(ctx context.Context, r request) (any, error) {
	if u := a.memory.Unfinished(); u != "" {
		return nil, fmt.Errorf("%s may not be promoted: a %s broke off on it", a.cfg.Server, u)
	}
	v, err := args[verb.PromoteArgs](r)
	if err != nil {
		return nil, err
	}
	if v.Server != a.cfg.Server {
		return nil, agentapi.Problem{Title: "Another server", Detail: fmt.Sprintf("the promotion is for %q and this is the agent of %q", v.Server, a.cfg.Server), Status: http.StatusConflict, Code: agentapi.CodeBadInput}
	}
	if err := a.accept(r.Term, true); err != nil {
		return nil, err
	}
	a.setOpening(true)
	defer a.setOpening(false)
	return nil, a.engine.Promote(ctx)
}

// mark writes a mark for the term. Only the owner may: a mark says whose
// history this is.
func (a *Agent) mark(ctx context.Context, r request) (any, error) {
	if g := a.memory.get().Guard; !g.Owner {
		return nil, fmt.Errorf("%s does not own term %d: it writes no mark", a.cfg.Server, g.Accepted)
	}
	m, err := a.engine.Mark(ctx, nonce(), r.Term, fmt.Sprintf("term %d, %s", r.Term, a.cfg.Server))
	if err != nil {
		return nil, err
	}
	if err := a.engine.Close(); err != nil {
		return nil, err
	}
	return m, a.memory.change(func(s *state) error { s.Kin = m.ID; return nil })
}

func (a *Agent) awaitMark(ctx context.Context, v verb.AwaitMarkArgs) error {
	if err := a.engine.FindMark(ctx, v.Mark); err != nil {
		return err
	}
	return a.memory.change(func(s *state) error { s.Kin = v.Mark.ID; return nil })
}

// prepare makes sure of the replication account. The primary's agent makes it
// once; every other agent asks the primary's for it.
func (a *Agent) prepare(ctx context.Context, x engine.Accounter, v verb.PrepareArgs) error {
	acc, err := a.account()
	switch {
	case err != nil && v.Account:
		acc = newAccount()
		err = a.saveAccount(acc)
	case !v.Account:
		if err = a.learnAccount(ctx, v.From); err == nil {
			acc, err = a.account()
		}
	}
	if err != nil {
		return err
	}
	// The roles swap: whoever made the account will follow by it too.
	if err := x.Remember(acc); err != nil {
		return err
	}
	return x.Prepare(ctx, v, acc)
}

func (a *Agent) learnAccount(ctx context.Context, from verb.Peer) error {
	acc, err := a.fetchAccount(ctx, from)
	if err != nil {
		return err
	}
	if err := a.saveAccount(acc); err != nil {
		return err
	}
	if x, ok := a.engine.(engine.Accounter); ok {
		return x.Remember(acc)
	}
	return nil
}
