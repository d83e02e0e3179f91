// Package verb names the acts that an agent carries out and what each takes.
// A plan is made of them; the service asks for nothing else. Every verb is
// idempotent: asked again, it finds its work done and says so.
package verb

import (
	"strings"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
)

// The verbs of an agent.
const (
	Note       = "note"       // remember that a term was opened
	Start      = "start"      // start the database, as replica or as primary
	Stop       = "stop"       // stop it in an orderly way
	Fence      = "fence"      // make it unable to acknowledge any further write
	Promote    = "promote"    // make a replica the primary of a term it owns
	Follow     = "follow"     // say whom to follow, or nobody
	Slots      = "slots"      // make and drop reservations of log
	Checkpoint = "checkpoint" // write dirty pages out ahead of a stop
	Prepare    = "prepare"    // account, rights and access rules for peers
	Account    = "account"    // fetch the replication account from the primary's agent
	Probe      = "probe"      // try the replication account against a peer
	Events     = "events"     // let a primary run its scheduled events
	Mark       = "mark"       // write a mark into the log
	AwaitMark  = "await-mark" // find that mark in this server's own log
	Settle     = "settle"     // bring a crashed server's data to an orderly stop, without opening it for writes
	Seed       = "seed"       // copy a peer (long)
	Verify     = "verify"     // hold a copy against its manifest (long)
	Rewind     = "rewind"     // take out a tail by copying changed blocks back (long)
	Salvage    = "salvage"    // save what only this server has (long)
	Hold       = "hold"       // stop writes to all tables for a moment, with a deadline
	Snapshot   = "snapshot"   // open a view of the data that stands still
	Release    = "release"    // end a hold
	Sums       = "sums"       // count and sum every table in that view (long)
	Rows       = "rows"       // name rows of one table for finding a difference
	Forget     = "forget"     // close the view
	Trim       = "trim"       // cut off the oldest files of the log
	Set        = "set"        // change a setting of the running server
)

// Verbs of the service itself: steps of a plan that touch no one server.
const (
	OpenTerm = "open-term" // count the term up and have the agents note it
	Decide   = "decide"    // record the owner of the term, before the owner is told
	Level    = "level"     // let the candidate fetch what another replica holds more
	Judge    = "judge"     // compare the sums of all servers
	Reread   = "reread"    // read a saved tail back and hold it against the listing
)

// Request is the envelope of every verb.
type Request struct {
	Operation int64  `json:"operation"`
	Step      string `json:"step"`
	Term      int64  `json:"term"`
	Args      any    `json:"args,omitempty"`
}

// Peer is another server of the cluster, as an agent needs to know it.
type Peer struct {
	Name  string `json:"name"`
	Host  string `json:"host"`
	Port  int    `json:"port"`
	Agent string `json:"agent,omitempty"`
}

// StartArgs says as what a database is started.
type StartArgs struct {
	As string `json:"as"` // replica or primary
}

// FenceArgs chooses how a server is fenced.
type FenceArgs struct {
	// Gently lets a healthy server stop in an orderly way first, so that its
	// replicas get everything; it is killed when that takes too long.
	Gently bool `json:"gently"`
}

// PromoteArgs goes with the term that the promoted server owns.
type PromoteArgs struct {
	Server string `json:"server"`
}

// FollowArgs says whom to follow. The zero Upstream means nobody.
type FollowArgs struct {
	Upstream Peer   `json:"upstream"`
	Slot     string `json:"slot,omitempty"`
}

// SlotsArgs lists reservations to be made and to be dropped.
type SlotsArgs struct {
	Ensure []string `json:"ensure,omitempty"`
	Drop   []string `json:"drop,omitempty"`
}

// PrepareArgs lists the servers that must be able to connect. Account makes
// sure of the replication account as well (primary only).
type PrepareArgs struct {
	Peers   []Peer `json:"peers"`
	Account bool   `json:"account"`
	// From is the primary, whose agent hands the account to the others.
	From Peer `json:"from"`
}

// ProbeArgs names the server to try.
type ProbeArgs struct {
	Peer Peer `json:"peer"`
}

