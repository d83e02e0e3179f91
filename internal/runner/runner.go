// Package runner carries out plans. It takes one step at a time: it journals
// that the step begins, calls the agent, looks at the servers until the step's
// conditions hold (never trusting the verb's own "ok"), and journals that the
// step is done. What is in the journal is on disk, so after a crash of the
// service a new runner finds where the old one stood.
//
// Invariants:
//
//   - Before the point of no return a failure undoes what was done, in reverse
//     order. From it on an operation only goes forward.
//   - A step in doubt (journalled as begun, not as done) is carried out again:
//     every verb is idempotent.
//   - An operation whose term is not the newest any more can change nothing:
//     the agents refuse its verbs.
package runner

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
	"crosstwin/internal/store"
)

// Journal is what the runner needs of the records.
type Journal interface {
	Operation(ctx context.Context, id int64) (operation.Operation, error)
	// StartStep records before as well, if it is not nil: both stand there, or neither.
	StartStep(ctx context.Context, id int64, seq int, title string, noReturn bool, before *operation.StepEnd) error
	EndStep(ctx context.Context, id int64, e operation.StepEnd) error
	SetProgress(ctx context.Context, id int64, seq int, p operation.Progress) error
	SetUndoing(ctx context.Context, id int64, why string) error
	SetTerm(ctx context.Context, id, term int64) error
	EndOperation(ctx context.Context, id int64, outcome operation.Outcome, message string, pause float64) error
	Cancelled(ctx context.Context, id int64) bool
	// Reopen has an operation that ended go on. It fails with store.ErrTaken or
	// store.ErrNotFound when that is not its turn any more.
	Reopen(ctx context.Context, id int64) error
	Note(ctx context.Context, id int64, seq *int, level, text string) error
}

// Servers reaches the agents.
type Servers interface {
	Observe(ctx context.Context, cluster, server string) (*observation.Server, error)
	Do(ctx context.Context, cluster, server string, r agentapi.Request) (agentapi.Answer, error)
	StopJob(ctx context.Context, cluster, server, key string) error
}

// Local carries out the calls of the service itself. It returns the result and,
// for a call that opened a newer term, that term; 0 otherwise.
type Local func(ctx context.Context, op *operation.Operation, c verb.Call) (result any, term int64, err error)

// Runner carries out operations.
type Runner struct {
	Journal Journal
	Servers Servers
	Local   map[verb.Name]Local
	Log     *slog.Logger
	// Changed is told whenever the records of an operation have changed.
	Changed func(op int64)
	// Killpoint, when set, is told of every boundary that a crash could hit;
	// tests end the process there.
	Killpoint func(kind operation.Kind, step, where string)
}

// reachPatience is how long a step before the point of no return tries to
// reach an agent.
const reachPatience = 10 * time.Second

// Run carries out an operation from where its journal stands to its end. resumed
// says that a service took it over from another process.
func (r *Runner) Run(ctx context.Context, id int64, resumed bool) error {
	op, err := r.Journal.Operation(ctx, id)
	if err != nil {
		return err
	}
	e := &execution{Runner: r, op: &op, anew: map[int]int{}}
	at := e.next()
	if op.State == operation.Undoing {
		e.note(nil, "warn", "the service was restarted while this was being undone: continuing")
		return e.undo(ctx, at, errors.New(op.Message))
	}
	if resumed {
		if op.Plan.UndoOnRestart && !op.PastReturn && at < op.Plan.NoReturnStep() && at < len(op.Steps) {
			why := fmt.Errorf("the service was restarted before the point of no return, at step %d (%s)", at+1,
				op.Plan.Steps[at].Title)
			e.note(nil, "warn", why.Error())
			return e.undo(ctx, at, why)
		}
		at = op.Plan.ResumeAt(at)
		e.note(nil, "warn", fmt.Sprintf("the service was restarted: continuing with step %d of %d", min(at+1, len(op.Steps)),
			len(op.Steps)))
	}
	return e.forward(ctx, at)
}

var errCancelled = errors.New("it was cancelled")

