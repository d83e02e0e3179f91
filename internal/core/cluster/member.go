// Package cluster holds what an administrator says of a cluster: its members,
// their ranks and places, and the policy by which it is watched.
package cluster

// Placement is what an administrator says of one server.
type Placement struct {
	Rank   int    `json:"rank"` // 1, 2, 3 …; 0 is never
	Site   string `json:"site,omitempty"`
	Hidden bool   `json:"hidden"` // kept out of what readers are sent to
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
	Policy    Policy
}
