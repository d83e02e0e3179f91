// Package gate is the address that applications connect to. It speaks the databases' own
// protocols, one connection to a server for one client, and carries sessions from one server to
// another at the boundaries of their transactions (handbook, "Gate facts").
//
// Invariants: a writer is led to the owner of the newest term that the service named, and only
// while that server's own agent confirms that it takes writes of right (route.Write). Nothing is
// sent twice: what was forwarded and not answered is never repeated on another server. No
// password and nothing that stands for one outlives its session. What of a session cannot be
// carried ends it, with a reason; nothing of it is dropped in silence but what the handbook
// names (currval, setseed).
package gate

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/route"
)

// Config is where a gate listens for applications, and how it proves itself to them.
type Config struct {
	// Writer and Reader are addresses, as HOST:PORT or the path of a socket.
	Writer []string `json:"writer"`
	Reader []string `json:"reader,omitempty"`
	// Cert and Key are files with its own certificate; empty: the one of its enrolment.
	Cert string `json:"tls_cert,omitempty"`
	Key  string `json:"tls_key,omitempty"`
}

// Check refuses what cannot be meant.
func (c *Config) Check() error {
	if len(c.Writer)+len(c.Reader) == 0 {
		return errors.New("a gate needs an address for applications: give it one with --writer or --reader")
	}
	for _, a := range slices.Concat(c.Writer, c.Reader) {
		if host, p, err := net.SplitHostPort(a); !strings.HasPrefix(a, "/") && (err != nil || p == "" || host == "") {
			return fmt.Errorf("%q is no address for applications: it is like HOST:PORT, or the path of a socket", a)
		}
	}
	if (c.Cert == "") != (c.Key == "") {
		return errors.New("a certificate for applications needs its key as well: --tls-cert and --tls-key")
	}
	return nil
}

// Control is how a gate reaches the agents beside the servers, and what it shows its clients.
type Control interface {
	Standing(ctx context.Context, s route.Server) (route.Standing, error)
	Kept(ctx context.Context, s route.Server, user string) (agentapi.Kept, error)
	Accounts(ctx context.Context, s route.Server) ([]route.Account, error)
	// Certificate is the gate's own, Authorities those that signed the servers'.
	Certificate() tls.Certificate
	Authorities() *x509.CertPool
}

// Gate is a running gate of one cluster. A session's lock is never taken while mu is wanted: who
// holds mu may ask sessions, and not the other way round.
type Gate struct {
	cluster, name string
	engine, dir   string
	cfg           Config
	control       Control
	log           *slog.Logger
	secret        []byte // for users who are not there
	tls           *tls.Config
	listeners     []net.Listener
	accepting     sync.WaitGroup // those that take connections
	entering      atomic.Int64   // clients that are logging in
	opening       chan struct{}  // bounds how many connections to servers are opened at a time

	mu     sync.Mutex
	ctx    context.Context
	orders route.Orders
	said   map[string]said
	// changed is closed, and replaced, when where to lead sessions may have changed.
	changed  chan struct{}
	held     time.Time   // since when sessions are held; zero: they are not
	holding  atomic.Bool // the same, for those who hold a session's lock
	sessions map[int64]carried
	next     int64
	greeting greeting // of a server of MariaDB's
	// variables are the kinds of variables that sessions have, by server and process (MariaDB).
	variables map[string]map[string]string
	// baselines are the variables that logins set (MariaDB), those that were seen last.
	baselines []map[string]*string

	opened, refused, carriedN, cutN, closedN, waits atomic.Int64
	waited                                          atomic.Int64 // nanoseconds
}

// said is what an agent said, and when it was asked.
type said struct {
	route.Standing
	at time.Time
}

// New makes a gate.
func New(cluster, engine, name, dir string, cfg Config, control Control, log *slog.Logger) (*Gate, error) {
	g := &Gate{cluster: cluster, name: name, cfg: cfg, control: control, log: log, secret: make([]byte, 32),
		said: map[string]said{}, changed: make(chan struct{}), sessions: map[int64]carried{},
		variables: map[string]map[string]string{},
		opening:   make(chan struct{}, openings), ctx: context.Background(), engine: engine, dir: dir}
	rand.Read(g.secret)
	g.recall()
	g.tls = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: g.shows}
	if err := cfg.Check(); err != nil {
		return nil, fmt.Errorf("gate %s: %w", name, err)
	}
	if cfg.Cert != "" {
		if _, err := tls.LoadX509KeyPair(cfg.Cert, cfg.Key); err != nil {
			return nil, fmt.Errorf("the certificate of gate %s: %w", name, err)
		}
	}
	return g, nil
}