// execution is one operation being carried out.
type execution struct {
	*Runner
	op         *operation.Operation
	passedOver []string
	anew       map[int]int // how often a step's failure had it go back
}

// next returns the first step that is not done.
func (e *execution) next() int {
	for i, s := range e.op.Steps {
		if s.State != operation.StepDone && s.State != operation.StepPassedBy {
			return i
		}
	}
	return len(e.op.Steps)
}

func (e *execution) note(seq *int, level, text string) {
	e.Log.Info("operation", "operation", e.op.ID, "kind", e.op.Kind, "cluster", e.op.Cluster, "note", text)
	if err := e.Journal.Note(context.Background(), e.op.ID, seq, level, text); err != nil {
		e.Log.Error("the journal cannot be written", "operation", e.op.ID, "error", err)
	}
	e.changed()
}

func (e *execution) changed() {
	if e.Changed != nil {
		e.Changed(e.op.ID)
	}
}

func (e *execution) killpoint(step, where string) {
	if e.Killpoint != nil {
		e.Killpoint(e.op.Kind, step, where)
	}
}

func (e *execution) forward(ctx context.Context, at int) error {
	p := &e.op.Plan
	// That a step is done is written with the beginning of the next one: each time the records
	// are written takes milliseconds, also while writes pause.
	var done *operation.StepEnd
	cancelled := func(i int) error {
		if done != nil {
			if err := e.Journal.EndStep(ctx, e.op.ID, *done); err != nil {
				return err
			}
		}
		return e.undo(ctx, i-1, errCancelled)
	}
	for i := at; i < len(p.Steps); i++ {
		s := &p.Steps[i]
		if i < p.NoReturnStep() && i > 0 && !e.op.PastReturn && e.Journal.Cancelled(ctx, e.op.ID) {
			return cancelled(i)
		}
		noReturn := i == p.NoReturnStep()
		switch err := e.Journal.StartStep(ctx, e.op.ID, i, s.Title, noReturn && !e.op.PastReturn, done); {
		case errors.Is(err, store.ErrCancelled):
			return cancelled(i)
		case err != nil:
			return err
		}
		done = nil
		e.op.PastReturn = e.op.PastReturn || noReturn
		e.changed()
		e.killpoint(s.Name, "before")
		seen, err := e.step(ctx, i, s)
		e.killpoint(s.Name, "after")
		if ctx.Err() != nil {
			return ctx.Err() // the service stops: the next one goes on from the journal
		}
		if err == nil {
			done = &operation.StepEnd{Seq: i, State: operation.StepDone, Seen: seen, Text: "done: " + s.Title + sep(seen),
				Facts: e.op.Facts}
			continue
		}
		next, over, err := e.failed(ctx, i, seen, err)
		if over {
			return err
		}
		i = next - 1
	}
	if done != nil {
		if err := e.Journal.EndStep(ctx, e.op.ID, *done); err != nil {
			return err
		}
	}
	if len(e.passedOver) > 0 {
		return e.end(ctx, operation.OutcomeNeedsYou,
			fmt.Sprintf("all steps ran, %d failed: %s", len(e.passedOver), strings.Join(e.passedOver, "; ")))
	}
	return e.end(ctx, operation.OutcomeFinished, e.closing())
}

// failed journals that a step failed, and says with which one it goes on; over: it does not, and
// what came of it is err.
func (e *execution) failed(ctx context.Context, i int, seen string, failure error) (next int, over bool, err error) {
	p := &e.op.Plan
	s := &p.Steps[i]
	state := operation.StepFailed
	if s.OnFail == operation.GoOn {
		state = operation.StepPassedBy
		e.passedOver = append(e.passedOver, s.Title+": "+failure.Error())
	}
	if err := e.Journal.EndStep(ctx, e.op.ID, operation.StepEnd{Seq: i, State: state, Seen: seen, Problem: failure.Error(),
		Text: "failed: " + s.Title + ": " + failure.Error(), Facts: e.op.Facts}); err != nil {
		return 0, true, err
	}
	e.changed()
	if e.anew[i] < s.Anew {
		e.anew[i]++
		from := p.ResumeAt(i)
		e.note(&i, "warn", fmt.Sprintf("trying again from step %d (%s): %d of at most %d times", from+1, p.Steps[from].Title,
			e.anew[i], s.Anew))
		return from, false, nil
	}
	switch s.OnFail {
	case operation.GoOn:
		return i + 1, false, nil
	case operation.Undo:
		return 0, true, e.undo(ctx, i, fmt.Errorf("%s: %w", s.Title, failure))
	}
	return 0, true, e.end(ctx, operation.OutcomeNeedsYou, fmt.Sprintf("step %d, %s, failed: %v. Result: %s", i+1, s.Title,
		failure, s.IfFails))
}

