// Package operation holds what an operation is: what was asked for, the plan
// made of it, the conditions by which its steps are verified, and the journal
// of how it went. All of it is data: package plan makes plans, package runner
// carries them out, package store keeps them.
package operation

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"crosstwin/internal/core/verb"
)

// State is where an operation stands.
type State string

// The states of an operation.
const (
	Running State = "running"
	Undoing State = "undoing"
	Ended   State = "ended"
)

// Outcome is how an operation ended.
type Outcome string

// The outcomes of an ended operation.
const (
	OutcomeRefused  Outcome = "refused"   // a check failed, nothing changed
	OutcomeUndone   Outcome = "undone"    // failed early, everything undone
	OutcomeFinished Outcome = "finished"  // with its proof
	OutcomeNeedsYou Outcome = "needs you" // a person has to look
)

// StepState is where a step stands.
type StepState string

// The states of a step.
const (
	StepWaiting  StepState = "waiting"
	StepRunning  StepState = "running"
	StepDone     StepState = "done"
	StepFailed   StepState = "failed"
	StepUndone   StepState = "undone"
	StepPassedBy StepState = "passed over" // failed, and the operation went on
)

// Operation is one operation with its plan and steps.
type Operation struct {
	ID           int64                      `json:"id"`
	Cluster      string                     `json:"cluster"`
	Kind         Kind                       `json:"kind"`
	State        State                      `json:"state"`
	Outcome      Outcome                    `json:"outcome,omitempty"`
	Term         int64                      `json:"term"`
	Plan         Plan                       `json:"plan"`
	Facts        map[string]json.RawMessage `json:"facts,omitempty"`
	AskedBy      string                     `json:"asked_by"`
	AskedFrom    string                     `json:"asked_from"`
	Message      string                     `json:"message,omitempty"`
	PauseSeconds float64                    `json:"pause_seconds"`
	Cancelled    bool                       `json:"cancelled"`
	// PastReturn: the point of no return was begun; nothing is undone after that.
	PastReturn bool         `json:"past_return"`
	CreatedAt  time.Time    `json:"created_at"`
	EndedAt    *time.Time   `json:"ended_at,omitempty"`
	Steps      []StepRecord `json:"steps"`
	Journal    []Entry      `json:"journal,omitempty"`
	// Moments are those of Course, for whoever reads the operation.
	Moments []Moment `json:"moments,omitempty"`
}

// StepRecord is how far one step of the plan has come.
type StepRecord struct {
	Seq       int        `json:"seq"`
	State     StepState  `json:"state"`
	StartedAt *time.Time `json:"started_at,omitempty"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Seen      string     `json:"seen,omitempty"`
	Error     string     `json:"error,omitempty"`
	Progress  *Progress  `json:"progress,omitempty"`
}

// Progress of a long step.
type Progress struct {
	Note        string  `json:"note,omitempty"`
	DoneBytes   int64   `json:"done_bytes"`
	TotalBytes  int64   `json:"total_bytes"`
	BytesPerSec float64 `json:"bytes_per_second"`
	SecondsLeft float64 `json:"seconds_left"` // negative: not known
}

// StepEnd is how a step ended, with what was seen afterwards and, if not nil, all facts that are
// kept by then.
type StepEnd struct {
	Seq           int
	State         StepState
	Seen, Problem string
	Text          string // for the journal
	Facts         map[string]json.RawMessage
}

// Entry is one line of an operation's journal.
type Entry struct {
	ID    int64     `json:"id"`
	At    time.Time `json:"at"`
	Seq   *int      `json:"seq,omitempty"`
	Level string    `json:"level"`
	Text  string    `json:"text"`
}

// KeepFact keeps the result of a step for later ones.
func (o *Operation) KeepFact(f verb.Fact, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if o.Facts == nil {
		o.Facts = map[string]json.RawMessage{}
	}
	o.Facts[f.String()] = raw
	return nil
}

// NotCompared says what a comparison of this operation left out, behind a
// semicolon, or that there was nothing to compare; empty when it left out nothing.
func (o *Operation) NotCompared() string {
	var c verb.Comparison
	found, err := o.ReadFact(verb.Fact{Kind: verb.FactComparison}, &c)
	switch {
	case err != nil || !found:
		return ""
	case len(c.Left) == 0 && len(c.Tables) == 0:
		return "; there are no tables to compare"
	case len(c.Left) == 0:
		return ""
	}
	shown, more := c.Left, ""
	if len(shown) > maxNamed {
		shown, more = shown[:maxNamed], fmt.Sprintf(" and %d more", len(c.Left)-maxNamed)
	}
	return "; not compared: " + strings.Join(shown, ", ") + more
}

// maxNamed is how many things that were left out are named.
const maxNamed = 10

// ReadFact reads a kept result; false when there is none.
func (o *Operation) ReadFact(f verb.Fact, into any) (bool, error) {
	raw, kept := o.Facts[f.String()]
	if !kept {
		return false, nil
	}
	return true, json.Unmarshal(raw, into)
}
