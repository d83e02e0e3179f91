// Package observation holds the raw facts of one server at one moment, as its
// agent reports them. There is no opinion in it: health, lag and roles as
// judged are made from observations by package view, and nowhere else.
//
// Positions are the server's own text form, so that the types here know no
// engine. Times are the agent's clock in UTC; a reader who compares servers
// uses its own clock at receipt.
package observation

import (
	"net"
	"strconv"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/position"
)

// Role is what a server reports itself as.
type Role string

// The two roles; the empty Role is a server that does not run.
const (
	Primary Role = "primary"
	Replica Role = "replica"
)

// Server is one observation, grouped by subject.
type Server struct {
	At     time.Time `json:"at"`
	Nonce  string    `json:"nonce"` // fresh for each answer of this agent process
	Looked Looked    `json:"looked,omitzero"`
	Engine string    `json:"engine"`
	Agent  Agent     `json:"agent,omitzero"`
	// Abilities are the verbs that this agent can carry out on this server.
	Abilities []string `json:"abilities,omitempty"`
	// CertificateEnds is when the agent's certificate does.
	CertificateEnds time.Time `json:"certificate_ends,omitzero"`
	// CertificateBy is the fingerprint of the authority that signed it, Trusts those of
	// all that this agent trusts.
	CertificateBy string   `json:"certificate_by,omitempty"`
	Trusts        []string `json:"trusts,omitempty"`
	// Encryption is how others may connect to the database; nil: this agent cannot
	// tell.
	Encryption *Encryption `json:"encryption,omitempty"`
	// Synchronous is whom commits wait for; nil: not known.
	Synchronous *Synchronous `json:"synchronous,omitempty"`
	// Promise is the number of the newest change of what acknowledged writes rest on that its
	// agent has noted.
	Promise    int64       `json:"promise,omitempty"`
	Guard      guard.State `json:"guard"`
	Permission *Permission `json:"permission,omitempty"`
	// Decision is the newest that the service signed and this agent was told.
	Decision guard.Signed `json:"decision,omitzero"`
	Job      *Job         `json:"job,omitempty"`

	// Gate is what a gate shows; nil for everything else.
	Gate *Gate `json:"gate,omitempty"`

	Process Process `json:"process"`
	Data    Data    `json:"data"`
	Log     Log     `json:"log"`
	Links   Links   `json:"links"`
	Replay  Replay  `json:"replay"`
	Host    Host    `json:"host"`
	Config  Config  `json:"config"`
}

// Wire is the number of what service and agents say to each other. It is raised when one
// of an older number would be misunderstood; what is only new is told by Abilities.
const Wire = 1

// Agent is the program that looked.
type Agent struct {
	Version string `json:"version,omitempty"`
	// Wire is that of this agent; 0: not known.
	Wire int `json:"wire,omitempty"`
	// Refused are requests of the last minutes by certificates that may not make them.
	Refused []Refused `json:"refused,omitempty"`
}

// Refused is a request that an agent refused.
type Refused struct {
	Name string `json:"name"` // of the certificate
	// Cluster and Server: whose agent's it is; empty: no agent's.
	Cluster string    `json:"cluster,omitempty"`
	Server  string    `json:"server,omitempty"`
	From    string    `json:"from"` // the address
	Asks    string    `json:"asks"` // the path
	At      time.Time `json:"at"`
}

// Looked is when the positions were read, told without a clock that others would
// have to trust. The zero Looked says nothing.
type Looked struct {
	// WaitedSeconds passed between the question's arrival and the look, AgeSeconds
	// between the look and the answer.
	WaitedSeconds float64 `json:"waited_seconds"`
	AgeSeconds    float64 `json:"age_seconds"`
	// Began and Ended are by the agent's own clock, and stay there.
	Began time.Time `json:"-"`
	Ended time.Time `json:"-"`
}

// Between returns the span within which the positions were read, by the clock of
// whoever asked and got the answer at those times.
func (l Looked) Between(asked, answered time.Time) (from, to time.Time) {
	span := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	from, to = asked.Add(span(max(0, l.WaitedSeconds))), answered.Add(-span(max(0, l.AgeSeconds)))
	if from.After(to) {
		return asked, answered // that cannot be
	}
	return from, to
}

// Encryption is whether a database takes encrypted connections, and what proves to the
// other side that it is the right one.
type Encryption struct {
	// State is that of the running server, as far as it was seen.
	State Proof `json:"state,omitempty"`
	// Placeholder: the certificate is one that packages made, which proves nothing and
	// gives way to the service's.
	Placeholder bool `json:"placeholder,omitempty"`
	// CertificateEnds is when the certificate does that the service signed for it; zero
	// where it has none. CertificateBy is the fingerprint of the authority.
	CertificateEnds time.Time `json:"certificate_ends,omitzero"`
	CertificateBy   string    `json:"certificate_by,omitempty"`
}

