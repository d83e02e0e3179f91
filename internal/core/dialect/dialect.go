// Package dialect holds all that differs by engine above the agent: the order
// of steps, the settings that matter and why, what an applier waits for, the
// words for steps and statements. One file holds one engine. Everything else is
// the same plan over the same verbs; nothing above names an engine.
package dialect

import (
	"maps"
	"slices"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
)

// Dialect is one engine as plans and views need to know it.
type Dialect struct {
	Engine string // as in records and on the wire
	Label  string // for people

	// Slots: a primary keeps log for each replica by a reservation. Otherwise it
	// keeps log by time and size, whoever needs it.
	Slots bool
	// InPlace: a primary becomes a replica without a restart, and an upstream is
	// set on a running server. Otherwise it is set while the server is stopped.
	InPlace bool
	// Checkpoints: a stop and a rewind are helped by a checkpoint beforehand.
	Checkpoints bool
	// Settles: data of a crashed server is brought to a clean stop before its
	// tail is read. Otherwise the tail is read from the log files alone.
	Settles bool
	// EncryptsRunning: a running server can be told to take encrypted connections.
	// Otherwise it does so from its next start on.
	EncryptsRunning bool
	// Events: the server runs statements by its own timetable.
	Events bool
	// WaitsForMany: commits can wait for any number of replicas, which are named. AnyAcknowledges:
	// they wait for one, whichever it is.
	WaitsForMany, AnyAcknowledges bool
	// Dumps: a replica can be seeded by statements.
	Dumps bool
	// Coordinates: bytes of log are counted by places in log files; positions
	// themselves count transactions.
	Coordinates bool
	// CancelsQueries: replay cancels queries that are in its way.
	CancelsQueries bool
	// ManyHosts: clients are told of several servers, and find the one that takes writes.
	ManyHosts bool
	// RemovesLogByAge: the server removes log by itself after a time.
	RemovesLogByAge bool

	connect map[Format]func(Target) string

	// Near is how far a candidate may be behind before the pause begins.
	Near position.Distance
	// Pause is the expected write pause of a switchover in seconds, from the
	// measured floor of the bare server commands.
	Pause float64

	// Tunables are the settings that an operation may change on a running server,
	// with what they trade. RestartsApplying are those whose change stops a
	// replica's applier for a moment.
	Tunables         map[string]string
	RestartsApplying []string
	// Reasons say of each setting that has to agree why it matters at a role
	// change.
	Reasons map[string]string
	// FirstWrite is the setting that makes the first write of a new primary wait
	// for replicas; Off is its harmless value, and Mend how it is set.
	FirstWrite struct{ Setting, Off, Mend string }
	// ReadOnly is the setting that makes the sessions of a server read-only, although it is
	// open for writes.
	ReadOnly struct{ Setting, Off, Mend string }
	// Resume is the statement that resumes applying; Shut closes a replica that is open for
	// writes, where an engine has such.
	Resume, Shut string
	// ShutStopped says how a person closes a server that is stopped.
	ShutStopped string
	// CopiesConfig: a copy brings the source's configuration along.
	CopiesConfig bool
	// Copy looks for what a copy of a server would bring along, or lack.
	Copy func(source Subject) []operation.Check
	// Limits are settings that a replica may not set lower than its primary.
	Limits []string
	// DropCertificate is how a server is made to show no certificate of the service's.
	DropCertificate string
	// DropOne is how the account %[1]s of one server is dropped.
	DropOne string
	// OpenByDefault is how a server that left is made to start open again;
	// DropSlot is the statement that drops the slot %s, DropAccount how the
	// replication account and what belongs to it is removed.
	OpenByDefault, DropSlot, DropAccount string

	// Title returns the titles of steps whose words differ.
	Title Titles
	// Check returns the checks of one server's own settings and contents; Pair
	// those that compare a server with the primary.
	Check func(Subject) []operation.Check
	Pair  func(s, primary Subject) []operation.Check
	// Waits says what an applier waits for, from the server's own words.
	Waits func(o *observation.Server) (w cause.Wait, share float64, text string)
}

// Titles are the words for steps that differ by engine.
type Titles struct {
	Stop   func(old string) string
	Prove  func(old, candidate string) string
	Rewind func(server, fork string) string
	Verify func(server string) string
}

// Subject is a server that is checked.
type Subject struct {
	Name    string
	Cluster string
	Members int // of the cluster
	// Leads: it is the primary or may become it.
	Leads bool
	Seen  *observation.Server
}

var dialects = map[string]*Dialect{position.EnginePostgres: postgres(), position.EngineMariaDB: mariadb()}

// Of returns an engine's dialect; that of the first engine for an unknown name,
// which nothing can enrol.
func Of(engine string) *Dialect {
	if d := dialects[engine]; d != nil {
		return d
	}
	return dialects[position.EnginePostgres]
}

// Engines lists the names of all engines.
func Engines() []string { return slices.Sorted(maps.Keys(dialects)) }

// Default is the engine of a cluster for which none was named.
const Default = position.EnginePostgres
