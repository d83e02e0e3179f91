// Package view judges a cluster. Assess is a pure function: from the last
// observations of all servers, the membership, the policy and the time it
// makes the View, and every face of the product shows that View. Nothing else
// computes health.
//
// Roles are never taken from one side. What a server believes of itself
// (Believes) stands beside what the cluster's term says of it (Role), and a
// server that is writable without owning the term is adrift, whatever it says.
package view

import (
	"time"

	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
)

// Health is the judged state of a server or a cluster.
type Health string

// All values of Health (handbook of names: one word for one state).
const (
	InStep       Health = "in step"
	Behind       Health = "behind"
	Stalled      Health = "stalled"
	Seeding      Health = "seeding"
	TakesWrites  Health = "takes writes"
	TakesNoWrite Health = "takes no writes"
	Adrift       Health = "adrift"
	Fenced       Health = "fenced"
	Stopped      Health = "stopped"
	Unseen       Health = "unseen"
)

// severity orders health from good to bad; a cluster's health is that of its
// worst server.
var severity = map[Health]int{
	TakesWrites: 0, InStep: 1, Seeding: 2, Behind: 3, Fenced: 4, Stopped: 5, Unseen: 6, Stalled: 7, Adrift: 8, TakesNoWrite: 9,
}

// Worse tells whether a is worse than b.
func Worse(a, b Health) bool { return severity[a] > severity[b] }

// Policy is what an administrator sets for a cluster.
type Policy struct {
	// BehindSeconds is the lag from which a replica counts as behind.
	BehindSeconds float64 `json:"behind_seconds"`
	// UnseenSeconds is the silence after which a server counts as unseen.
	UnseenSeconds float64 `json:"unseen_seconds"`
	// StalledSeconds is the time without progress after which a replica that
	// has something to apply counts as stalled.
	StalledSeconds float64 `json:"stalled_seconds"`
}

// DefaultPolicy is used for new clusters.
func DefaultPolicy() Policy {
	return Policy{BehindSeconds: 3, UnseenSeconds: 5, StalledSeconds: 15}
}

// Member is one server of the cluster as the service knows it.
type Member struct {
	Name     string
	Rank     int // 1, 2, 3 …; 0 is never
	Site     string
	Agent    string // address of its agent
	Enrolled bool

	Last   *observation.Server // nil before the first contact
	SeenAt time.Time           // receipt of Last, service's clock
	// AskedAt is when Last was asked for, StateSince when the newest change of
	// what the server's log holds was first seen: a server can be compared with
	// one that was asked after that.
	AskedAt    time.Time
	StateSince time.Time
	// Problem is why the last attempt to observe failed, empty when it did not.
	Problem string
	// AppliedSince is when the applied position last moved, service's clock.
	AppliedSince time.Time
	// AppliedRate is in units of position.Order per second over the last half minute.
	AppliedRate float64
}

// Input is all that Assess looks at.
type Input struct {
	Cluster   string
	Engine    string
	Term      int64 // newest opened
	OwnerTerm int64 // newest decided
	Owner     string
	Policy    Policy
	Members   []Member
	Clock     *lag.Clock // where the owner stood when
	// WrittenRate is the owner's rate in the same unit over the last half minute.
	WrittenRate float64
	Operation   *Running
	Now         time.Time
}

// Running names the operation that is under way.
type Running struct {
	ID   int64  `json:"id"`
	Kind string `json:"kind"`
	Step string `json:"step,omitempty"`
}

// View is the cluster as judged at one moment.
type View struct {
	Cluster  string    `json:"cluster"`
	Engine   string    `json:"engine"`
	At       time.Time `json:"at"`
	Health   Health    `json:"health"`
	Sentence string    `json:"sentence"`
	Term     int64     `json:"term"`
	Primary  string    `json:"primary"` // owner of the newest decided term
	// CanLose is how many more servers may fail and the cluster can still be
	// made to take writes.
	CanLose   int       `json:"can_lose"`
	AtRisk    AtRisk    `json:"at_risk"`
	Servers   []Server  `json:"servers"`
	Problems  []Problem `json:"problems"`
	Operation *Running  `json:"operation,omitempty"`
	Policy    Policy    `json:"policy"`
}

// AtRisk is what is acknowledged on the primary and safe on no replica that
// may take over.
type AtRisk struct {
	Known   bool    `json:"known"`
	Bytes   int64   `json:"bytes"`
	Seconds float64 `json:"seconds"`
	On      string  `json:"on,omitempty"` // the replica that holds most
	// Everything is set when no replica may take over at all.
	Everything bool `json:"everything"`
}

// Problem is one thing that is wrong, why, and what to do.
type Problem struct {
	Server string `json:"server,omitempty"`
	Text   string `json:"text"`
	Mend   string `json:"mend,omitempty"`
}

// Server is one server as judged.
type Server struct {
	Name     string           `json:"name"`
	Role     observation.Role `json:"role"`     // as judged by the term
	Believes observation.Role `json:"believes"` // as it says itself
	Health   Health           `json:"health"`
	Why      string           `json:"why,omitempty"`
	Rank     int              `json:"rank"` // 0: never
	Site     string           `json:"site,omitempty"`
	Address  string           `json:"address,omitempty"`
	Agent    string           `json:"agent,omitempty"`

	Position    string      `json:"position,omitempty"` // written or applied
	Received    string      `json:"received,omitempty"`
	History     string      `json:"history,omitempty"`
	Follows     string      `json:"follows,omitempty"`
	LagBytes    int64       `json:"lag_bytes"`
	Lag         lag.Reading `json:"lag"`
	Stages      lag.Stages  `json:"stages"`
	CatchUp     float64     `json:"catch_up_seconds"` // negative: not at this rate
	MayTakeOver bool        `json:"may_take_over"`
	WhyNot      string      `json:"why_not,omitempty"` // why it may not take over

	LastContactSeconds float64             `json:"last_contact_seconds"` // negative: never
	Observation        *observation.Server `json:"observation,omitempty"`
}

// Find gives a server of the view by name.
func (v *View) Find(name string) *Server {
	for i := range v.Servers {
		if v.Servers[i].Name == name {
			return &v.Servers[i]
		}
	}
	return nil
}
