package agent

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
	"crosstwin/internal/gate"
	"crosstwin/internal/handover"
	"crosstwin/internal/pki"
)

// Agent serves one database server; or as a referee none (Config.Referee): then it has no
// engine, and its handler is its own (referee.go).
type Agent struct {
	// Version is that of the program, for people.
	Version string

	refused refusals // to whoever may not ask
	cfg     Config
	dir     string
	engine  engine.Engine
	data    *host.Data // the database's processes, for killing them past the engine
	memory  *memory
	verbs   map[verb.Name]handler
	jobs    jobs
	log     *slog.Logger
	gate    *gate.Gate // of a gate; nil for everything else
	serves  func()     // is told once it listens; nil: nobody wants to know
	// stopAnswering has whoever asks next ask the process that inherited the address.
	stopAnswering func()
	// trusted are the service's authorities, the one that signs first; it is exchanged
	// when the service says so.
	trusted atomic.Pointer[[]*x509.Certificate]
	cert    tls.Certificate // as it was at the start
	// renewed is the one that came since; renewing the keys that wait for theirs.
	renewed  atomic.Pointer[tls.Certificate]
	renewing atomic.Pointer[pendingKeys]
	// database is the database's own certificate, nil while there is none.
	database atomic.Pointer[x509.Certificate]
	// uncertified: the database could not be given its certificate, or whom to trust.
	// certifying is held while that is tried.
	uncertified atomic.Bool
	certifying  sync.Mutex

	acts       acts
	permission permission
	health     health

	// foreign is what the newest look said of the data; reopening is set while
	// the primary is opened again after a restart.
	foreign, reopening bool
	judged             bool // a look has said so
	// opening is set while the data may for a moment not be closed by default.
	opening bool
	lastMu  sync.Mutex
	tailsAt time.Time // when saved tails were looked through
	lastAt  time.Time
}

// Open prepares an agent from its directory.
func Open(dir string, log *slog.Logger) (*Agent, error) {
	cfg, err := LoadConfig(dir)
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	a := &Agent{cfg: cfg, dir: dir, log: log.With("server", cfg.Server, "cluster", cfg.Cluster)}
	if a.memory, err = openMemory(dir); err != nil {
		return nil, err
	}
	if a.cert, err = loadPair(dir); err != nil {
		return nil, fmt.Errorf("the agent's certificate: %w; enroll it again", err)
	}
	if err := a.loadAuthorities(); err != nil {
		return nil, err
	}
	if cfg.Gate != nil {
		return a, a.openGate()
	}
	if cfg.Referee {
		a.verbs = a.refereeVerbs()
		a.permission.begin(a)
		return a, nil
	}
	if a.engine, err = cfg.open(dir, a.memory, peers{a}); err != nil {
		return nil, err
	}
	a.data = cfg.data()
	if err := a.certifyDatabase(); err != nil {
		a.log.Warn("the database could not be given its certificate; it is tried again", "error", err)
	}
	a.verbs = a.table()
	a.permission.begin(a)
	return a, a.rememberAccounts()
}

