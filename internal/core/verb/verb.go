// Package verb holds the acts that an agent or the service carries out: one
// type for each, with its arguments and what it yields. A plan is made of them;
// the service asks for nothing else. Every verb is idempotent: asked again, it
// finds its work done and says so.
//
// The table in codec.go is the one list of verbs: by name it knows how a call
// is read, whether it is long, and which fact a step may keep of it.
package verb

import (
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
)

// Name names a verb on the wire and in records.
type Name string

// Call is one act with its arguments.
type Call interface{ Verb() Name }

// Asks is a call that yields a result of type R.
type Asks[R any] interface {
	Call
	Yields() R
}

// Taker is a call that needs facts which earlier steps kept. Take returns the
// call with one of them filled in.
type Taker interface {
	Call
	Take(f Fact, value []byte) (Call, error)
}

// Peer is another server of the cluster, as an agent needs to know it.
type Peer struct {
	Name  string `json:"name"`
	Host  string `json:"host"`
	Port  int    `json:"port"`
	Agent string `json:"agent,omitempty"`
	// Proof is what the connection to its database has to prove.
	Proof observation.Proof `json:"proof,omitempty"`
}

// Note has an agent remember that a term was opened: the term of the request.
type Note struct{}

// Start starts the database, read-only as a replica or for writes as the
// primary of the request's term.
type Start struct {
	As observation.Role `json:"as"`
}

// Stop has a running primary take no further write, cleanly.
type Stop struct{}

// Fence makes a server unable to acknowledge any further write.
type Fence struct {
	// Gently lets a healthy server stop cleanly first, so that its replicas get
	// everything; it is killed when that takes too long.
	Gently bool `json:"gently"`
}

// Promote makes a replica the primary of the request's term. Server is its own
// name, so that a promotion never reaches another server.
type Promote struct {
	Server string `json:"server"`
}

// Follow says whom to follow. The zero Upstream means no server.
type Follow struct {
	Upstream Peer   `json:"upstream"`
	Slot     string `json:"slot,omitempty"`
	// Back: it followed there until this operation detached it. The upstream may be stopped, and
	// is asked nothing.
	Back bool `json:"back,omitempty"`
}

// Slots makes and drops reservations of log.
type Slots struct {
	Ensure []string `json:"ensure,omitempty"`
	Drop   []string `json:"drop,omitempty"`
}

// Checkpoint writes dirty pages out ahead of a stop.
type Checkpoint struct{}

// Prepare sets up the rules that let peers connect, and encryption, and sees to the
// server's own account. Account says that it is the primary, which makes it itself.
type Prepare struct {
	Peers   []Peer `json:"peers"`
	Account bool   `json:"account"`
	// From is the primary, whose agent makes the accounts of the others.
	From Peer `json:"from"`
	// Encrypted: no server of the cluster is followed but encrypted, so the account is
	// let in by no other way.
	Encrypted bool `json:"encrypted,omitempty"`
}

// Account has the primary's agent make the server's account.
type Account struct {
	From Peer `json:"from"`
}

// Probe tries the replication account against a peer.
type Probe struct {
	Peer Peer `json:"peer"`
}

