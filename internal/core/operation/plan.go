package operation

import (
	"cmp"
	"fmt"
	"time"

	"crosstwin/internal/core/cause"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
)

// Result of a check.
type Result string

// The three results.
const (
	Pass Result = "pass"
	Warn Result = "warn"
	Fail Result = "fail"
)

// Check is one tested condition.
type Check struct {
	Name     string `json:"name"`
	Server   string `json:"server,omitempty"`
	Result   Result `json:"result"`
	Evidence string `json:"evidence"`       // what was seen
	Why      string `json:"why,omitempty"`  // why it matters
	Mend     string `json:"mend,omitempty"` // how to put it right
}

// Action is a call to a server, or to the service itself. Without a call only
// conditions are awaited.
type Action struct {
	Title  string      `json:"title"`
	Server string      `json:"server,omitempty"` // empty: the service itself
	Call   verb.Sealed `json:"call,omitzero"`
}

// OnFail is what follows when a step fails for good.
type OnFail string

// All that can follow.
const (
	Undo     OnFail = "undo"      // undo what was done
	NeedsYou OnFail = "needs you" // stop here and ask for a person
	GoOn     OnFail = "go on"     // note it and go on
)

// Step is one step of a plan. All that the runner does with it stands here: the
// runner knows no kind of operation and no name of a step.
type Step struct {
	Action
	Name string `json:"name"` // stays the same from plan to plan
	// Skip: when all of these hold already, the step has nothing to do.
	Skip []Condition `json:"skip,omitempty"`
	// After must hold before the step is done.
	After []Condition `json:"after,omitempty"`
	// Undo are the steps that put this one back, in their order.
	Undo []Step `json:"undo,omitempty"`
	// Keep names the fact that the call's result is kept as; Needs are facts that
	// earlier steps kept and this call takes.
	Keep    verb.Fact   `json:"keep,omitzero"`
	Needs   []verb.Fact `json:"needs,omitempty"`
	Seconds float64     `json:"expected_seconds"`
	Limit   float64     `json:"limit_seconds"`
	// Tries above 1: the call is made that many times, and each time After is
	// awaited for PatienceSeconds only.
	Tries           int     `json:"tries,omitempty"`
	PatienceSeconds float64 `json:"patience_seconds,omitempty"`
	// ResumeFrom names the step from which an operation goes on when the service
	// was restarted during this one; empty: this one.
	ResumeFrom string `json:"resume_from,omitempty"`
	// Anew is how often, when this step fails, the operation goes back to ResumeFrom
	// and tries from there again.
	Anew    int  `json:"anew,omitempty"`
	InPause bool `json:"in_pause"`
	// ShowsDistance: while After is awaited, what a replica still lacks is shown
	// as progress.
	ShowsDistance bool `json:"shows_distance,omitempty"`
	// NoReturn marks the point of no return: from here on forward only.
	NoReturn bool `json:"no_return"`
	// Gone says what no undo brings back once this step has begun; then a
	// failure is never called undone.
	Gone    string `json:"gone,omitempty"`
	OnFail  OnFail `json:"on_fail"`
	IfFails string `json:"if_fails"` // in words
}

// Choice says of one server why it was or was not chosen.
type Choice struct {
	Server string `json:"server"`
	Chosen bool   `json:"chosen"`
	Why    string `json:"why"`
}

// Way is one possible way of a rejoin.
type Way struct {
	Name     string `json:"name"`
	Possible bool   `json:"possible"`
	Chosen   bool   `json:"chosen"`
	Why      string `json:"why"`
}

// Loss is what an operation discards of acknowledged writes, as far as it is
// known.
type Loss struct {
	Known    bool              `json:"known"`
	Distance position.Distance `json:"distance"`
}

// Plan is everything that an operation is going to do.
type Plan struct {
	Kind    Kind   `json:"kind"`
	Cluster string `json:"cluster"`
	Engine  string `json:"engine"`
	// Term is the one that the steps run under: a new one for a role change.
	Term int64 `json:"term"`
	// OwnerTerm and Primary are the decision that the plan rests on.
	OwnerTerm int64    `json:"owner_term"`
	Primary   string   `json:"primary"`
	Summary   string   `json:"summary"`
	Effects   []string `json:"effects"` // what happens to each server, and what may be lost
	Candidate string   `json:"candidate,omitempty"`
	Target    string   `json:"target,omitempty"`
	Request   Request  `json:"request"`
	Checks    []Check  `json:"checks"`
	Steps     []Step   `json:"steps"`
	Choices   []Choice `json:"choices,omitempty"`
	Ways      []Way    `json:"ways,omitempty"`
	// UndoOnRestart: a restart of the service before the point of no return
	// undoes the operation instead of going on with it.
	UndoOnRestart bool `json:"undo_on_restart,omitempty"`
	// Closing is what the finished operation says; PausePlace in it stands for
	// the measured write pause.
	Closing string `json:"closing,omitempty"`
	// PauseSeconds is the expected write pause.
	PauseSeconds float64 `json:"pause_seconds"`
	// Destroys says which data the plan discards; then a name has to be typed.
	// Loss is the same as a figure, where acknowledged writes are lost.
	Destroys    string `json:"destroys,omitempty"`
	Loss        *Loss  `json:"loss,omitempty"`
	ConfirmName string `json:"confirm_name,omitempty"`
	// Covered: nothing that was acknowledged can be missing, because enough of the replicas that
	// commits waited for take part, by the lists that are Promised.
	Covered  bool               `json:"covered,omitempty"`
	Promised []synchronous.List `json:"promised,omitempty"`
	// Decided: no person asked for it.
	Decided     *Decided          `json:"decided,omitempty"`
	Examination *verb.Examination `json:"examination,omitempty"`
}