// openings is how many connections to servers are opened at a time: each costs the server a
// process (PostgreSQL), and more at once only wait for each other.
const openings = 8

// shows returns the certificate for clients; a file that was exchanged is read anew.
func (g *Gate) shows(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	if g.cfg.Cert != "" {
		c, err := tls.LoadX509KeyPair(g.cfg.Cert, g.cfg.Key)
		return &c, err
	}
	c := g.control.Certificate()
	return &c, nil
}

// Start opens the addresses and begins to serve until ctx ends.
func (g *Gate) Start(ctx context.Context) error {
	g.mu.Lock()
	g.ctx = ctx
	g.mu.Unlock()
	if err := g.listen(); err != nil {
		g.Stop()
		return err
	}
	go g.keepAsking(ctx)
	go g.keepKnowing(ctx)
	return nil
}

// Stop closes the addresses and all sessions.
func (g *Gate) Stop() {
	for _, l := range g.listeners {
		l.Close()
	}
	for _, s := range g.all() {
		s.end(codeShutdown, "the gate is being stopped")
	}
}

// Drain accepts nobody any more, lets those log in who have come, and ends all sessions at their
// boundaries; after a limit what is still under way is cut first. It returns how many sessions
// there were.
func (g *Gate) Drain(ctx context.Context, limit time.Duration) (n int) {
	for _, l := range g.listeners {
		l.Close()
	}
	g.accepting.Wait()
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		late := g.entering.Load() == 0 || ctx.Err() != nil // nobody comes any more
		list := slices.DeleteFunc(g.all(), func(s carried) bool { return s.base().isOver(!late) })
		n += len(list)
		each(list, max(len(list), 1), func(s carried) { g.drain(ctx, s) })
		if late {
			return n
		}
		time.Sleep(drainRest)
	}
}

// drainRest is the time between two looks at who has logged in meanwhile.
const drainRest = 10 * time.Millisecond

func (g *Gate) drain(ctx context.Context, s carried) {
	const why = "the gate is being restarted; nothing was under way: connect again"
	if s.base().endAtBoundary(ctx, codeShutdown, why) {
		return
	}
	ctx, cancel := context.WithTimeout(g.ctx, cutLimit)
	defer cancel()
	s.cut(ctx)
	s.base().endAfterCut("the gate is being restarted, and waited long enough for this session")
}

// all returns the sessions, the oldest first.
func (g *Gate) all() []carried {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := make([]carried, 0, len(g.sessions))
	for _, s := range g.sessions {
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b carried) int { return int(a.base().id - b.base().id) })
	return out
}

// of returns those of one door.
func (g *Gate) of(d route.Door) []carried {
	return slices.DeleteFunc(g.all(), func(s carried) bool { return s.base().door != d })
}

// add takes up a session that has logged in.
func (g *Gate) add(s carried) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.sessions[s.base().id] = s
	g.opened.Add(1)
}

func (g *Gate) remove(s carried) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.sessions, s.base().id)
}

func (g *Gate) number() int64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.next++
	return g.next
}

// tell has everybody who waits look again; mu is held.
func (g *Gate) tell() {
	close(g.changed)
	g.changed = make(chan struct{})
}

// Obey takes the service's orders. Older ones are refused: the service may have been restored
// from a backup.
func (g *Gate) Obey(o *route.Orders) {
	if o == nil {
		return
	}
	g.mu.Lock()
	if o.Term < g.orders.Term {
		g.mu.Unlock()
		return
	}
	moved := o.Term > g.orders.Term && o.Owner != g.orders.Owner && g.orders.Owner != ""
	was := g.orders.Owner
	if !reflect.DeepEqual(*o, g.orders) {
		g.remember(o)
	}
	if o.Term > g.orders.Term && !g.held.IsZero() && time.Since(g.held) > missedRelease {
		g.setHeld(time.Time{}) // whoever was to release sessions did not reach this gate
		defer g.wakeAll()
	}
	g.orders = *o
	g.tell()
	g.mu.Unlock()
	if moved {
		g.leaveServer(was, o.Term)
	}
}

