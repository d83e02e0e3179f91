package operation

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

// TrimRequest says how much of the primary's log is to go: one of the three, or
// none for all that nobody needs.
type TrimRequest struct {
	To         string  `json:"to,omitempty"`          // this file stays, the older ones go
	OlderHours float64 `json:"older_hours,omitempty"` // files not changed for longer go
	KeepBytes  int64   `json:"keep_bytes,omitempty"`  // the newest files of this size stay
}