func sep(seen string) string {
	if seen == "" {
		return ""
	}
	return " (" + seen + ")"
}

// closing is what a finished operation says, with the measured pause.
func (e *execution) closing() string {
	return strings.NewReplacer(operation.PausePlace, words.Span(e.pause()), operation.CommitsPlace,
		commitTimes(e.op)).Replace(e.op.Plan.Closing) + e.op.NotCompared()
}

// commitTimes says what commits took before and after, behind a semicolon; nothing where that was
// not measured.
func commitTimes(op *operation.Operation) string {
	var before, after verb.Timed
	had, err1 := op.ReadFact(verb.Fact{Kind: verb.FactTimed, Of: "before"}, &before)
	has, err2 := op.ReadFact(verb.Fact{Kind: verb.FactTimed, Of: "after"}, &after)
	switch {
	case err1 != nil || err2 != nil || !has:
		return ""
	case !had:
		return "; a small commit takes " + words.Short(after.Median)
	}
	return fmt.Sprintf("; a small commit takes %s, and took %s before", words.Short(after.Median),
		words.Short(before.Median))
}

// pause is how long writes paused as the journal saw it: from the beginning of
// the first step inside the pause to the end of the last.
func (e *execution) pause() float64 {
	op, err := e.Journal.Operation(context.Background(), e.op.ID)
	if err != nil {
		return 0
	}
	var began, ended *time.Time
	for i, s := range op.Steps {
		if e.op.Plan.Steps[i].InPause && s.StartedAt != nil && s.EndedAt != nil {
			if began == nil {
				began = s.StartedAt
			}
			ended = s.EndedAt
		}
	}
	if began == nil {
		return 0
	}
	return ended.Sub(*began).Seconds()
}

func (e *execution) end(ctx context.Context, outcome operation.Outcome, message string) error {
	e.Log.Info("operation ended", "operation", e.op.ID, "outcome", outcome, "message", message)
	err := e.Journal.EndOperation(ctx, e.op.ID, outcome, message, e.pause())
	e.changed()
	return err
}

// begunAlready reports whether the point of no return has taken effect although
// the journal does not know: a journal from a backup may be older than what the
// servers did. Then nothing may be undone.
func (e *execution) begunAlready(ctx context.Context) bool {
	n := e.op.Plan.NoReturnStep()
	if n == len(e.op.Plan.Steps) || len(e.op.Plan.Steps[n].After) == 0 {
		return false
	}
	s := &e.op.Plan.Steps[n]
	_, missing := e.look(ctx, n, s, s.After)
	return missing == ""
}

// undo puts back steps from at down to the first, in reverse order. Once the
// point of no return has begun, by the journal or by what the servers show,
// nothing is undone: the operation goes forward instead.
func (e *execution) undo(ctx context.Context, at int, why error) error {
	if e.op.State != operation.Undoing && (e.op.PastReturn || e.begunAlready(ctx)) {
		n := e.op.Plan.NoReturnStep()
		e.note(nil, "warn",
			fmt.Sprintf("%v; the point of no return (step %d, %s) has taken effect already, so nothing is undone", why, n+1,
				e.op.Plan.Steps[n].Title))
		return e.forward(ctx, n)
	}
	if e.op.State != operation.Undoing {
		if err := e.Journal.SetUndoing(ctx, e.op.ID, why.Error()); err != nil {
			return err
		}
		e.op.State = operation.Undoing
	}
	e.changed()
	steps := e.op.Plan.Steps
	for i := min(at, len(steps)-1); i >= 0; i-- {
		if len(steps[i].Undo) == 0 {
			continue
		}
		e.killpoint("undo-"+steps[i].Name, "before")
		if title, err := e.undoStep(ctx, i); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return e.end(ctx, operation.OutcomeNeedsYou, fmt.Sprintf("%v. Undoing it failed at %q: %v", why, title, err))
		}
	}
	for i := 0; i <= min(at, len(steps)-1); i++ {
		if steps[i].Gone != "" {
			return e.end(ctx, operation.OutcomeNeedsYou, fmt.Sprintf("%v; what can be was undone, but %s", why, steps[i].Gone))
		}
	}
	return e.end(ctx, operation.OutcomeUndone, why.Error())
}