// Run serves until ctx ends. The database goes on running.
func (a *Agent) Run(ctx context.Context) error {
	ln, err := handover.Listen("tcp", a.cfg.Listen)
	if err != nil {
		return fmt.Errorf(
			"the agent of %s cannot listen on %s: %w; another agent may run already, or choose another address in %s",
			a.cfg.Server, a.cfg.Listen, err, filepath.Join(a.dir, ConfigFile))
	}
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog:  slog.NewLogLogger(a.log.Handler(), slog.LevelDebug),
		TLSConfig: a.serverTLS()}
	a.stopAnswering = func() {
		ln.Close()
		s.SetKeepAlivesEnabled(false)
	}
	a.log.Info("agent serves", "address", ln.Addr().String(), "data_dir", a.cfg.DataDir, "state", a.memory.get().Guard)
	switch {
	case a.gate != nil:
		s.Handler = a.gateHandler()
		if err := a.gate.Start(ctx); err != nil {
			return err
		}
		defer a.gate.Stop()
	case a.cfg.Referee:
		s.Handler = a.refereeHandler()
	default:
		s.Handler = a.handler()
		stopHealth, err := a.serveHealth(ctx)
		if err != nil {
			return err
		}
		defer stopHealth()
		go a.watch(ctx)
		go a.certifyAgain(ctx)
		go a.permission.run(ctx)
	}
	if a.serves != nil {
		a.serves()
	}
	done := make(chan error, 1)
	go func() { done <- s.ServeTLS(ln, "", "") }()
	select {
	case err := <-done:
		if a.gate == nil || !errors.Is(err, net.ErrClosed) {
			return err
		}
		<-ctx.Done() // its sessions go on
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if err := s.Shutdown(stop); err != nil {
		s.Close()
	}
	return nil
}

// watchEvery is how often the agent looks after its invariants by itself.
const watchEvery = time.Second

