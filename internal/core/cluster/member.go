// Package cluster holds what an administrator says of a cluster: its members,
// their ranks and places, and the policy by which it is watched.
package cluster

import (
	"errors"
	"fmt"

	"crosstwin/internal/core/synchronous"
)

// Placement is what an administrator says of one server.
type Placement struct {
	Rank   int    `json:"rank"` // 1, 2, 3 …; 0 is never
	Site   string `json:"site,omitempty"`
	Hidden bool   `json:"hidden"` // kept out of what readers are sent to
	// Clients is where applications reach its database, as HOST:PORT; empty: where its peers
	// do. Behind a translation of addresses, or with several networks, the two differ, and so
	// does that of its agent.
	Clients string `json:"clients,omitempty"`
}

// Check refuses what cannot be meant.
func (p Placement) Check() error {
	if p.Rank < 0 {
		return errors.New("a rank is 1, 2, 3 …, or never")
	}
	if p.Clients == "" {
		return nil
	}
	if err := CheckHostPort(p.Clients); err != nil {
		return fmt.Errorf("the address for clients: %w", err)
	}
	return nil
}

// Change is what is to change in a placement; nil stays.
type Change struct {
	Rank    *int    `json:"rank,omitempty"`
	Site    *string `json:"site,omitempty"`
	Hidden  *bool   `json:"hidden,omitempty"`
	Clients *string `json:"clients,omitempty"`
}

// With returns the placement after a change.
func (p Placement) With(c Change) Placement {
	set(&p.Rank, c.Rank)
	set(&p.Site, c.Site)
	set(&p.Hidden, c.Hidden)
	set(&p.Clients, c.Clients)
	return p
}

func set[T any](into, value *T) {
	if value != nil {
		*into = *value
	}
}

// Member is one server of a cluster, as the records know it.
type Member struct {
	Name string `json:"name"`
	Placement
	Agent string `json:"agent,omitempty"` // address at which the service reaches its agent
	// Host and Port are where its database is reached, as said at enrolment; an empty
	// Host is not known yet.
	Host string `json:"-"`
	Port int    `json:"-"`
	// Referee: an agent without a database, which notes terms and counts towards the majority.
	Referee bool `json:"-"`
	// Gate: an address that applications connect to, without a database and without a vote.
	Gate bool `json:"-"`
	// FirstPrimary: it runs as primary when the cluster is set up.
	FirstPrimary bool `json:"-"`
	Enrolled     bool `json:"-"` // its agent has a certificate
	// HeldData: it was seen with a database once, so an empty one is a loss.
	HeldData bool `json:"-"`
}

// Cluster is one cluster, as the records know it.
type Cluster struct {
	Name   string
	Engine string
	Term   int64 // newest opened
	// OwnerTerm is the newest decided term, Owner the server that owns it.
	OwnerTerm int64
	Owner     string
	// KinTerm is the term from which on Owner has been primary without a break.
	KinTerm int64
	Policy  Policy
	// Promised are the lists that every acknowledged write rests on one of; none: nothing is
	// promised.
	Promised []synchronous.List
	// Promises is how often that was changed.
	Promises int64
}