// Evidence is one thing that was seen when an operation was decided without a person.
type Evidence struct {
	At       time.Time   `json:"at"`
	By       string      `json:"by"` // who saw it
	Of       string      `json:"of"` // which server it is about
	Seen     cause.Cause `json:"seen"`
	Position string      `json:"position,omitempty"` // what By's server held
	Text     string      `json:"text"`               // Seen in words
}

// Decided says why an operation was begun without a person, and what was seen.
type Decided struct {
	Why      cause.Cause `json:"why"`
	Text     string      `json:"text"` // Why in words
	Evidence []Evidence  `json:"evidence"`
	// LastGood is when the primary was last looked at and seen to take writes (a failover).
	LastGood time.Time `json:"last_good,omitzero"`
}

// StartsAgain reports whether a crashed primary is started where it is, without a person.
func (p *Plan) StartsAgain() bool {
	return p.Decided != nil && p.Kind == Failover && p.Candidate == p.Primary
}

// PausePlace stands in a closing sentence for the measured write pause.
const PausePlace = "{pause}"

// CommitsPlace stands there for what commits took before and after.
const CommitsPlace = "{commits}"

// Refused reports whether a check failed, and returns the first reason.
func (p *Plan) Refused() (string, bool) {
	for _, c := range p.Checks {
		if c.Result == Fail {
			text := c.Evidence
			if c.Mend != "" {
				text += "; " + c.Mend
			}
			return text, true
		}
	}
	return "", false
}

// NoReturnStep returns the index of the point of no return, or the number of
// steps when there is none (then every failure can be undone or left).
func (p *Plan) NoReturnStep() int {
	for i := range p.Steps {
		if p.Steps[i].NoReturn {
			return i
		}
	}
	return len(p.Steps)
}

// ResumeAt returns the step from which an operation goes on that stood before
// step i when the service was restarted.
func (p *Plan) ResumeAt(i int) int {
	if i < len(p.Steps) && p.Steps[i].ResumeFrom != "" {
		for j := range p.Steps[:i] {
			if p.Steps[j].Name == p.Steps[i].ResumeFrom {
				return j
			}
		}
	}
	return i
}

// Opens reports whether the plan opens its term.
func (p *Plan) Opens() bool {
	for _, s := range p.Steps {
		if c, ok := s.Call.Call.(verb.OpenTerm); ok && c.Term == p.Term {
			return true
		}
	}
	return false
}

// AddCheck adds a check.
func (p *Plan) AddCheck(c Check) { p.Checks = append(p.Checks, c) }

// defaultLimit bounds a step, in seconds.
const defaultLimit = 30

// AddStep adds a step. What follows its failure depends on where it stands:
// before the point of no return it is undone.
func (p *Plan) AddStep(s Step) {
	s.Limit = cmp.Or(s.Limit, defaultLimit)
	for i := range s.Undo {
		s.Undo[i].Limit, s.Undo[i].OnFail = cmp.Or(s.Undo[i].Limit, defaultLimit), NeedsYou
	}
	if s.OnFail == "" {
		s.OnFail = Undo
		if p.NoReturnStep() < len(p.Steps) {
			s.OnFail = NeedsYou
		}
	}
	p.Steps = append(p.Steps, s)
}

// NeedsYouFrom has a person look at a failure of the steps from one on: they
// prove, and undoing the work before them would help nobody.
func (p *Plan) NeedsYouFrom(step int) {
	for i := step; i < len(p.Steps); i++ {
		p.Steps[i].OnFail = NeedsYou
	}
}

// Validate finds what no plan may have: a fact that no earlier step keeps or
// that a call does not take, a condition without a test, a name that stands
// twice, an undo past the point of no return. It is a fault of the program.
func (p *Plan) Validate() error {
	kept := map[verb.Fact]bool{}
	names := map[string]bool{}
	for i, s := range p.Steps {
		fault := func(format string, args ...any) error {
			return fmt.Errorf("step %d (%s) of the %s plan: %s", i+1, s.Name, p.Kind, fmt.Sprintf(format, args...))
		}
		if names[s.Name] {
			return fault("the name stands twice")
		}
		names[s.Name] = true
		if s.ResumeFrom != "" && !names[s.ResumeFrom] {
			return fault("it goes on from %q, which no earlier step is called", s.ResumeFrom)
		}
		for _, f := range s.Needs {
			taker, ok := s.Call.Call.(verb.Taker)
			if !ok {
				return fault("%s takes no facts", s.Call.Name())
			}
			if _, err := taker.Take(f, nil); err != nil {
				return fault("%v", err)
			}
			if !kept[f] {
				return fault("no earlier step keeps %q", f)
			}
		}
		for _, c := range append(append([]Condition{}, s.After...), s.Skip...) {
			if !c.Known() || c.Server == "" {
				return fault("condition %+v", c)
			}
			if !c.Fact.IsZero() && !kept[c.Fact] {
				return fault("no earlier step keeps %q for its condition", c.Fact)
			}
		}
		if !s.Keep.IsZero() {
			if !verb.KeepsFact(s.Call.Call, s.Keep.Kind) {
				return fault("%s yields no %q", s.Call.Name(), s.Keep.Kind)
			}
			kept[s.Keep] = true
		}
		if i >= p.NoReturnStep() && s.OnFail == Undo {
			return fault("it is past the point of no return and would be undone")
		}
	}
	return nil
}