// watch keeps two invariants while no service asks: a server that is writable
// without owning its term is fenced at once, and data is closed by default.
func (a *Agent) watch(ctx context.Context) {
	t := time.NewTicker(watchEvery)
	defer t.Stop()
	if a.guards() {
		a.observe(ctx, false) // whose data it is comes first
	}
	for {
		if a.guards() {
			a.keepClosed(ctx)
			if s := a.memory.get(); (!s.Guard.Owner || s.Fencing) && a.stale() {
				a.observe(ctx, false)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// guards reports whether this agent looks after its server by itself: a service has
// it under its care.
func (a *Agent) guards() bool {
	s := a.memory.get()
	return s.Guard.Accepted > 0 && !s.Left
}

func (a *Agent) stale() bool {
	a.lastMu.Lock()
	defer a.lastMu.Unlock()
	return time.Since(a.lastAt) > watchEvery*3/2
}

// keepClosed closes the data by default when it is not. Whose data it is, is
// looked at right before: what stood here a moment ago may have been replaced.
func (a *Agent) keepClosed(ctx context.Context) {
	a.lastMu.Lock()
	opening := a.opening
	a.lastMu.Unlock()
	if opening || a.memory.Unfinished() != "" || a.engine.Closed() {
		return
	}
	a.judgeForeign(a.look(ctx, false))
	a.lastMu.Lock() // an opening that begins now waits until this is done
	defer a.lastMu.Unlock()
	if a.opening || a.foreign || !a.guards() {
		return
	}
	if err := a.engine.Close(); err != nil {
		a.log.Error("cannot close the data by default", "error", err)
	}
}

func (a *Agent) isOpening() bool {
	a.lastMu.Lock()
	defer a.lastMu.Unlock()
	return a.opening
}

func (a *Agent) setOpening(on bool) {
	a.lastMu.Lock()
	a.opening = on
	a.lastMu.Unlock()
}

// observe looks at the server, adds what the agent knows, and fences it if it
// is writable without owning its term. A look is always finished, whether or not
// the caller still waits: cut short, it would say of a sound server that it does
// not answer, and the fence would be cut short with it.
func (a *Agent) observe(ctx context.Context, thorough bool) *observation.Server {
	ctx = context.WithoutCancel(ctx)
	o := a.look(ctx, thorough)
	a.judgeForeign(o)
	s := a.memory.get()
	if !o.Data.Foreign && !s.Left && s.Guard.MustFence(o.Process.Role == observation.Primary) {
		a.log.Warn("the server is writable and does not own the term: fencing it", "accepted", s.Guard.Accepted)
		if err := a.fence(ctx, false); err != nil {
			a.log.Error("fencing failed", "error", err)
		}
		if err := a.noteStray(o, s); err != nil {
			a.log.Error("could not record that the server was open without right", "error", err)
		}
		o = a.look(ctx, thorough)
		a.judgeForeign(o)
		s = a.memory.get()
	}
	if s.Fenced && o.Process.Running && !o.Process.Doomed {
		a.memory.change(func(s *state) error { s.Fenced = false; return nil })
		s.Fenced = false
	}
	o.Guard, o.Process.Fenced, o.Log.Kin, o.Job, o.Nonce = s.Guard, s.Fenced, s.Kin, a.jobs.current(), nonce()
	o.Promise = s.Promise
	o.Decision = s.Decision
	a.permission.see(o)
	if err := a.noteFilters(o, &s); err != nil {
		a.log.Error("could not record that writes are left out here", "error", err)
	}
	o.Data.Strayed, o.Log.Filtered = s.Strayed, s.Filtered
	o.Log.ProvenTerm = a.stillProven(o, s.Proof)
	a.noteOpen(o, s)
	a.tellOwn(o)
	a.noteEncryption(o)
	a.lastMu.Lock()
	a.lastAt = time.Now()
	a.lastMu.Unlock()
	a.health.see(o)
	return o
}

// tellOwn adds what the agent says of itself.
func (a *Agent) tellOwn(o *observation.Server) {
	o.Abilities, o.Agent = a.abilities(), observation.Agent{Version: a.Version, Wire: observation.Wire,
		Refused: a.refused.recent(time.Now())}
	own, trusted := a.certificate().Leaf, a.authorities()
	o.CertificateEnds, o.CertificateBy, o.Trusts = own.NotAfter, pki.SignedBy(own, trusted), pki.Fingerprints(trusted)
}

func (a *Agent) look(ctx context.Context, thorough bool) *observation.Server {
	ctx, cancel := context.WithTimeout(ctx, agentapi.ThoroughTimeout)
	defer cancel()
	o := a.engine.Observe(ctx, thorough)
	if o.Process.Running && !o.Process.Accepting && a.data.Doomed() {
		o.Process.Doomed, o.Process.Role, o.Process.Writable = true, "", false // it is open for nothing any more
	}
	return o
}

func (a *Agent) fence(ctx context.Context, gently bool) error {
	// What waits for its disk acknowledges nothing: that is what a fence is for. Whoever is to
	// touch the files looks at the processes.
	if err := a.engine.Fence(ctx, gently); err != nil && !errors.Is(err, host.ErrDoomed) {
		return err
	}
	return a.memory.change(func(s *state) error { s.Fenced = true; return nil })
}

func nonce() string {
	var b [12]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// changeTerm puts a change of terms on disk before anything rests on it. Then
// it ends what still runs under an older term (invariant I3: a command of an
// older term has no effect, whenever it began).
func (a *Agent) changeTerm(f func(guard.State) (guard.State, error)) error {
	return a.permission.locked(func() error {
		return a.keep(func(s *state) (err error) { s.Guard, err = f(s.Guard); return err })
	})
}

// keep changes the state, and ends what runs under a term that is older by now.
func (a *Agent) keep(f func(*state) error) error {
	if err := a.memory.change(f); err != nil {
		return err
	}
	noted := a.memory.get().Guard.Noted
	a.acts.endOlder(noted)
	a.jobs.endOlder(noted)
	return nil
}

func (a *Agent) note(term int64) error {
	return a.changeTerm(func(g guard.State) (guard.State, error) { return g.Note(term) })
}

func (a *Agent) accept(term int64, owner bool) error {
	return a.changeTerm(func(g guard.State) (guard.State, error) { return g.Accept(term, owner) })
}

func (a *Agent) learn(term int64, owner bool) error {
	before := a.memory.get()
	if before.Guard.Learn(term, owner) == before.Guard || owner && before.Fencing {
		return nil // with fencing on, a server comes to own a term by a promotion alone
	}
	a.log.Info("a term was decided", "term", term, "owner", owner)
	return a.changeTerm(func(g guard.State) (guard.State, error) { return g.Learn(term, owner), nil })
}
