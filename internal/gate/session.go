package gate

import (
	"context"
	"errors"
	"net"
	"sync"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
)

// carried is a session of either engine: what differs between them. What they have in common is
// base's.
type carried interface {
	base() *session
	// show describes it.
	show() observation.GateSession
	// connected reports whether it has a connection to a server; mu is held.
	connected() bool
	// atBoundary reports whether nothing of it is under way on its server; mu is held.
	atBoundary() bool
	// outcome says what has become of what is under way when it is ended now; mu is held.
	outcome() carryError
	// why is why the session cannot be carried; mu is held.
	why() string
	// pins reports whether it holds something that others must not come before; mu is held.
	pins() bool
	// askNow asks what there is of the session; it is the caller's, and at a boundary.
	askNow(ctx context.Context)
	// attach goes to a server and becomes there what the session was; it is the caller's.
	attach(ctx context.Context, past bool) error
	// detach gives the connection up; the session is the caller's.
	detach()
	// cut ends what is under way so that its client can try again.
	cut(ctx context.Context)
	// lose takes its server for gone.
	lose(why string)
	// end closes it.
	end(code, why string)
}

// session is what sessions of both engines have in common. What follows mu is guarded by it;
// cond is told when any of it changes.
//
// One goroutine reads the client. While moving is set, another one does something with the
// session's connection to its server, and the client's messages wait.
type session struct {
	self     carried
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
	entered bool      // it has logged in
	waiting time.Time // since when the client waits for a server; zero: it does not
	changed time.Time // when the state changed last
	asked   bool      // what there is of the session is known, and nothing has happened since
	whyNot  string    // why it is not portable, as far as that is known
	unasked time.Time // when it was asked for its state in vain
	// cutting: what is under way is being ended. Its client begins nothing meanwhile, in a
	// transaction or out of one.
	cutting bool
}

func (s *session) init(g *Gate, d route.Door, conn net.Conn, self carried) {
	s.g, s.door, s.client, s.since, s.changed, s.self = g, d, conn, time.Now().UTC(), time.Now(), self
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

// isOver reports whether there is nothing to end of the session: it has ended, or, where that counts,
// has not begun.
func (s *session) isOver(enters bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ended || enters && !s.entered
}

// hasEntered notes that it has logged in.
func (s *session) hasEntered() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.entered = true
}

// rests reports whether the session has done nothing for a while and its state is not known.
func (s *session) rests() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.asked && !s.moving && !s.ended && s.at.Name != "" && time.Since(s.changed) >= knowAfter &&
		time.Since(s.unasked) >= knowLimit
}

// wake has its goroutines look again. Whoever has looked already waits by now, because it holds mu in
// between.
func (s *session) wake() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cond.Broadcast()
}

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

// take is begin, and giveBack is done, for those who do not hold mu.
func (s *session) take() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.begin()
}

func (s *session) giveBack() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.done()
}

// takeIf takes the session where that is so and nobody else has it.
func (s *session) takeIf(so func() bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.moving || s.ended || s.cutting || !s.self.connected() || !s.self.atBoundary() || !so() {
		return false
	}
	s.moving = true
	return true
}

// portable reports whether the session is known to be; mu is held.
func (s *session) portable() bool { return s.asked && s.whyNot == "" }

// unknown notes that the session could not be asked; mu is held.
func (s *session) unknown() {
	s.whyNot, s.unasked = "a state that could not be asked for", time.Now()
}

// shows is what show has in common; mu is held.
func (s *session) shows(state string) observation.GateSession {
	if !s.waiting.IsZero() {
		state = "waits"
	}
	return observation.GateSession{ID: s.id, Door: string(s.door), User: s.user, Database: s.database, From: s.from,
		Server: s.at.Name, Since: s.since, State: state, StateSeconds: time.Since(s.changed).Seconds(),
		Portable: s.portable(), WhyNot: s.whyNot}
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
