package operation

import "crosstwin/internal/core/synchronous"

// Kind is what an operation does.
type Kind string

// All kinds.
const (
	Seed       Kind = "seed"
	Switchover Kind = "switchover"
	Failover   Kind = "failover"
	Rejoin     Kind = "rejoin"
	Compare    Kind = "compare"
	Salvage    Kind = "salvage"
	Trim       Kind = "trim"   // remove the oldest log files
	Set        Kind = "set"    // change a setting
	Follow     Kind = "follow" // have a replica follow another server
	Restart    Kind = "restart"
	Encrypt    Kind = "encrypt" // have all replicas follow encrypted
	Adopt      Kind = "adopt"   // take over servers that run already
	// Synchronize: have commits wait for replicas, or for others, or for nobody.
	Synchronize Kind = "synchronize"
)

// Kinds lists all kinds of operation.
func Kinds() []Kind {
	return []Kind{Seed, Switchover, Failover, Rejoin, Compare, Salvage, Trim, Set, Follow, Restart, Encrypt,
		Adopt, Synchronize}
}

// Request is what somebody asked for.
type Request struct {
	Kind    Kind   `json:"kind"`
	To      string `json:"to,omitempty"`     // candidate of a role change
	Server  string `json:"server,omitempty"` // server to seed or to rejoin; primary to adopt
	Way     string `json:"way,omitempty"`    // of a rejoin: follow, rewind or rebuild
	Replace bool   `json:"replace,omitempty"`
	// Setting and Value are what a set changes; Trim is what a trim removes.
	Setting string       `json:"setting,omitempty"`
	Value   string       `json:"value,omitempty"`
	Trim    *TrimRequest `json:"trim,omitempty"`
	// ConfirmStopped names servers that a person has verified to be off for good,
	// because their agents cannot be reached.
	ConfirmStopped []string `json:"confirm_stopped,omitempty"`
	// StartSeconds is how long the primary may take that is started again; 0: ten minutes.
	StartSeconds float64 `json:"start_seconds,omitempty"`
	// Synchronous is what a synchronize sets.
	Synchronous *synchronous.Setting `json:"synchronous,omitempty"`
	// Compare adds a comparison of all data to the proof.
	Compare bool `json:"compare,omitempty"`
	// ConfirmName is the cluster's or server's name, typed by whoever asks for
	// something that loses data.
	ConfirmName string `json:"confirm_name,omitempty"`
}

// TrimRequest says how much of the primary's log is to go: one of the three, or
// none for all that no server needs.
type TrimRequest struct {
	To         string  `json:"to,omitempty"`          // this file stays, the older ones go
	OlderHours float64 `json:"older_hours,omitempty"` // files not changed for longer go
	KeepBytes  int64   `json:"keep_bytes,omitempty"`  // the newest files of this size stay
}
