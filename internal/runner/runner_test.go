package runner

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/store"
)

// fake stands for the agents, so that every failure can be had at will. The
// records are real.
type fake struct {
	mu      sync.Mutex
	calls   []string
	fail    map[string]error // by verb@server; one that is transient is taken out by itself
	once    map[string]bool
	down    map[string]bool // conditions that do not hold yet, by server
	jobs    map[string]*observation.Job
	marks   map[string]string
	upAfter int // how often a server has to be started until it stays up
	answers map[string]json.RawMessage
}

func newFake() *fake {
	return &fake{fail: map[string]error{}, once: map[string]bool{}, down: map[string]bool{},
		jobs: map[string]*observation.Job{}, marks: map[string]string{}, answers: map[string]json.RawMessage{}}
}

func (f *fake) Observe(_ context.Context, _, server string) (*observation.Server, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	o := &observation.Server{Process: observation.Process{Running: true, Accepting: true, Role: observation.Replica},
		Log:  observation.Log{Applied: "0/5000000", Kin: f.marks[server]},
		Data: observation.Data{ClosedByDefault: !f.down[server]}, Job: f.jobs[server]}
	return o, nil
}

func (f *fake) Do(_ context.Context, _, server string, r agentapi.Request) (agentapi.Answer, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	key := label(r.Call) + "@" + server
	f.calls = append(f.calls, fmt.Sprintf("%s#%d", key, r.Term))
	if err := f.fail[key]; err != nil {
		if f.once[key] {
			delete(f.fail, key)
		}
		return agentapi.Answer{}, err
	}
	switch c := r.Call.(type) {
	case verb.Salvage:
		key := fmt.Sprintf("%d/%s", r.Operation, r.Step)
		if f.jobs[server] == nil || f.jobs[server].Key != key {
			f.jobs[server] = &observation.Job{Key: key, State: observation.JobFinished, Result: "copied"}
		}
		return agentapi.Answer{Job: f.jobs[server]}, nil
	case verb.Start:
		if f.upAfter--; f.upAfter <= 0 {
			delete(f.down, server)
		}
	case verb.AwaitMark:
		f.marks[server] = c.Mark.ID
	}
	return agentapi.Answer{Result: f.answers[key]}, nil
}

func (f *fake) StopJob(context.Context, string, string, string) error { return nil }

// named stands for any call: the tests tell its uses apart by a name.
func named(name string) verb.Sealed { return verb.Seal(verb.Follow{Slot: name}) }

func label(c verb.Call) string {
	if f, ok := c.(verb.Follow); ok {
		return f.Slot
	}
	return string(c.Verb())
}

// act is a step that has a call and an undo.
func act(name, server string, change func(*operation.Step)) operation.Step {
	undo := operation.Step{Action: operation.Action{Title: "undo " + name, Server: server, Call: named("undo-" + name)},
		Limit: 2}
	s := operation.Step{Name: name, Action: operation.Action{Title: name, Server: server, Call: named(name)}, Limit: 2,
		OnFail: operation.Undo, IfFails: "x", Undo: []operation.Step{undo}}
	if change != nil {
		change(&s)
	}
	return s
}

func noReturn(s *operation.Step)    { s.NoReturn, s.OnFail, s.Undo = true, operation.NeedsYou, nil }
func forwardOnly(s *operation.Step) { s.OnFail, s.Undo = operation.NeedsYou, nil }

type bench struct {
	t  *testing.T
	st *store.Store
	f  *fake
	r  *Runner
}

func newBench(t *testing.T) *bench {
	st, err := store.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	f := newFake()
	if _, err := st.AddCluster(t.Context(), "bookings", position.EnginePostgres); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(st.OpenTerm(t.Context(), "bookings", 1, 0),
		st.Decide(t.Context(), "bookings", 1, "gull")); err != nil {
		t.Fatal(err)
	}
	return &bench{t, st, f, &Runner{Journal: st, Servers: f, Log: slog.New(slog.DiscardHandler),
		Local: map[verb.Name]Local{}}}
}

func (b *bench) run(kind operation.Kind, resumed bool, before func(id int64),
	steps ...operation.Step) operation.Operation {
	b.t.Helper()
	p := &operation.Plan{Kind: kind, Cluster: "bookings", Engine: position.EnginePostgres, Term: 2, OwnerTerm: 1,
		Primary: "gull", Candidate: "tern", Steps: steps, UndoOnRestart: kind == operation.Switchover}
	id, err := b.st.AddOperation(b.t.Context(), p, "somebody", "here")
	if err != nil {
		b.t.Fatal(err)
	}
	if before != nil {
		before(id)
	}
	if err := b.r.Run(b.t.Context(), id, resumed); err != nil {
		b.t.Fatal(err)
	}
	op, err := b.st.Operation(b.t.Context(), id)
	if err != nil {
		b.t.Fatal(err)
	}
	return op
}