// Probed is what came of a Probe.
type Probed struct {
	OK bool `json:"ok"`
	// Answered: the server answered, be it with a refusal; it lives.
	Answered bool `json:"answered"`
	// Full: it answered that it takes no further connection just now, so that nothing
	// was tried (MariaDB; PostgreSQL counts replicas apart from all others).
	Full    bool   `json:"full,omitempty"`
	System  string `json:"system,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// Events lets a primary run its scheduled events.
type Events struct{}

// Mark writes a mark into the log.
type Mark struct{}

// Marked is a mark as written: where its record ends and on which history.
type Marked struct {
	ID   string        `json:"id"`
	At   string        `json:"at"`
	Line position.Line `json:"line"`
}

// AwaitMark finds a mark in this server's own log.
type AwaitMark struct {
	Mark Marked `json:"mark,omitzero"`
}

// Settle brings a crashed server's data to a clean stop, without opening it for
// writes.
type Settle struct{}

// Seed copies a peer (long).
type Seed struct {
	Source Peer   `json:"source"`
	Slot   string `json:"slot"`
	// Way is empty for a physical copy, "dump" for a logical one (MariaDB).
	Way string `json:"way,omitempty"`
	// Replace allows clearing what is in the data directory.
	Replace bool `json:"replace"`
	// Spaces are the source's tablespaces.
	Spaces []observation.Space `json:"spaces,omitempty"`
	// Others are the identities of other servers' tablespace directories. Limits and Apart
	// are as in Fit.
	Others []string          `json:"others,omitempty"`
	Limits map[string]string `json:"limits,omitempty"`
	Apart  bool              `json:"apart,omitempty"`
	// Line and Past are the source's history, so that the copy knows its kin.
	Line position.Line     `json:"line"`
	Past []position.Branch `json:"past,omitempty"`
}

// Verify compares a copy with its manifest (long).
type Verify struct{}

// Rewind removes a tail: it goes back to the source's history (long).
type Rewind struct {
	Source Peer              `json:"source"`
	Fork   string            `json:"fork"`
	End    string            `json:"end,omitempty"` // of the tail
	Line   position.Line     `json:"line"`
	Past   []position.Branch `json:"past,omitempty"`
}

// Salvage saves what only this server has (long).
type Salvage struct {
	Fork     string `json:"fork"`
	Timeline uint32 `json:"timeline"`
	Name     string `json:"name"` // of the saved file
	// Primary is the server whose history the tail parts from.
	Primary Peer `json:"primary"`
}

// Hold stops writes to all tables for a moment, with a deadline.
type Hold struct {
	Seconds float64 `json:"seconds"`
}

// Held is the position that every server must have applied.
type Held struct {
	At string `json:"at"`
}

// Snapshot opens a fixed view of the data, at a position.
type Snapshot struct {
	Hold    Held    `json:"hold,omitzero"`
	Seconds float64 `json:"seconds"`
}

// Release ends a hold.
type Release struct{}

// Sums counts and sums every table in the fixed view (long).
type Sums struct{}

// TableSum is the content of one table in two numbers: how many rows, and the
// sum of two hashes of every row, which does not depend on the rows' order.
type TableSum struct {
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Sum   string `json:"sum"`
	Bytes int64  `json:"bytes"`
	// Sequence: it is one, and Sum its state.
	Sequence bool `json:"sequence,omitempty"`
	// Left is why it was not summed; nothing is said of its content then.
	Left string `json:"left,omitempty"`
}

// Rows asks for the keys and sums of rows of one table, of some buckets.
type Rows struct {
	Table   string `json:"table"`
	Buckets []int  `json:"buckets,omitempty"` // empty: sums by bucket only
}

// RowSums is either one sum a bucket, or one sum a row key.
type RowSums struct {
	Buckets map[int]string    `json:"buckets,omitempty"`
	Rows    map[string]string `json:"rows,omitempty"`
	NoKey   bool              `json:"no_key"` // the table has no primary key
}

// Forget closes the view of the data.
type Forget struct{}

// Trim removes the oldest files of the log, up to file To, which stays.
type Trim struct {
	To string `json:"to"`
}

// Delay is the name of the setting by which a replica is delayed, in seconds;
// the engines call it differently.
const Delay = "delay"

// Set changes one setting of a running server, so that it lasts.
type Set struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// OpenTerm counts the term up and has the agents note it (service).
type OpenTerm struct {
	Term int64 `json:"term"`
	// For is who shall own it.
	For string `json:"for,omitempty"`
}

// Detach has replicas follow nobody, all at the same time: where packets to the upstream are
// lost, MariaDB takes two seconds for it (measured) (service).
type Detach struct {
	Servers []string `json:"servers"`
}

// Outlast waits until no server but the candidate may write any more, where permissions
// run out (service).
type Outlast struct {
	Candidate string `json:"candidate"`
}

// Decide records the owner of the term, before the owner is told (service).
type Decide struct {
	Server string `json:"server"`
	// Closed: it writes nothing yet. Should it not come to that, what was proven in an earlier
	// term holds for the next primary; once it writes, a further Decide says so.
	Closed bool `json:"closed,omitempty"`
}

// Judge compares the sums of all servers, the primary's first (service).
type Judge struct {
	Servers []string              `json:"servers"`
	Sums    map[string][]TableSum `json:"sums,omitempty"`
}

// Reread reads a saved tail back from its agent and compares it with the
// listing (service).
type Reread struct {
	Server string    `json:"server"`
	Tail   tail.Tail `json:"tail,omitzero"`
}

func (Note) Verb() Name       { return "note" }
func (Start) Verb() Name      { return "start" }
func (Stop) Verb() Name       { return "stop" }
func (Fence) Verb() Name      { return "fence" }
func (Promote) Verb() Name    { return "promote" }
func (Follow) Verb() Name     { return "follow" }
func (Slots) Verb() Name      { return "slots" }
func (Checkpoint) Verb() Name { return "checkpoint" }
func (Prepare) Verb() Name    { return "prepare" }
func (Account) Verb() Name    { return "account" }
func (Probe) Verb() Name      { return "probe" }
func (Events) Verb() Name     { return "events" }
func (Mark) Verb() Name       { return "mark" }
func (AwaitMark) Verb() Name  { return "await-mark" }
func (Settle) Verb() Name     { return "settle" }
func (Seed) Verb() Name       { return "seed" }
func (Verify) Verb() Name     { return "verify" }
func (Rewind) Verb() Name     { return "rewind" }
func (Salvage) Verb() Name    { return "salvage" }
func (Hold) Verb() Name       { return "hold" }
func (Snapshot) Verb() Name   { return "snapshot" }
func (Release) Verb() Name    { return "release" }
func (Sums) Verb() Name       { return "sums" }
func (Rows) Verb() Name       { return "rows" }
func (Forget) Verb() Name     { return "forget" }
func (Trim) Verb() Name       { return "trim" }
func (Set) Verb() Name        { return "set" }
func (OpenTerm) Verb() Name   { return "open-term" }
func (Outlast) Verb() Name    { return "outlast" }
func (Detach) Verb() Name     { return "detach" }
func (Decide) Verb() Name     { return "decide" }
func (Judge) Verb() Name      { return "judge" }
func (Reread) Verb() Name     { return "reread" }

func (Probe) Yields() (r Probed)      { return r }
func (Mark) Yields() (r Marked)       { return r }
func (Salvage) Yields() (r tail.Tail) { return r }
func (Hold) Yields() (r Held)         { return r }
func (Sums) Yields() (r []TableSum)   { return r }
func (Rows) Yields() (r RowSums)      { return r }
func (Judge) Yields() (r Comparison)  { return r }
func (Reread) Yields() (r tail.Tail)  { return r }

// AccountPrefix begins the names of the accounts by which servers follow; SharedUser is
// the one by which all followed before each had its own.
const (
	AccountPrefix = "crosstwin_follow_"
	SharedUser    = "crosstwin_replication"
	// ReaderUser is the account by which an agent reads rows, and begins the names of those
	// that are made for one use.
	ReaderUser = "crosstwin_reader"
)

// ReplicationUser is the database account by which a server follows.
func ReplicationUser(server string) string {
	return AccountPrefix + strings.ReplaceAll(server, "-", "_")
}
