package observation

import "time"

// Gate is what a gate shows of itself.
type Gate struct {
	// Writer and Reader are its addresses: HOST:PORT, or the path of a socket.
	Writer []string `json:"writer"`
	Reader []string `json:"reader"`
	// Term is the newest that the service named to it; To is where writers are led now, empty:
	// nowhere, and Why is why not.
	Term int64  `json:"term"`
	To   string `json:"to,omitempty"`
	Why  string `json:"why,omitempty"`
	// HeldSeconds is how long sessions have been held for an operation; 0: they are not.
	HeldSeconds float64     `json:"held_seconds,omitempty"`
	Doors       []GateCount `json:"doors,omitempty"`
	Waiting     int         `json:"waiting"` // clients that wait for a server now
	// Portable are the sessions that are known to be; Others says why others are not, and of how
	// many that is so.
	Portable int            `json:"portable"`
	Others   map[string]int `json:"others,omitempty"`
	// What has come of sessions since the gate was started.
	Opened  int64 `json:"opened"`
	Refused int64 `json:"refused"` // logins
	Carried int64 `json:"carried"` // to another server, or to one that was started again
	Cut     int64 `json:"cut"`     // transactions that were told to try again
	Closed  int64 `json:"closed"`  // sessions that could not be carried
	// WaitedSeconds is how long clients have waited for a server in all, and Waits how often.
	WaitedSeconds float64 `json:"waited_seconds"`
	Waits         int64   `json:"waits"`
}

// GateCount counts the sessions of one door on one server; an empty server is none just now.
type GateCount struct {
	Door     string `json:"door"`
	Server   string `json:"server,omitempty"`
	Sessions int    `json:"sessions"`
}

// Sessions counts all.
func (g *Gate) Sessions() (n int) {
	for _, d := range g.Doors {
		n += d.Sessions
	}
	return n
}

// GateSession is one session of a gate.
type GateSession struct {
	ID       int64     `json:"id"`
	Door     string    `json:"door"`
	User     string    `json:"user"`
	Database string    `json:"database,omitempty"`
	From     string    `json:"from"`
	Server   string    `json:"server,omitempty"`
	Since    time.Time `json:"since"`
	// State is idle, busy, in a transaction, waits, or logging in.
	State        string  `json:"state"`
	StateSeconds float64 `json:"state_seconds"`
	// Portable: it can be carried to another server as it stands; WhyNot is what stands in the way.
	Portable bool   `json:"portable"`
	WhyNot   string `json:"why_not,omitempty"`
}