func (b *bench) called(want ...string) {
	b.t.Helper()
	if got := strings.Join(b.f.calls, " "); got != strings.Join(want, " ") {
		b.t.Errorf("called\n%s, want\n%s", got, strings.Join(want, " "))
	}
}

func TestForward(t *testing.T) {
	b := newBench(t)
	mark := verb.Fact{Kind: verb.FactMark}
	b.f.answers["mark@tern"] = json.RawMessage(`{"id":"m1","at":"0/4000000"}`)
	op := b.run(operation.Switchover, false, nil, act("a", "gull", nil), act("b", "tern", noReturn),
		act("c", "tern", func(s *operation.Step) {
			forwardOnly(s)
			s.Call, s.Keep = verb.Seal(verb.Mark{}), mark
		}),
		act("d", "heron", func(s *operation.Step) {
			forwardOnly(s)
			s.Call, s.Needs = verb.Seal(verb.AwaitMark{}), []verb.Fact{mark}
			s.After = []operation.Condition{{Kind: operation.HasMark, Server: "heron", Fact: mark},
				{Kind: operation.HasPassed, Server: "heron", Fact: mark}}
		}))
	if op.Outcome != operation.OutcomeFinished || op.State != operation.Ended || op.EndedAt == nil {
		t.Errorf("%+v", op)
	}
	b.called("a@gull#2", "b@tern#2", "mark@tern#2", "await-mark@heron#2")
	for i, s := range op.Steps {
		if s.State != operation.StepDone || s.StartedAt == nil || s.EndedAt == nil {
			t.Errorf("step %d: %+v", i, s)
		}
	}
	if len(op.Journal) != 9 || !strings.HasPrefix(op.Journal[0].Text, "starting: a") ||
		!strings.HasPrefix(op.Journal[8].Text, "finished:") {
		t.Errorf("journal %+v", op.Journal)
	}
}

