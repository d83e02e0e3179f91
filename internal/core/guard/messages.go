package guard

// Event is what a machine is told; Effect is what it wants done, in this order. Both
// hold no I/O: the process around a machine delivers and carries out.
type (
	Event  interface{ event() }
	Effect interface{ effect() }
)

// Nonce is a number that one agent's process gave out once. Whoever brings it back
// has heard that process after it was issued.
type Nonce struct {
	Process string `json:"process"`
	Number  int64  `json:"number"`
}

// Question names a question of one process, so that an answer to another one, or to
// an earlier process, is not taken for its own.
type Question struct {
	Process string `json:"process"`
	Number  int64  `json:"number"`
}

// From the service to an agent.
type (
	// Ask tells the newest term, asks how the agent stands, and brings a grant.
	Ask struct {
		Question Question `json:"question"`
		Term     int64    `json:"term"`
		Grant    *Grant   `json:"grant,omitempty"`
	}
	// Grant is the service's permission for the owner of a term, from the nonce's issue.
	Grant struct {
		Term  int64 `json:"term"`
		Nonce Nonce `json:"nonce"`
	}
	// Promote makes the agent's server the owner of a new term.
	Promote struct {
		Question Question `json:"question"`
		Term     int64    `json:"term"`
		Nonce    Nonce    `json:"nonce"`
		Set      []string `json:"set"` // who has to pledge in this term
	}
	// StandDown asks the owner of an earlier term to stop, and to prove it.
	StandDown struct {
		Question Question `json:"question"`
		Term     int64    `json:"term"`
		Final    bool     `json:"final,omitempty"` // ownership is given up
	}
	// SetRank makes a server one that never leads, or one that may.
	SetRank struct {
		Question Question `json:"question"`
		Term     int64    `json:"term"`
		Never    bool     `json:"never"`
		// Votes: one that never leads, and is new or lost its state, counts from now on: it
		// knows the newest term by this message.
		Votes bool `json:"votes,omitempty"`
	}
)

// From an agent to the service.
type (
	// Answer says how an agent stands, with a fresh nonce.
	Answer struct {
		Server   string   `json:"server"`
		Question Question `json:"question"`
		Nonce    Nonce    `json:"nonce"`
		State    State    `json:"state"`
		Set      []string `json:"set,omitempty"` // of the accepted term, when it owns that
		Never    bool     `json:"never,omitempty"`
		Lost     bool     `json:"lost,omitempty"` // it has no vote
		// Pledged is how long its pledge still runs: the owner of the term asks for one
		// only while its database commits. Writes: the owner said that it may write.
		Pledged Time `json:"pledged,omitempty"`
		Writes  bool `json:"writes,omitempty"`
	}
	// Proof says that a server that stood down cannot acknowledge anything.
	Proof struct {
		Server   string   `json:"server"`
		Question Question `json:"question"`
		Term     int64    `json:"term"`
	}
)

// Between agents.
type (
	// PledgeAsk is the owner's question to one of its set.
	PledgeAsk struct {
		Question Question `json:"question"`
		From     string   `json:"from"`
		Term     int64    `json:"term"`
		Writes   bool     `json:"writes"` // a permission of the owner's still runs
	}
	// Pledge is the promise not to be promoted for V.
	Pledge struct {
		Question Question `json:"question"`
		From     string   `json:"from"`
		Term     int64    `json:"term"`
	}
)

// Between an agent and the deadman beside it; the clock is one.
type (
	// Hold tells the deadman the ends that count from now on.
	Hold struct {
		Number int64 `json:"number"`
		Ends   Ends  `json:"ends"`
	}
	// Held says that the deadman keeps to them.
	Held struct {
		Number int64 `json:"number"`
		Ends   Ends  `json:"ends"`
	}
	// DeadmanGone says that no deadman answers.
	DeadmanGone struct{}
)

// DatabaseState is what the database can do.
type DatabaseState int

// States of a database.
const (
	DatabaseStopped DatabaseState = iota
	DatabaseShut                  // it runs, and takes no writes
	DatabaseOpening               // a promotion is under way
	DatabaseOpen                  // it can acknowledge writes
)

// From the process around a machine.
type (
	// DatabaseIs says how the database was seen just now. Commits is the answer of a probe
	// that has to commit; for a database that is not open it says that it answers.
	DatabaseIs struct {
		State   DatabaseState
		Commits bool
	}
	// Tick lets time pass.
	Tick struct{}
)

func (Ask) event()         {}
func (Promote) event()     {}
func (StandDown) event()   {}
func (SetRank) event()     {}
func (Answer) event()      {}
func (Proof) event()       {}
func (PledgeAsk) event()   {}
func (Pledge) event()      {}
func (Hold) event()        {}
func (Held) event()        {}
func (DeadmanGone) event() {}
func (DatabaseIs) event()  {}
func (Tick) event()        {}

// What a machine wants done.
type (
	// Persist puts an agent's state on disk, synced, before the effects after it.
	Persist struct{ Durable Durable }
	// Record puts the term and its owner into the service's records, synced.
	Record struct{ Decided Decided }
	// Send delivers a message, which may be lost. To is a server, "" the service.
	Send struct {
		To      string
		Message Event
	}
	// TellDeadman brings a Hold to the deadman.
	TellDeadman struct{ Hold Hold }
	// Open lets the database take writes: the shell promotes or opens it.
	Open struct{ Term int64 }
	// Kill stops a database that is open or opening, whatever it does, and goes on
	// until it has stopped.
	Kill struct{}
)

func (Persist) effect()     {}
func (Record) effect()      {}
func (Send) effect()        {}
func (TellDeadman) effect() {}
func (Open) effect()        {}
func (Kill) effect()        {}
