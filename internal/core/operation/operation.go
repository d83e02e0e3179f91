package operation

import (
	"encoding/json"
	"time"
)

// The states of an operation and the outcomes of an ended one.
const (
	Running = "running"
	Undoing = "undoing"
	Ended   = "ended"

	OutcomeRefused  = "refused"
	OutcomeUndone   = "undone"
	OutcomeFinished = "finished"
	OutcomeNeedsYou = "needs you"
)

// The states of a step.
const (
	StepWaiting  = "waiting"
	StepRunning  = "running"
	StepDone     = "done"
	StepFailed   = "failed"
	StepUndone   = "undone"
	StepPassedBy = "passed over" // failed, and the operation went on
)

// Operation is one operation with its plan and steps.
type Operation struct {
	ID           int64                      `json:"id"`
	Cluster      string                     `json:"cluster"`
	Kind         string                     `json:"kind"`
	State        string                     `json:"state"`
	Outcome      string                     `json:"outcome,omitempty"`
	Term         int64                      `json:"term"`
	Plan         Plan                       `json:"plan"`
	Facts        map[string]json.RawMessage `json:"facts,omitempty"`
	AskedBy      string                     `json:"asked_by"`
	AskedFrom    string                     `json:"asked_from"`
	Message      string                     `json:"message,omitempty"`
	PauseSeconds float64                    `json:"pause_seconds"`
	Cancelled    bool                       `json:"cancelled"`
	CreatedAt    time.Time                  `json:"created_at"`
	EndedAt      *time.Time                 `json:"ended_at,omitempty"`
	Steps        []StepRecord               `json:"steps"`
	Journal      []Entry                    `json:"journal,omitempty"`
}

// StepState is how far one step of the plan has come.
type StepRecord struct {
	Seq       int        `json:"seq"`
	State     string     `json:"state"`
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

// Entry is one line of an operation's journal.
type Entry struct {
	ID    int64     `json:"id"`
	At    time.Time `json:"at"`
	Seq   *int      `json:"seq,omitempty"`
	Level string    `json:"level"`
	Text  string    `json:"text"`
}