// A failure before the point of no return puts back what was done, in reverse
// order, the failed step included: it may have been half done.
func TestUndo(t *testing.T) {
	b := newBench(t)
	b.f.fail["c@gull"] = errors.New("the disk is on fire")
	op := b.run(operation.Switchover, false, nil, act("a", "gull", nil),
		act("b", "tern", func(s *operation.Step) { s.Undo = nil }), act("c", "gull", nil), act("d", "tern", noReturn))
	if op.Outcome != operation.OutcomeUndone || !strings.Contains(op.Message, "the disk is on fire") {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
	b.called("a@gull#2", "b@tern#2", "c@gull#2", "undo-c@gull#2", "undo-a@gull#2")
	if op.Steps[0].State != operation.StepUndone || op.Steps[3].State != operation.StepWaiting {
		t.Errorf("%+v", op.Steps)
	}
}

// A step that fails has the operation go back, as often as its plan says, before it counts
// as failed.
func TestAnew(t *testing.T) {
	back := func(s *operation.Step) { s.ResumeFrom, s.Anew = "b", 2 }
	for _, once := range []bool{true, false} {
		b := newBench(t)
		b.f.fail["d@tern"], b.f.once["d@tern"] = errors.New("too late"), once
		op := b.run(operation.Compare, false, nil, act("a", "gull", nil), act("b", "gull", nil), act("c", "tern", nil),
			act("d", "tern", back))
		if once {
			b.called("a@gull#2", "b@gull#2", "c@tern#2", "d@tern#2", "b@gull#2", "c@tern#2", "d@tern#2")
			if op.Outcome != operation.OutcomeFinished {
				t.Errorf("%s: %s", op.Outcome, op.Message)
			}
			continue
		}
		b.called("a@gull#2", "b@gull#2", "c@tern#2", "d@tern#2", "b@gull#2", "c@tern#2", "d@tern#2", "b@gull#2", "c@tern#2",
			"d@tern#2", "undo-d@tern#2", "undo-c@tern#2", "undo-b@gull#2", "undo-a@gull#2")
		if op.Outcome != operation.OutcomeUndone || !strings.Contains(op.Message, "too late") {
			t.Errorf("%s: %s", op.Outcome, op.Message)
		}
	}
}

// What was thrown away is not put back, and nobody says so.
func TestUndoOfWhatIsGone(t *testing.T) {
	b := newBench(t)
	b.f.fail["b@tern"] = errors.New("the network is down")
	op := b.run(operation.Seed, false, nil, act("a", "gull", nil),
		act("b", "tern", func(s *operation.Step) { s.Gone = "the old data is gone" }))
	if op.Outcome != operation.OutcomeNeedsYou || !strings.Contains(op.Message, "the network is down") ||
		!strings.Contains(op.Message, "the old data is gone") {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
	b.called("a@gull#2", "b@tern#2", "undo-b@tern#2", "undo-a@gull#2")
}

func TestUndoThatFails(t *testing.T) {
	b := newBench(t)
	b.f.fail["b@tern"], b.f.fail["undo-a@gull"] = errors.New("first"), errors.New("second")
	op := b.run(operation.Switchover, false, nil, act("a", "gull", nil), act("b", "tern", nil))
	if op.Outcome != operation.OutcomeNeedsYou || !strings.Contains(op.Message, "first") ||
		!strings.Contains(op.Message, "second") {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
}

// Past the point of no return nothing is undone: a failing verb is tried
// again, and in the end a person is asked.
func TestForwardOnly(t *testing.T) {
	b := newBench(t)
	b.f.fail["b@tern"], b.f.once["b@tern"] = errors.New("not now"), true
	op := b.run(operation.Switchover, false, nil, act("a", "gull", nil), act("b", "tern", noReturn),
		act("c", "gull", forwardOnly))
	if op.Outcome != operation.OutcomeFinished {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
	b.called("a@gull#2", "b@tern#2", "b@tern#2", "c@gull#2")

	b = newBench(t)
	b.f.fail["c@gull"] = errors.New("never")
	op = b.run(operation.Switchover, false, nil, act("a", "gull", nil), act("b", "tern", noReturn),
		act("c", "gull", forwardOnly))
	if op.Outcome != operation.OutcomeNeedsYou || !strings.Contains(op.Message, "never") ||
		!strings.Contains(op.Message, "Result: x") {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
	for _, c := range b.f.calls {
		if strings.HasPrefix(c, "undo-") {
			t.Error("something was undone past the point of no return: ", c)
		}
	}
}

// An act of a term that is over is not tried again: somebody newer decides.
func TestStaleTerm(t *testing.T) {
	b := newBench(t)
	b.f.fail["b@tern"] = agentapi.Problem{Code: agentapi.CodeStaleTerm, Detail: "term 2 is over"}
	op := b.run(operation.Switchover, false, nil, act("b", "tern", noReturn))
	if op.Outcome != operation.OutcomeNeedsYou || len(b.f.calls) != 1 {
		t.Errorf("%s after %v", op.Outcome, b.f.calls)
	}
}

// The verb says "ok" and the server says otherwise: what the server shows counts.
func TestConditionDecides(t *testing.T) {
	b := newBench(t)
	b.f.down["gull"] = true
	op := b.run(operation.Switchover, false, nil, act("a", "gull", func(s *operation.Step) {
		s.Limit = 0.3
		s.After = []operation.Condition{{Kind: operation.IsClosed, Server: "gull"}}
	}))
	if op.Outcome != operation.OutcomeUndone || !strings.Contains(op.Message, "gave up after") {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
}

// A server that answered and is gone again is started once more, and not waited
// for as long as a start may take.
func TestStartedAgain(t *testing.T) {
	const tries = 3
	for upAfter, want := range map[int]operation.Outcome{1: operation.OutcomeFinished, 2: operation.OutcomeFinished,
		9: operation.OutcomeUndone} {
		b := newBench(t)
		b.f.down["gull"], b.f.upAfter = true, upAfter
		op := b.run(operation.Seed, false, nil, act("start", "gull", func(s *operation.Step) {
			s.Call, s.Tries, s.PatienceSeconds = verb.Seal(verb.Start{}), tries, 15
			s.After = []operation.Condition{{Kind: operation.IsClosed, Server: "gull"}}
		}))
		starts := 0
		for _, c := range b.f.calls {
			if strings.HasPrefix(c, "start@") {
				starts++
			}
		}
		if op.Outcome != want || starts != min(upAfter, tries) {
			t.Errorf("up after %d: %s with %d starts: %s", upAfter, op.Outcome, starts, op.Message)
		}
	}
}

// A start that is cancelled while its server does not stay up is not tried again.
func TestStartCancelled(t *testing.T) {
	b := newBench(t)
	b.f.down["gull"], b.f.upAfter = true, 9
	op := b.run(operation.Seed, false, func(id int64) {
		time.AfterFunc(200*time.Millisecond, func() { b.st.Cancel(context.Background(), id) })
	}, act("start", "gull", func(s *operation.Step) {
		s.Call, s.Tries, s.PatienceSeconds = verb.Seal(verb.Start{}), 3, 15
		s.Limit, s.After = 20, []operation.Condition{{Kind: operation.IsClosed, Server: "gull"}}
	}))
	if op.Outcome != operation.OutcomeUndone || !strings.Contains(op.Message, "it was cancelled") || len(b.f.calls) != 2 {
		t.Errorf("%s: %s after %v", op.Outcome, op.Message, b.f.calls)
	}
}

func TestGoOn(t *testing.T) {
	b := newBench(t)
	b.f.fail["b@heron"] = errors.New("heron sulks")
	op := b.run(operation.Switchover, false, nil, act("a", "tern", noReturn),
		act("b", "heron", func(s *operation.Step) { s.OnFail = operation.GoOn }), act("c", "gull", forwardOnly))
	if op.Outcome != operation.OutcomeNeedsYou || !strings.Contains(op.Message, "heron sulks") ||
		op.Steps[1].State != operation.StepPassedBy || op.Steps[2].State != operation.StepDone {
		t.Errorf("%s: %s %+v", op.Outcome, op.Message, op.Steps)
	}
}

// Where the journal stands decides how a new process goes on.
func TestResume(t *testing.T) {
	steps := func() []operation.Step {
		return []operation.Step{act("a", "gull", nil), act("b", "tern", nil), act("c", "tern", noReturn),
			act("d", "gull", forwardOnly)}
	}
	for _, c := range []struct {
		name    string
		kind    operation.Kind
		done    int // steps that are done; the next one was begun
		calls   string
		outcome operation.Outcome
	}{
		{"switchover before the point of no return", operation.Switchover, 1, "undo-b@tern#2 undo-a@gull#2",
			operation.OutcomeUndone},
		{"switchover in doubt at it", operation.Switchover, 2, "c@tern#2 d@gull#2", operation.OutcomeFinished},
		{"switchover past it", operation.Switchover, 3, "d@gull#2", operation.OutcomeFinished},
		{"failover before it", operation.Failover, 1, "b@tern#2 c@tern#2 d@gull#2", operation.OutcomeFinished},
		{"seed", operation.Seed, 1, "b@tern#2 c@tern#2 d@gull#2", operation.OutcomeFinished},
		{"rejoin", operation.Rejoin, 0, "a@gull#2 b@tern#2 c@tern#2 d@gull#2", operation.OutcomeFinished},
	} {
		b := newBench(t)
		op := b.run(c.kind, true, func(id int64) {
			for i := range c.done {
				b.st.StartStep(t.Context(), id, i, "x", false, nil)
				b.st.EndStep(t.Context(), id, operation.StepEnd{Seq: i, State: operation.StepDone, Text: "done"})
			}
			b.st.StartStep(t.Context(), id, c.done, "x", false, nil)
		}, steps()...)
		if op.Outcome != c.outcome {
			t.Errorf("%s: %s: %s", c.name, op.Outcome, op.Message)
		}
		if got := strings.Join(b.f.calls, " "); got != c.calls {
			t.Errorf("%s: called %s, want %s", c.name, got, c.calls)
		}
	}
	// Killed while it was putting back: it goes on with that.
	b := newBench(t)
	op := b.run(operation.Switchover, true, func(id int64) {
		for i := range 2 {
			b.st.StartStep(t.Context(), id, i, "x", false, nil)
			b.st.EndStep(t.Context(), id, operation.StepEnd{Seq: i, State: operation.StepDone, Text: "done"})
		}
		b.st.SetUndoing(t.Context(), id, "it broke")
		b.st.EndStep(t.Context(), id, operation.StepEnd{Seq: 1, State: operation.StepUndone, Text: "put back"})
	}, steps()...)
	if op.Outcome != operation.OutcomeUndone || op.Message != "it broke" {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
	b.called("undo-b@tern#2", "undo-a@gull#2")
}

func TestCancel(t *testing.T) {
	b := newBench(t)
	op := b.run(operation.Switchover, false, func(id int64) { b.st.Cancel(t.Context(), id) }, act("a", "gull", nil),
		act("b", "tern", nil), act("c", "tern", noReturn))
	if op.Outcome != operation.OutcomeUndone || op.Message != "it was cancelled" {
		t.Errorf("%s: %s", op.Outcome, op.Message)
	}
	b.called("a@gull#2", "undo-a@gull#2")
}

// Cancelled while a step is carried out, it is undone before the next one, or before the point of
// no return, and the journal says that the step was done before it was undone.
func TestCancelBetween(t *testing.T) {
	for _, last := range []func(*operation.Step){nil, noReturn} {
		b := newBench(t)
		b.r.Local["decide"] = func(_ context.Context, op *operation.Operation, _ verb.Call) (any, int64, error) {
			return nil, 0, b.st.Cancel(t.Context(), op.ID)
		}
		op := b.run(operation.Switchover, false, nil, act("a", "gull", nil), act("b", "", func(s *operation.Step) {
			s.Call, s.Undo = verb.Seal(verb.Decide{}), nil
		}), act("c", "tern", last))
		if op.Outcome != operation.OutcomeUndone || op.Message != "it was cancelled" ||
			op.Steps[1].State != operation.StepDone || op.Steps[2].State != operation.StepWaiting {
			t.Errorf("%s: %s; %s, %s", op.Outcome, op.Message, op.Steps[1].State, op.Steps[2].State)
		}
		b.called("a@gull#2", "undo-a@gull#2")
	}
}

// An undo that opened a newer term has the rest put back under that.
func TestUndoUnderANewerTerm(t *testing.T) {
	b := newBench(t)
	b.r.Local["open-term"] = func(_ context.Context, _ *operation.Operation, c verb.Call) (any, int64, error) {
		return nil, c.(verb.OpenTerm).Term, nil
	}
	b.f.fail["c@gull"] = errors.New("no")
	op := b.run(operation.Switchover, false, nil, act("a", "gull", nil), act("b", "tern", func(s *operation.Step) {
		s.Undo = append([]operation.Step{{Action: operation.Action{Title: "open term 3",
			Call: verb.Seal(verb.OpenTerm{Term: 3})}, Limit: 2}}, s.Undo...)
	}), act("c", "gull", func(s *operation.Step) { s.Undo = nil }))
	b.called("a@gull#2", "b@tern#2", "c@gull#2", "undo-b@tern#3", "undo-a@gull#3")
	if op.Term != 3 {
		t.Errorf("term %d", op.Term)
	}
}

// A step whose Skip holds already makes no call.
func TestSkip(t *testing.T) {
	b := newBench(t)
	closed := []operation.Condition{{Kind: operation.IsClosed, Server: "gull"}}
	op := b.run(operation.Failover, false, nil,
		act("a", "gull", func(s *operation.Step) { s.Skip, s.After = closed, closed }), act("b", "gull", nil))
	b.called("b@gull#2")
	if op.Steps[0].State != operation.StepDone || !strings.HasPrefix(op.Steps[0].Seen, "nothing to do: ") {
		t.Errorf("%+v", op.Steps[0])
	}
}

// A plan that rests on another decision than the newest one is not recorded.
func TestPlanRestsOnADecision(t *testing.T) {
	b := newBench(t)
	p := &operation.Plan{Kind: operation.Switchover, Cluster: "bookings", Term: 2, OwnerTerm: 1, Primary: "tern"}
	if _, err := b.st.AddOperation(t.Context(), p, "somebody", "here"); !errors.Is(err, store.ErrMoved) {
		t.Errorf("another owner: %v", err)
	}
	p.Primary, p.Steps = "gull", []operation.Step{{Action: operation.Action{Call: verb.Seal(verb.OpenTerm{Term: 2})}}}
	if err := b.st.OpenTerm(t.Context(), "bookings", 2, 7); err != nil {
		t.Fatal(err)
	}
	if _, err := b.st.AddOperation(t.Context(), p, "somebody", "here"); !errors.Is(err, store.ErrMoved) {
		t.Errorf("a term that another operation opened: %v", err)
	}
}

// A job that its agent forgot (the agent was restarted) is asked for again; one
// that failed there is not.
func TestJobs(t *testing.T) {
	b := newBench(t)
	b.f.jobs["tern"] = &observation.Job{Key: "another", State: observation.JobFinished}
	step := act("copy", "tern", func(s *operation.Step) {
		s.Call, s.Keep = verb.Seal(verb.Salvage{}), verb.Fact{Kind: verb.FactTail}
	})
	op := b.run(operation.Seed, false, nil, step)
	if op.Outcome != operation.OutcomeFinished || string(op.Facts["tail"]) != `"copied"` {
		t.Errorf("%s: %s %s", op.Outcome, op.Message, op.Facts)
	}
	b = newBench(t)
	b.f.jobs["tern"] = &observation.Job{Key: "1/copy", State: observation.JobFailed, Error: "disk full"}
	op = b.run(operation.Seed, false, nil, step)
	if op.Outcome != operation.OutcomeUndone || !strings.Contains(op.Message, "disk full") || len(b.f.calls) != 2 {
		t.Errorf("%s: %s %v", op.Outcome, op.Message, b.f.calls)
	}
}
