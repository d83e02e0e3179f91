// Package plan makes the plans of all operations. A plan is data: checks with
// their evidence, then ordered steps, each naming the server, the verb, what
// must be true afterwards, how to undo it and what happens if it fails. The
// same value is printed by a preview, stored in the journal and carried out by
// the runner, so what runs is what was shown.
//
// One step may be the point of no return. Before it, a failure undoes the
// steps that were done, in reverse order, and the old primary is primary
// again. From it on, an operation goes forward only.
package plan

import (
	"fmt"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// The kinds of operation.
const (
	Seed       = "seed"
	Switchover = "switchover"
	Failover   = "failover"
	Rejoin     = "rejoin"
	Compare    = "compare"
	Salvage    = "salvage"
	Trim       = "trim"   // cut off the oldest log files
	Set        = "set"    // change a setting
	Follow     = "follow" // have a replica follow another server
)

// Request is what somebody asked for.
type Request struct {
	Kind    string `json:"kind"`
	To      string `json:"to,omitempty"`     // candidate of a role change
	Server  string `json:"server,omitempty"` // server to seed or to rejoin
	Way     string `json:"way,omitempty"`    // of a rejoin: follow, rewind or rebuild
	Replace bool   `json:"replace,omitempty"`
	// Setting and Value are what a set changes; Trim is what a trim removes.
	Setting string       `json:"setting,omitempty"`
	Value   string       `json:"value,omitempty"`
	Trim    *TrimRequest `json:"trim,omitempty"`
	// ConfirmStopped names servers that a person vouches to be off for good,
	// because their agents cannot be reached.
	ConfirmStopped []string `json:"confirm_stopped,omitempty"`
	// Compare adds a comparison of all data to the proof.
	Compare bool `json:"compare,omitempty"`
	// ConfirmName is the cluster's or server's name, typed by whoever asks for
	// something that loses data.
	ConfirmName string `json:"confirm_name,omitempty"`
}

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

// Probe is one try of the replication account from one host to another server.
type Probe struct {
	From, To string
	Result   verb.ProbeResult
}

// Input is what plans are made from.
type Input struct {
	View    view.View
	Members []view.Member
	Probes  []Probe
	// Examination of the server that is to rejoin.
	Examination *verb.Examination
	// LogFiles are the primary's, for a trim.
	LogFiles []verb.LogFile
	// NextTerm is the term that a role change would open.
	NextTerm int64
	Request  Request
	// Busy is the operation that already runs on this cluster.
	Busy *view.Running
}

// Make makes the plan for a request. An error is a request that makes no
// sense (an unknown name, a wrong role); what is merely not possible now is a
// failed check in the plan.
func Make(in Input) (*Plan, error) {
	for _, n := range append([]string{in.Request.To, in.Request.Server}, in.Request.ConfirmStopped...) {
		if n != "" && in.member(n) == nil {
			return nil, fmt.Errorf("cluster %s has no server %q: its servers are %s", in.View.Cluster, n, in.names())
		}
	}
	p := &Plan{Kind: in.Request.Kind, Cluster: in.View.Cluster, Engine: in.View.Engine, Term: in.View.Term,
		Primary: in.View.Primary, Request: in.Request, Checks: []Check{}, Steps: []Step{}, Effects: []string{}}
	if in.Busy != nil {
		p.AddCheck(Check{Name: "one operation at a time", Result: Fail,
			Evidence: fmt.Sprintf("operation %d (%s) is under way on %s", in.Busy.ID, in.Busy.Kind, in.View.Cluster),
			Why:      "two operations on one cluster would undo each other's steps",
			Mend:     fmt.Sprintf("wait for it: crosstwin operation follow %d; or give it up: crosstwin operation cancel %d", in.Busy.ID, in.Busy.ID)})
		p.Summary = "Not possible now."
		return p, nil // what else is seen now is half done
	}
	var err error
	switch in.Request.Kind {
	case Seed:
		err = in.seed(p)
	case Switchover:
		err = in.switchover(p)
	case Failover:
		err = in.failover(p)
	case Rejoin:
		err = in.rejoin(p)
	case Compare:
		err = in.compare(p)
	case Salvage:
		err = in.salvage(p)
	case Trim:
		err = in.trim(p)
	case Set:
		err = in.set(p)
	case Follow:
		err = in.repoint(p)
	default:
		err = fmt.Errorf("there is no operation %q: the kinds are seed, switchover, failover, rejoin, compare, salvage, trim, set and follow", in.Request.Kind)
	}
	if err != nil {
		return nil, err
	}
	return p, nil
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

func (in *Input) member(name string) *view.Member {
	for i := range in.Members {
		if in.Members[i].Name == name {
			return &in.Members[i]
		}
	}
	return nil
}

func (in *Input) names() string {
	s := ""
	for i, m := range in.Members {
		if i > 0 {
			s += ", "
		}
		s += m.Name
	}
	return s
}

// peer gives what other agents need to know of a server.
func (in *Input) peer(name string) verb.Peer {
	m := in.member(name)
	if m == nil {
		return verb.Peer{Name: name}
	}
	p := verb.Peer{Name: name, Agent: m.Agent}
	if m.Last != nil {
		p.Host, p.Port = m.Last.Address.Host, m.Last.Address.Port
	}
	return p
}

// seen tells whether a server's agent answered for this plan.
func (in *Input) seen(name string) bool {
	s := in.View.Find(name)
	m := in.member(name)
	return s != nil && m != nil && m.Last != nil && m.Problem == "" && s.Health != view.Unseen
}

// replicas gives the names of all servers but one that answer as replicas.
func (in *Input) replicas(but ...string) []string {
	var out []string
next:
	for _, m := range in.Members {
		for _, b := range but {
			if m.Name == b {
				continue next
			}
		}
		if in.seen(m.Name) && m.Last.Accepting && m.Last.Role == observation.Replica {
			out = append(out, m.Name)
		}
	}
	return out
}