// undoPatience bounds the time for undoing one step.
const undoPatience = 2 * time.Minute

// undoStep carries out what undoes one step: steps of their own, in order. An
// agent that cannot be reached is tried again.
func (e *execution) undoStep(ctx context.Context, i int) (title string, err error) {
	ctx, cancel := context.WithTimeout(ctx, undoPatience)
	defer cancel()
	for j := range e.op.Plan.Steps[i].Undo {
		u := &e.op.Plan.Steps[i].Undo[j]
		e.note(&i, "info", "undoing: "+u.Title)
		for {
			if _, err = e.step(ctx, i, u); err == nil {
				break
			}
			var far agentapi.Unreachable
			if !errors.As(err, &far) {
				return u.Title, err
			}
			select {
			case <-ctx.Done():
				return u.Title, err
			case <-time.After(time.Second):
			}
		}
	}
	title = e.op.Plan.Steps[i].Undo[0].Title
	return title, e.Journal.EndStep(ctx, e.op.ID, operation.StepEnd{Seq: i, State: operation.StepUndone,
		Text: "undone: " + e.op.Plan.Steps[i].Title})
}

// step carries out one step and waits until its conditions hold. One whose Skip
// holds already has nothing to do.
func (e *execution) step(ctx context.Context, i int, s *operation.Step) (seen string, err error) {
	limit, cancel := context.WithTimeout(ctx, time.Duration(s.Limit*float64(time.Second)))
	defer cancel()
	if len(s.Skip) > 0 {
		if seen, missing := e.look(limit, i, s, s.Skip); missing == "" {
			return "nothing to do: " + seen, nil
		}
	}
	if s.Tries > 1 {
		return e.stepTried(limit, i, s)
	}
	if !s.Call.IsZero() {
		if err := e.actUntil(limit, i, s); err != nil {
			return "", err
		}
	}
	return e.await(limit, i, s)
}

// stepTried makes a call again whose effect did not last.
func (e *execution) stepTried(ctx context.Context, i int, s *operation.Step) (seen string, err error) {
	patience := min(s.PatienceSeconds, s.Limit/float64(s.Tries+1))
	for try := 1; ; try++ {
		if err := e.actUntil(ctx, i, s); err != nil {
			return "", err
		}
		soon, cancel := context.WithTimeout(ctx, time.Duration(patience*float64(time.Second)))
		seen, err = e.await(soon, i, s)
		waited := soon.Err() != nil // else it was given up for another reason, such as a cancellation
		cancel()
		if err == nil || !waited || ctx.Err() != nil || try == s.Tries {
			return seen, err
		}
		e.note(&i, "warn", fmt.Sprintf("not so, or not for long (%v): trying once more", err))
	}
}

// triesPastReturn is how often a verb that fails is tried again where the
// operation can only go forward.
const triesPastReturn = 4

