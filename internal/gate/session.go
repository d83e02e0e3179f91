package gate

import (
	"errors"
	"net"
	"sync"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
)

// session is what sessions of both engines have in common. What follows mu is guarded by it;
// cond is told when any of it changes.
//
// One goroutine reads the client. While moving is set, another one does something with the
// session's connection to its server, and the client's messages wait.
type session struct {
	g        *Gate
	id       int64
	door     route.Door
	user     string
	database string
	from     string
	since    time.Time
	client   net.Conn

	mu      sync.Mutex
	cond    *sync.Cond
	at      place // the server; an empty name is none
	moving  bool
	ended   bool
	waiting time.Time // since when the client waits for a server; zero: it does not
	changed time.Time // when the state changed last
	asked   bool      // what there is of the session is known, and nothing has happened since
	whyNot  string    // why it is not portable, as far as that is known
}

func (s *session) init(g *Gate, d route.Door, conn net.Conn) {
	s.g, s.door, s.client, s.since, s.changed = g, d, conn, time.Now().UTC(), time.Now()
	s.cond = sync.NewCond(&s.mu)
	s.from = "a socket"
	if a, ok := conn.RemoteAddr().(*net.TCPAddr); ok {
		s.from = a.String()
	}
}

func (s *session) base() *session { return s }

func (s *session) server() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.at.Name
}

// waits reports whether the client waits for a server.
func (s *session) waits() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.waiting.IsZero() && !s.ended
}

// rests reports whether the session has done nothing for a while and its state is not known.
func (s *session) rests() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.asked && !s.moving && !s.ended && s.at.Name != "" && time.Since(s.changed) >= knowAfter
}

// wake implements carried.
func (s *session) wake() { s.cond.Broadcast() }

// begin takes the session for oneself, and reports whether it could be had; mu is held.
func (s *session) begin() bool {
	for s.moving && !s.ended {
		s.cond.Wait()
	}
	if s.ended {
		return false
	}
	s.moving = true
	return true
}

// done gives it back; mu is held.
func (s *session) done() {
	s.moving = false
	s.cond.Broadcast()
}

// shows is what show has in common; mu is held.
func (s *session) shows(state string) observation.GateSession {
	if !s.waiting.IsZero() {
		state = "waits"
	}
	return observation.GateSession{ID: s.id, Door: string(s.door), User: s.user, Database: s.database, From: s.from,
		Server: s.at.Name, Since: s.since, State: state, StateSeconds: time.Since(s.changed).Seconds(),
		Portable: s.asked && s.whyNot == "", WhyNot: s.whyNot}
}

// must reports whether a new transaction has to wait.
func (s *session) must() bool { return s.door == route.Writer && s.g.holding.Load() }

var errEnded = errors.New("the session has ended")

// The SQLSTATEs that a gate sends by itself (documentation, "PostgreSQL Error Codes").
const (
	codeRetry     = "40001" // serialization_failure: nothing was committed, try again
	codeUnknown   = "08007" // transaction_resolution_unknown
	codeShutdown  = "57P01" // admin_shutdown: the session has ended, nothing was under way
	codeNoServer  = "57P03" // cannot_connect_now
	codePassword  = "28P01" // invalid_password
	codeProtocol  = "08P01" // protocol_violation
	codeNotHere   = "0A000" // feature_not_supported
	codeCancelled = "57014" // query_canceled
)