// Proof is what an encrypted connection proves of the server at its end.
type Proof string

// The proofs; the empty Proof is not known.
const (
	ProofNone      Proof = "off"        // it is not encrypted
	ProofOther     Proof = "unverified" // by a certificate that is not the service's
	ProofAuthority Proof = "verified"   // by a certificate of the service's authority
)

// Process is the database server as a running program.
type Process struct {
	Running   bool   `json:"running"`           // a database process exists
	Accepting bool   `json:"accepting"`         // it answered a query in time
	Problem   string `json:"problem,omitempty"` // why it did not, or what else is wrong
	// Passing: the problem is that it starts or stops.
	Passing bool `json:"passing,omitempty"`
	// NotLetIn: it lives and did not let the agent in, so that what it does for
	// others is not known.
	NotLetIn bool `json:"not_let_in,omitempty"`
	// NoReads: it is a replica that is set to take no connections, so that nothing but
	// its data directory says how it is.
	NoReads bool `json:"no_reads,omitempty"`
	Role    Role `json:"role,omitempty"` // as it reports itself
	// Writable: it would accept a write of an ordinary client; one that hangs
	// counts as what it is open for.
	Writable bool `json:"writable"`
	// Fenced: stopped by its agent so that it takes no more writes.
	Fenced       bool   `json:"fenced"`
	Version      string `json:"version,omitempty"`
	MajorVersion int    `json:"major_version,omitempty"` // 0: not known
	// ClockAhead is how far the database's clock is ahead of the agent's, in
	// seconds; 0 when it is no further off than the question took.
	ClockAhead float64 `json:"clock_ahead_seconds,omitempty"`
	// Identity tells this process from any other that ran before it: a server that
	// was restarted has another one, also one that restarted itself after a crash
	// of one of its processes. Whole only while it is accepting.
	Identity         string `json:"identity,omitempty"`
	ConnectedClients int    `json:"connected_clients"`
	// CommitWaits is for how long the oldest commit has been waiting for a
	// synchronous replica or for room on the disk, in seconds.
	CommitWaits float64 `json:"commit_waits_seconds,omitempty"`
	// DiskWaits is for how long a commit of the agent's own has been waiting for this
	// server's disk, in seconds. Tried only under fencing.
	DiskWaits float64 `json:"disk_waits_seconds,omitempty"`
	// Doomed: it was killed and waits in the kernel for a disk that hangs. It acknowledges
	// nothing any more, and its files are not to be touched.
	Doomed bool `json:"doomed,omitempty"`
}

// NotUsable reports whether the database runs and an agent cannot use it; one that only
// starts or stops is another matter.
func (p Process) NotUsable() bool {
	return p.Running && !p.Accepting && p.Problem != "" && !p.Passing
}

// Data is what is in the data directory.
type Data struct {
	System string `json:"system,omitempty"` // identifier that all copies of one origin share
	State  string `json:"state,omitempty"`  // as the data itself records it
	Redo   string `json:"redo,omitempty"`   // where a recovery would begin: the last checkpoint's (PostgreSQL)
	Empty  bool   `json:"empty"`            // no database in the data directory
	// Foreign: it is not known to be this cluster's data, so its agent neither
	// fences nor closes it, and refuses to change it.
	Foreign bool `json:"foreign,omitempty"`
	// Strayed: it was open for writes without right, on a history that others wrote
	// as well. Its positions say nothing of what it wrote there.
	Strayed    bool   `json:"strayed,omitempty"`
	Unfinished string `json:"unfinished,omitempty"` // a copy or rewind that was interrupted here: seed or rewind
	// ClosedByDefault: an unsupervised start opens read-only.
	ClosedByDefault bool         `json:"closed_by_default"`
	Bytes           Maybe[int64] `json:"bytes"`
	// Spaces are its tablespaces (PostgreSQL); their sizes only with a thorough look.
	Spaces []Space `json:"spaces,omitempty"`
}

// Space is a directory beside the data directory that holds a part of the data.
type Space struct {
	Name  string       `json:"name"` // the server's own number for it
	Path  string       `json:"path"`
	Bytes Maybe[int64] `json:"bytes"`
	// Identity tells the directory from any other on any host; empty: not known.
	Identity string `json:"identity,omitempty"`
}