// actUntil calls the step's verb. An agent that cannot be reached is tried
// again for a while; a failing verb only where there is no way back.
func (e *execution) actUntil(ctx context.Context, i int, s *operation.Step) error {
	began, tries := time.Now(), 0
	for {
		call, err := e.filled(s)
		if err != nil {
			return err
		}
		answer, err := e.act(ctx, s.Name, s.Server, call)
		if err == nil && answer.Job != nil {
			err = e.follow(ctx, i, s, answer.Job.Key)
			if err == errJobLost {
				e.note(&i, "warn", "the agent was restarted during this step: asking again")
				continue
			}
			if err != nil {
				return err
			}
			return nil
		}
		if err == nil {
			return e.keep(s, answer.Result)
		}
		tries++
		var far agentapi.Unreachable
		var p agentapi.Problem
		isFar := errors.As(err, &far)
		stale := errors.As(err, &p) && p.Code == agentapi.CodeStaleTerm
		forwardOnly := s.OnFail == operation.NeedsYou
		if stale || !isFar && !(forwardOnly && tries < triesPastReturn) || isFar && !forwardOnly &&
			time.Since(began) > reachPatience {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// filled returns a step's call with the facts that earlier steps kept for it.
func (e *execution) filled(s *operation.Step) (verb.Call, error) {
	call := s.Call.Call
	for _, f := range s.Needs {
		value, ok := e.op.Facts[f.String()]
		if !ok {
			return nil, fmt.Errorf("%q was not kept by an earlier step", f)
		}
		var err error
		if call, err = call.(verb.Taker).Take(f, value); err != nil {
			return nil, err
		}
	}
	return call, nil
}

func (e *execution) keep(s *operation.Step, result json.RawMessage) error {
	if s.Keep.IsZero() {
		return nil
	}
	if len(result) == 0 || string(result) == "null" {
		return fmt.Errorf("%s yielded no result", s.Title)
	}
	e.op.Facts[s.Keep.String()] = result
	return nil
}

// act makes one call, to the service itself or to an agent.
func (e *execution) act(ctx context.Context, step, server string, call verb.Call) (agentapi.Answer, error) {
	local, ok := e.Local[call.Verb()]
	if !ok {
		return e.Servers.Do(ctx, e.op.Cluster, server,
			agentapi.Request{Operation: e.op.ID, Step: step, Term: e.op.Term, Call: call})
	}
	result, term, err := local(ctx, e.op, call)
	if err != nil {
		return agentapi.Answer{}, err
	}
	if term > e.op.Term {
		if err := e.Journal.SetTerm(ctx, e.op.ID, term); err != nil {
			return agentapi.Answer{}, err
		}
		e.op.Term = term
	}
	raw, err := json.Marshal(result)
	return agentapi.Answer{Result: raw}, err
}

var errJobLost = errors.New("the agent does not know the job any more")

// pollJob is how often a long verb's progress is asked for.
const pollJob = 300 * time.Millisecond

// follow waits for a job, recording its progress.
func (e *execution) follow(ctx context.Context, i int, s *operation.Step, key string) error {
	var last operation.Progress
	for {
		o, err := e.Servers.Observe(ctx, e.op.Cluster, s.Server)
		switch {
		case err != nil && ctx.Err() != nil:
			return fmt.Errorf("%s took longer than its limit of %.0f s", s.Title, s.Limit)
		case err != nil: // not reachable now: the job goes on there
		case o.Job == nil || o.Job.Key != key:
			return errJobLost
		case o.Job.State == observation.JobFailed:
			return errors.New(o.Job.Error)
		case o.Job.State == observation.JobFinished:
			raw, err := json.Marshal(o.Job.Result)
			if err != nil {
				return err
			}
			return e.keep(s, raw)
		default:
			p := operation.Progress{Note: o.Job.Note, DoneBytes: o.Job.DoneBytes, TotalBytes: o.Job.TotalBytes,
				BytesPerSec: o.Job.BytesPerSec, SecondsLeft: o.Job.SecondsLeft}
			if p != last {
				last = p
				e.Journal.SetProgress(ctx, e.op.ID, i, p)
				e.changed()
			}
		}
		if i < e.op.Plan.NoReturnStep() && e.Journal.Cancelled(ctx, e.op.ID) {
			e.Servers.StopJob(ctx, e.op.Cluster, s.Server, key)
			return errCancelled
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s took longer than its limit of %.0f s", s.Title, s.Limit)
		case <-time.After(pollJob):
		}
	}
}
