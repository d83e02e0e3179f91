package operation

import "crosstwin/internal/core/verb"

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

// Action is a verb on a server.
type Action struct {
	Title  string `json:"title"`
	Server string `json:"server,omitempty"` // empty: the service itself
	Verb   string `json:"verb"`
	Args   any    `json:"args,omitempty"`
}

// What follows when a step fails for good.
const (
	Undo     = "undo"      // put back what was done
	NeedsYou = "needs you" // stop here and ask for a person
	GoOn     = "go on"     // note it and go on
)

// Step is one step of a plan.
type Step struct {
	Action
	Name  string      `json:"name"` // stays the same from plan to plan
	After []Condition `json:"after,omitempty"`
	Undo  *Action     `json:"undo,omitempty"`
	// Keep stores the verb's result under a name; Needs adds such results to
	// the arguments, under their names.
	Keep    string   `json:"keep,omitempty"`
	Needs   []string `json:"needs,omitempty"`
	Seconds float64  `json:"expected_seconds"`
	Limit   float64  `json:"limit_seconds"`
	InPause bool     `json:"in_pause"`
	// NoReturn marks the point of no return: from here on forward only.
	NoReturn bool `json:"no_return"`
	// Gone says what no undo brings back once this step has begun; then a
	// failure is never called undone.
	Gone    string `json:"gone,omitempty"`
	OnFail  string `json:"on_fail"`
	IfFails string `json:"if_fails"` // in words
}

// Choice tells of one server why it was or was not chosen.
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

// Plan is everything that an operation is going to do.
type Plan struct {
	Kind    string `json:"kind"`
	Cluster string `json:"cluster"`
	Engine  string `json:"engine"`
	// Term is the one that the steps run under: a new one for a role change.
	Term      int64    `json:"term"`
	Summary   string   `json:"summary"`
	Effects   []string `json:"effects"` // what happens to each server, and what may be lost
	Primary   string   `json:"primary"` // now
	Candidate string   `json:"candidate,omitempty"`
	Target    string   `json:"target,omitempty"`
	Request   Request  `json:"request"`
	Checks    []Check  `json:"checks"`
	Steps     []Step   `json:"steps"`
	Choices   []Choice `json:"choices,omitempty"`
	Ways      []Way    `json:"ways,omitempty"`
	// PauseSeconds is the expected write pause.
	PauseSeconds float64 `json:"pause_seconds"`
	// Destroys says which data the plan throws away; then a name has to be typed.
	Destroys    string            `json:"destroys,omitempty"`
	ConfirmName string            `json:"confirm_name,omitempty"`
	Examination *verb.Examination `json:"examination,omitempty"`
}

// Refused tells whether a check failed, and gives the first reason.
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

// NoReturnStep gives the index of the point of no return, or the number of
// steps when there is none (then every failure can be undone or left).
func (p *Plan) NoReturnStep() int {
	for i := range p.Steps {
		if p.Steps[i].NoReturn {
			return i
		}
	}
	return len(p.Steps)
}

// ResumeAt gives the step from which an operation goes on that stood before
// step i. A comparison begins again where writes were held: its views are gone
// or may stand at different positions.
func (p *Plan) ResumeAt(i int) int {
	for j := i; j >= 0 && i < len(p.Steps); j-- {
		switch name := p.Steps[j].Name; {
		case name == "hold":
			return j
		case name == "judge" && j < i:
			return i
		}
	}
	return i
}

func (p *Plan) AddCheck(c Check) { p.Checks = append(p.Checks, c) }

func (p *Plan) AddStep(s Step) {
	if s.Limit == 0 {
		s.Limit = 30
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