// ordersFile holds the newest orders: a gate that is started while the service is away leads by
// them. They lead nowhere that a server's own agent does not confirm.
const ordersFile = "orders.json"

func (g *Gate) remember(o *route.Orders) {
	b, err := json.Marshal(o)
	if err == nil {
		next := filepath.Join(g.dir, ordersFile+".new")
		if err = os.WriteFile(next, b, 0o600); err == nil {
			err = os.Rename(next, filepath.Join(g.dir, ordersFile))
		}
	}
	if err != nil {
		g.log.Warn("the service's orders could not be kept for a start without it", "error", err)
	}
}

func (g *Gate) recall() {
	b, err := os.ReadFile(filepath.Join(g.dir, ordersFile))
	var o route.Orders
	if err == nil && json.Unmarshal(b, &o) == nil && o.Engine == g.engine {
		g.orders = o
	}
}

// missedRelease is after how long a newer term by itself ends a hold.
const missedRelease = 5 * time.Second

// misplaced reports whether a writer is at a server that is not the newest owner any more: the
// orders may have changed while it went there.
func (g *Gate) misplaced(d route.Door, p place) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return d == route.Writer && g.orders.Term > p.term && g.orders.Owner != p.Name
}

// leaveServer takes the former owner for gone: a frozen host sends no end of its connections.
func (g *Gate) leaveServer(was string, term int64) {
	for _, s := range g.of(route.Writer) {
		if s.base().server() == was {
			s.lose(fmt.Sprintf("another server is primary in term %d", term))
		}
	}
}

// confirmed is what agents said, with its age; mu is held.
func (g *Gate) confirmed() map[string]route.Confirmed {
	out := map[string]route.Confirmed{}
	for n, s := range g.said {
		out[n] = route.Confirmed{Standing: s.Standing, Age: time.Since(s.at)}
	}
	return out
}

// target is where a door leads now; mu is held.
func (g *Gate) target(d route.Door) (*route.Server, route.Why) {
	if d == route.Writer {
		return g.orders.Write(g.confirmed())
	}
	count := map[string]int{}
	for _, s := range g.sessions {
		if s.base().door == d {
			count[s.base().server()]++
		}
	}
	return g.orders.Read(g.confirmed(), count)
}

// waitLimit is how long a client waits for a server unless the orders say otherwise.
const waitLimit = 30 * time.Second

// patience is how long it waits; mu is held.
func (g *Gate) patience() time.Duration {
	if s := g.orders.WaitSeconds; s > 0 {
		return time.Duration(s * float64(time.Second))
	}
	return waitLimit
}

// longest is how long a login may take in all: until an agent says what is kept of the password,
// until there is a server, and with both there.
func (g *Gate) longest() time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return 2*g.patience() + loginLimit
}

// place is a server that a session goes to, in the term that it was named in.
type place struct {
	route.Server
	term    int64
	process string
}

// await waits until a door leads somewhere. Past is set for a session that is carried while the
// others are held.
func (g *Gate) await(ctx context.Context, d route.Door, past bool) (place, error) {
	began := time.Now()
	waited := false
	defer func() {
		if waited {
			g.waits.Add(1)
			g.waited.Add(int64(time.Since(began)))
		}
	}()
	for {
		g.mu.Lock()
		limit := g.patience()
		why, changed := route.Why("sessions are held for a change of the primary"), g.changed
		if g.held.IsZero() || past || d == route.Reader {
			var s *route.Server
			if s, why = g.target(d); s != nil {
				p := place{*s, g.orders.Term, g.said[s.Name].Process}
				g.mu.Unlock()
				return p, nil
			}
		}
		g.mu.Unlock()
		waited = true
		left := time.NewTimer(limit - time.Since(began))
		select {
		case <-changed:
		case <-ctx.Done():
			left.Stop()
			return place{}, ctx.Err()
		case <-left.C:
			return place{}, fmt.Errorf("no server for %s within %s: %s", d, limit, why)
		}
		left.Stop()
	}
}

func (g *Gate) isMariaDB() bool { return g.engine == position.EngineMariaDB }

// setHeld says since when sessions are held; the zero time: they are not. mu is held.
func (g *Gate) setHeld(since time.Time) {
	g.held = since
	g.holding.Store(!since.IsZero())
	g.tell()
}
