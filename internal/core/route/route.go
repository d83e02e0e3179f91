// Package route decides where a gate leads its sessions: a pure function of what the service
// says and of what the servers' own agents confirm.
//
// Invariant: a writer is led to the owner of the newest term that the service named, and only
// while that server's own agent says that it takes writes of right; with neither, nowhere.
package route

import (
	"cmp"
	"slices"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
)

// Door is one of a gate's two addresses.
type Door string

// The two doors.
const (
	Writer Door = "writer"
	Reader Door = "reader"
)

// Server is one that sessions may be led to.
type Server struct {
	Name    string              `json:"name"`
	Address observation.Address `json:"address"` // of its database
	Agent   string              `json:"agent"`
	// Proof is what the connection to its database has to prove.
	Proof observation.Proof `json:"proof,omitempty"`
}

// Orders are what the service says to a gate. Newer orders have a higher term, or the same.
type Orders struct {
	Cluster string `json:"cluster"`
	Engine  string `json:"engine"`
	// Term is the newest that was decided, Owner the server that owns it.
	Term    int64    `json:"term"`
	Owner   string   `json:"owner"`
	Servers []Server `json:"servers"`
	// PrimaryReads: readers may be led to the primary where no replica is fit.
	PrimaryReads bool `json:"primary_reads,omitempty"`
	// WaitSeconds is how long a client waits for a server before it is refused.
	WaitSeconds float64 `json:"wait_seconds,omitempty"`
}

// Find returns a server by name.
func (o *Orders) Find(name string) *Server {
	for i := range o.Servers {
		if o.Servers[i].Name == name {
			return &o.Servers[i]
		}
	}
	return nil
}

// Standing is what a server's own agent says of it.
type Standing struct {
	// Term is the newest that the server accepted; Writes: it takes writes of right.
	Term   int64 `json:"term"`
	Writes bool  `json:"writes"`
	// Reads: it is a replica in step, neither hidden nor delayed.
	Reads bool `json:"reads"`
	// Process is the identity of the database's process.
	Process string `json:"process,omitempty"`
	// Line is its history (PostgreSQL), and Past what that parted from.
	Line position.Line     `json:"line,omitzero"`
	Past []position.Branch `json:"past,omitempty"`
}

// Confirmed is a Standing with its age.
type Confirmed struct {
	Standing
	Age time.Duration
}

// good is how long a standing may be rested on: an agent is asked twice a second.
const good = 2 * time.Second

// Why says why there is nowhere to lead a session; empty: there is.
type Why string

// The reasons.
const (
	NoOrders     Why = "the service has not said yet which server owns the newest term"
	NotConfirmed Why = "the primary's agent does not confirm that it takes writes"
	NoReplica    Why = "no replica is fit for readers"
)

// Write returns the server for writers.
func (o *Orders) Write(said map[string]Confirmed) (*Server, Why) {
	s := o.Find(o.Owner)
	if s == nil {
		return nil, NoOrders
	}
	c, known := said[o.Owner]
	if !known || c.Age > good || !c.Writes || c.Term < o.Term {
		return nil, NotConfirmed
	}
	return s, ""
}

// Fit reports whether a server is fit for readers.
func (o *Orders) Fit(name string, said map[string]Confirmed) bool {
	c, known := said[name]
	if !known || c.Age > good {
		return false
	}
	return name != o.Owner && c.Reads || name == o.Owner && o.PrimaryReads && c.Writes && c.Term >= o.Term
}

// Read returns the server for a reader: of the fit replicas the one with the fewest sessions;
// the primary only where no replica is fit and the policy lets readers go there.
func (o *Orders) Read(said map[string]Confirmed, sessions map[string]int) (*Server, Why) {
	var fit []*Server
	for i := range o.Servers {
		if o.Fit(o.Servers[i].Name, said) {
			fit = append(fit, &o.Servers[i])
		}
	}
	if len(fit) == 0 {
		return nil, NoReplica
	}
	primary := func(s *Server) int {
		if s.Name == o.Owner {
			return 1
		}
		return 0
	}
	return slices.MinFunc(fit, func(a, b *Server) int {
		return cmp.Or(cmp.Compare(primary(a), primary(b)), cmp.Compare(sessions[a.Name], sessions[b.Name]),
			cmp.Compare(a.Name, b.Name))
	}), ""
}

// Account is one that may log in at a cluster's databases, as far as a gate needs to know it.
type Account struct {
	User string `json:"user"`
	// Host is where it may come from (MariaDB), as a pattern.
	Host string `json:"host,omitempty"`
	// Methods by which it logs in; Usable: one of them can be done through a gate.
	Methods []string `json:"methods"`
	Usable  bool     `json:"usable"`
}

// Try is what a gate found when it tried how applications would fare.
type Try struct {
	Server string `json:"server"`
	User   string `json:"user,omitempty"` // empty: the server itself
	// Problem is why it does not work; empty: it does, as far as can be tried without a password.
	Problem string `json:"problem,omitempty"`
}