// ProbeResult is what came of a try.
type ProbeResult struct {
	OK      bool   `json:"ok"`
	System  string `json:"system,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// MarkResult is a mark as written: where its record ends and on which history.
type MarkResult struct {
	ID   string        `json:"id"`
	At   string        `json:"at"`
	Line position.Line `json:"line"`
}

// AwaitMarkArgs says which mark to look for.
type AwaitMarkArgs struct {
	Mark MarkResult `json:"mark"`
}

// SeedArgs says what to copy.
type SeedArgs struct {
	Source Peer   `json:"source"`
	Slot   string `json:"slot"`
	// Way is empty for a physical copy, "dump" for a logical one (MariaDB).
	Way string `json:"way,omitempty"`
	// Replace allows clearing what is in the data directory.
	Replace bool `json:"replace"`
	// Line and Past are the source's history, so that the copy knows its kin.
	Line position.Line     `json:"line"`
	Past []position.Branch `json:"past,omitempty"`
}

// RewindArgs says to whose history to go back.
type RewindArgs struct {
	Source Peer              `json:"source"`
	Fork   string            `json:"fork"`
	End    string            `json:"end,omitempty"` // of the tail
	Line   position.Line     `json:"line"`
	Past   []position.Branch `json:"past,omitempty"`
}

// SalvageArgs says where the tail begins and where the saved file goes by.
type SalvageArgs struct {
	Fork     string `json:"fork"`
	Timeline uint32 `json:"timeline"`
	Name     string `json:"name"`
	// Primary is the server whose history the tail parts from.
	Primary Peer `json:"primary"`
}

// HoldArgs bounds the time for which writes are stopped.
type HoldArgs struct {
	Seconds float64 `json:"seconds"`
}

// HoldResult is the position that every server must have applied.
type HoldResult struct {
	At string `json:"at"`
}

// SnapshotArgs says from which position on the view may be opened.
type SnapshotArgs struct {
	Hold    HoldResult `json:"hold"`
	Seconds float64    `json:"seconds"`
}

// TableSum is the content of one table in two numbers: how many rows, and the
// sum of two hashes of every row, which does not depend on the rows' order.
type TableSum struct {
	Table string `json:"table"`
	Rows  int64  `json:"rows"`
	Sum   string `json:"sum"`
	Bytes int64  `json:"bytes"`
}

// RowsArgs asks for the keys and sums of rows of one table, of some buckets.
type RowsArgs struct {
	Table   string `json:"table"`
	Buckets []int  `json:"buckets,omitempty"` // empty: sums by bucket only
}

// RowsResult is either one sum a bucket, or one sum a row key.
type RowsResult struct {
	Buckets map[int]string    `json:"buckets,omitempty"`
	Rows    map[string]string `json:"rows,omitempty"`
	NoKey   bool              `json:"no_key"` // the table has no primary key
}

// ExamineArgs asks what stands in a data directory beyond what an observation
// can see: the end of its log, and whether its tail parted at a fork.
type ExamineArgs struct {
	// Past and Line are the history to compare with, Written how far it has come.
	Line    position.Line     `json:"line"`
	Past    []position.Branch `json:"past,omitempty"`
	Written string            `json:"written,omitempty"`
	// Primary is whose history that is.
	Primary Peer `json:"primary"`
}

// Examination is what a server holds, found without changing anything.
type Examination struct {
	Running   bool          `json:"running"`
	Role      string        `json:"role,omitempty"`
	Clean     bool          `json:"clean"` // stopped in an orderly way
	State     string        `json:"state"`
	Line      position.Line `json:"line"`
	End       string        `json:"end"`  // of the log, on Line
	Fork      string        `json:"fork"` // where the histories part; End when they do not
	ForkLine  uint32        `json:"fork_line"`
	Kinship   string        `json:"kinship"` // of the two histories up to the fork
	TailBytes int64         `json:"tail_bytes"`
	// Unfinished names a copy or rewind that broke off here.
	Unfinished string `json:"unfinished,omitempty"`
	Empty      bool   `json:"empty"`
	// Rewindable tells whether blocks can be taken back; WhyNot says why not.
	Rewindable bool       `json:"rewindable"`
	WhyNot     string     `json:"why_not,omitempty"`
	Tail       *tail.Tail `json:"tail,omitempty"`
	System     string     `json:"system"`
}

// SlotPrefix begins the name of every slot that Cross Twin makes.
const SlotPrefix = "ct_"

// SlotName gives the name of the slot through which a server reads. Server
// names hold no underscore, so two servers never share a slot.
func SlotName(server string) string { return SlotPrefix + strings.ReplaceAll(server, "-", "_") }

// SlotOwner gives the server that reads through a slot of ours.
func SlotOwner(slot string) (string, bool) {
	if !strings.HasPrefix(slot, SlotPrefix) {
		return "", false
	}
	return strings.ReplaceAll(strings.TrimPrefix(slot, SlotPrefix), "_", "-"), true
}
