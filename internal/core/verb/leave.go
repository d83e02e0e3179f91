package verb

import (
	"slices"
	"time"
)

// Leave has an agent undo what Cross Twin made on its server, for servers that are
// removed. What is still used stays.
type Leave struct {
	// Self: this server is removed. Its agent fences and closes nothing from then
	// on, and a primary's next start is open for writes again.
	Self bool `json:"self,omitempty"`
	// Slots are reservations of log to drop, where nobody reads through them.
	Slots []string `json:"slots,omitempty"`
	// Revoke are servers whose accounts let nobody in any more: what is connected by
	// them ends, and on the primary they are dropped.
	Revoke []string `json:"revoke,omitempty"`
	// Account drops the accounts of all servers and what belongs to them.
	Account bool `json:"account,omitempty"`
}

// Verb implements Call.
func (Leave) Verb() Name { return "leave" }

// Yields implements Asks.
func (Leave) Yields() []Leftover { return nil }

// Made is a kind of thing that Cross Twin makes on a server.
type Made string

// What Cross Twin makes.
const (
	MadeClosed  Made = "closed"  // its next start is read-only
	MadeSlot    Made = "slot"    // a reservation of log
	MadeAccount Made = "account" // a server's account; without a server those of all, their rules and tables
	MadeShown   Made = "shown"   // the certificate that the database shows
	MadeGuard   Made = "guard"   // its agent, which fences and closes
	MadeUnseen  Made = "unseen"  // what is there is not known
)

// AccountsOfAll names the accounts of all servers as one thing.
const AccountsOfAll = AccountPrefix + "…"

// Leftover is one thing that Cross Twin made, and what became of it.
type Leftover struct {
	Server string `json:"server"`
	What   Made   `json:"what"`
	Name   string `json:"name,omitempty"`
	// For is the server that it was made for.
	For string `json:"for,omitempty"`
	// UsedBy are the servers that use it now.
	UsedBy []string `json:"used_by,omitempty"`
	Gone   bool     `json:"gone"`
	// Until is when it ends by itself, if it does.
	Until time.Time `json:"until,omitzero"`
	// Undo is how it is undone by hand: a statement, or what to change.
	Undo string `json:"undo,omitempty"`
	// Problem is why it could not be undone.
	Problem string `json:"problem,omitempty"`
}

// MergeLeftovers returns what was listed, each with what became of it, and what
// came to light meanwhile.
func MergeLeftovers(listed, done []Leftover) []Leftover {
	var out []Leftover
	seen := map[int]bool{}
	for _, l := range listed {
		for i, d := range done {
			if d.What == l.What && d.Name == l.Name && d.Server == l.Server {
				l.Gone, l.Problem, seen[i] = d.Gone, d.Problem, true
			}
		}
		out = append(out, l)
	}
	for i, d := range done {
		if !seen[i] {
			out = append(out, d)
		}
	}
	return out
}

// Drops reports whether the call undoes a thing on its server, unless something
// uses it by then.
func (c Leave) Drops(l Leftover) bool {
	switch l.What {
	case MadeClosed:
		return c.Self
	case MadeSlot:
		return slices.Contains(c.Slots, l.Name)
	}
	return l.What == MadeAccount && (c.Account || l.For != "" && slices.Contains(c.Revoke, l.For))
}