// Log is how far the server's log has come, and on which history.
type Log struct {
	Line position.Line `json:"line"` // the history it is on
	// Past are the histories that Line grew out of, oldest first.
	Past     []position.Branch `json:"past,omitempty"`
	Written  string            `json:"written,omitempty"`  // primary: newest position
	Received string            `json:"received,omitempty"` // replica: safe on its disk
	Applied  string            `json:"applied,omitempty"`  // replica: replayed
	// ShutdownAt is the position at which the server stopped taking writes
	// cleanly: PostgreSQL's shutdown checkpoint; the last GTID of a MariaDB server
	// that is stopped, or held closed by its agent.
	ShutdownAt string `json:"shutdown_at,omitempty"`
	// WrittenAt, ReceivedAt and AppliedAt are places in log files (MariaDB):
	// the primary's own, and how far a replica read and applied its upstream's.
	WrittenAt  string             `json:"written_at,omitempty"`
	ReceivedAt string             `json:"received_at,omitempty"`
	AppliedAt  string             `json:"applied_at,omitempty"`
	Files      []position.LogFile `json:"files,omitempty"`
	// GTIDState is the newest number of each server and domain in its log
	// (MariaDB), ServerID its own number there; 0: not known.
	GTIDState string       `json:"gtid_state,omitempty"`
	ServerID  uint32       `json:"server_id,omitempty"`
	Bytes     Maybe[int64] `json:"bytes"` // on disk
	// Kin is the newest mark of a promotion or proof that was found here.
	Kin string `json:"kin,omitempty"`
	// KinAt is that mark's position (MariaDB): a comparison of histories begins
	// there, and needs the primary's log from there on.
	KinAt string `json:"kin_at,omitempty"`
	// Filters leave something out of its log, or out of what it applies, such as
	// "replicate_ignore_db = logs" (MariaDB).
	Filters []string `json:"filters,omitempty"`
	// Filtered are those that ever left something out of what this replica applied,
	// since its data came here: that is missing still.
	Filtered []string `json:"filtered,omitempty"`
	// ProvenTerm is the term in which this replica was proven to share the
	// primary's history: it held a mark of that term in its own log, and has since
	// neither been restarted nor written anything of its own. 0: not proven.
	ProvenTerm int64 `json:"proven_term,omitempty"`
}

// Links are whom the server follows and who follows it.
type Links struct {
	Upstream *Upstream `json:"upstream,omitempty"`
	// Named are its named connections (MariaDB), which this version cannot handle.
	Named       []string     `json:"named,omitempty"`
	Downstreams []Downstream `json:"downstreams,omitempty"`
	Slots       []Slot       `json:"slots,omitempty"`
}

// Replay is how a replica applies what it received.
type Replay struct {
	Paused bool `json:"paused"`
	// Wait is what the applier says it waits for, in the server's own words; Busy
	// its share of one core since the observation before.
	Wait string  `json:"wait,omitempty"`
	Busy float64 `json:"busy,omitempty"`
	// Conflicts counts queries on a replica that replay cancelled, by cause
	// (PostgreSQL), since its statistics began.
	Conflicts map[string]int64 `json:"conflicts,omitempty"`
}

// Host is where the server is, and the room it has.
type Host struct {
	Address          Address      `json:"address"`
	DiskFreeBytes    Maybe[int64] `json:"disk_free_bytes"`
	LogDiskFreeBytes Maybe[int64] `json:"log_disk_free_bytes"`
}

// Config is what a thorough observation collects of settings and contents.
type Config struct {
	Settings map[string]string `json:"settings,omitempty"`
	// Problem is why they could not be collected from a server that answers:
	// Settings and Facts are then not known.
	Problem string `json:"problem,omitempty"`
	// Live are the settings that an operation may change, as they are now.
	Live map[string]string `json:"live,omitempty"`
	// Apart: it stands outside of the data directory, and a copy leaves it as it is.
	Apart bool `json:"apart,omitempty"`
	// AtNextStart are settings that its agent will set when it starts the server the next
	// time: the server lacks them, and reads them at a start only.
	AtNextStart map[string]string `json:"at_next_start,omitempty"`
	// Facts are counts, such as unlogged_tables or collation_mismatches.
	Facts map[string]int64 `json:"facts,omitempty"`
}

// Address is where peers and applications reach the database.
type Address struct {
	Host string `json:"host"`
	Port int    `json:"port"`
}

// String is the address as it is dialled: "10.0.0.7:5432", "[fd00::7]:5432".
func (a Address) String() string { return net.JoinHostPort(a.Host, strconv.Itoa(a.Port)) }

// Address is where the upstream is reached.
func (u *Upstream) Address() Address { return Address{u.Host, u.Port} }

