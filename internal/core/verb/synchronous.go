package verb

import "crosstwin/internal/core/synchronous"

// Synchronize has the commits of a server wait for a list of replicas, from when it is primary;
// the zero List for nobody. Standbys are the names under which those of the list connect, in
// its order.
type Synchronize struct {
	List     synchronous.List `json:"list"`
	Standbys []string         `json:"standbys,omitempty"`
	// Adopt: what somebody set by hand gives way.
	Adopt bool `json:"adopt,omitempty"`
}

// TimeCommits measures how long small commits take on a primary.
type TimeCommits struct{}

// Timed is what came of that.
type Timed struct {
	Commits int     `json:"commits"`
	Median  float64 `json:"median_seconds"`
}

// Promise records what is promised of acknowledged writes, and how the cluster is set (service).
type Promise struct {
	Setting  *synchronous.Setting `json:"setting,omitempty"` // nil: stays
	Promised []synchronous.List   `json:"promised"`
	// Add: what is promised already stays.
	Add bool `json:"add,omitempty"`
}

// Verb implements Call.
func (Synchronize) Verb() Name { return "synchronize" }

// Verb implements Call.
func (TimeCommits) Verb() Name { return "time-commits" }

// Verb implements Call.
func (Promise) Verb() Name { return "promise" }

// Yields implements Asks.
func (TimeCommits) Yields() (r Timed) { return r }