// Upstream is the link of a replica to the server it follows.
type Upstream struct {
	Host      string `json:"host"`
	Port      int    `json:"port"`
	Slot      string `json:"slot,omitempty"`
	Connected bool   `json:"connected"`
	State     string `json:"state,omitempty"`
	Problem   string `json:"problem,omitempty"`
	// Refused: the upstream refuses its log to this server, as not its own
	// history (MariaDB, error 1236).
	Refused     bool    `json:"refused,omitempty"`
	IdleSeconds float64 `json:"idle_seconds"` // since the last message
	// ApplierProblem is the error at which applying stopped, with its number.
	ApplierProblem string `json:"applier_problem,omitempty"`
	// ApplierMayPass: that was a want of room, memory or a lock, and may be over.
	ApplierMayPass bool `json:"applier_may_pass,omitempty"`
	// DelaySeconds is for how long the replica holds writes back on purpose.
	DelaySeconds int `json:"delay_seconds,omitempty"`
	// ByPosition: it follows by a file of the upstream's and a place in it, not by GTIDs.
	ByPosition bool `json:"by_position,omitempty"`
	// As is the name under which it connects, where the server has one (PostgreSQL).
	As string `json:"as,omitempty"`
	// Proof is what the replica insists on when it connects.
	Proof Proof `json:"proof,omitempty"`
}

// Runs reports whether the receiver runs or tries to connect: a server that is open for
// writes may hold an upstream's address of before that nobody uses.
func (u *Upstream) Runs() bool {
	return u != nil && (u.Connected || u.State == "connecting" || u.State == "preparing")
}

// Downstream is one replica as its upstream sees it. The time of its last reply
// is not among it: PostgreSQL's reply_time is by the replica's clock, and a
// difference of two clocks says nothing.
type Downstream struct {
	Name        string `json:"name"`
	State       string `json:"state"`
	Sent        string `json:"sent,omitempty"`
	Received    string `json:"received,omitempty"`
	Safe        string `json:"safe,omitempty"`
	Applied     string `json:"applied,omitempty"`
	Synchronous bool   `json:"synchronous"`
}

// Slot is a reservation of log for one replica.
type Slot struct {
	Name      string `json:"name"`
	Active    bool   `json:"active"`
	Restart   string `json:"restart,omitempty"`
	State     string `json:"state,omitempty"` // reserved, extended, unreserved, lost
	KeptBytes int64  `json:"kept_bytes"`
	Ours      bool   `json:"ours"` // made by Cross Twin
	// Database is that of a logical slot, which is on this server alone (PostgreSQL); else empty.
	Database string `json:"database,omitempty"`
}

// Job is a long piece of work that the agent does: a copy, a rewind.
type Job struct {
	Key         string    `json:"key"`  // operation and step that asked for it
	Kind        string    `json:"kind"` // seed, verify, rewind, salvage, compare
	State       string    `json:"state"`
	Note        string    `json:"note,omitempty"` // what it is doing now
	Error       string    `json:"error,omitempty"`
	StartedAt   time.Time `json:"started_at"`
	DoneBytes   int64     `json:"done_bytes"`
	TotalBytes  int64     `json:"total_bytes"`
	BytesPerSec float64   `json:"bytes_per_second"`
	SecondsLeft float64   `json:"seconds_left"` // negative: not known
	Result      any       `json:"result,omitempty"`
}

// The states of a Job.
const (
	JobRunning  = "running"
	JobFinished = "finished"
	JobFailed   = "failed"
)

// Standing returns what the server holds, for comparing histories.
func (s *Server) Standing() position.Standing {
	st := position.Standing{Line: s.Log.Line, Past: s.Log.Past, At: s.Log.Received, Server: s.Log.ServerID}
	for _, at := range []string{s.Log.Applied, s.Log.Written, s.Log.ShutdownAt} {
		if st.At == "" {
			st.At = at
		}
	}
	st.State, _ = position.ParseGTIDState(s.Log.GTIDState)
	if s.Data.System != "" {
		st.Line.System = s.Data.System
	}
	return st
}

// SlotNamed finds a slot.
func (s *Server) SlotNamed(name string) (Slot, bool) {
	for _, x := range s.Links.Slots {
		if x.Name == name {
			return x, true
		}
	}
	return Slot{}, false
}

// DownstreamNamed finds a link by the replica's name.
func (s *Server) DownstreamNamed(name string) (Downstream, bool) {
	for _, d := range s.Links.Downstreams {
		if d.Name == name {
			return d, true
		}
	}
	return Downstream{}, false
}

// StateShutDown begins what data of PostgreSQL records of itself after a clean
// stop ("shut down", "shut down in recovery").
const StateShutDown = "shut down"

// SlotLost is the state of a slot whose log is gone.
const SlotLost = "lost"

// What was interrupted in a data directory.
const (
	UnfinishedSeed   = "seed"
	UnfinishedRewind = "rewind"
)

// ReplicaState reports whether data records of itself that it was last a
// replica's (PostgreSQL).
func ReplicaState(state string) bool {
	return state == "shut down in recovery" || state == "in archive recovery"
}
