package agent

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
)

// health is what load balancers are told: whether this server takes writes, and whether it
// is fit for readers. Anybody may ask, so nothing else is said.
type health struct {
	looking sync.Mutex // one look for all who ask

	mu     sync.Mutex
	seen   *observation.Server
	seenAt guard.Time
	told   agentapi.Readers
	toldAt guard.Time
}

// How old a look may be that an answer rests on, and from when a new one is made.
const (
	healthAge  = 3 * time.Second
	healthLook = 1500 * time.Millisecond
)

// withinDefault is how far behind a server for readers may be when the balancer does not say.
const withinDefault = 10 * time.Second

func (h *health) see(o *observation.Server) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seen, h.seenAt = o, clock.Now()
}

// hear takes what the service says of this server as one for readers.
func (h *health) hear(told *agentapi.Readers) {
	if told == nil {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.told, h.toldAt = *told, clock.Now()
}

// newest returns the newest look, if it is new enough to rest on, and what the service
// said last with its age.
func (h *health) newest() (o *observation.Server, told agentapi.Readers, age time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := clock.Now()
	if h.seen != nil && now-h.seenAt < healthAge {
		o = h.seen
	}
	return o, h.told, now - h.toldAt
}

// serveHealth answers load balancers on the address that the configuration names.
func (a *Agent) serveHealth(ctx context.Context) (stop func(), err error) {
	if a.cfg.Health == "" {
		return func() {}, nil
	}
	ln, err := net.Listen("tcp", a.cfg.Health)
	if err != nil {
		return nil, fmt.Errorf("the agent of %s cannot listen on %s for load balancers: %w; choose another address as "+
			"health in %s", a.cfg.Server, a.cfg.Health, err, filepath.Join(a.dir, ConfigFile))
	}
	m := http.NewServeMux()
	m.HandleFunc("GET /writes", func(w http.ResponseWriter, r *http.Request) {
		a.lookForHealth(r.Context())
		o, _, _ := a.health.newest()
		say(w, a.takesWrites(o))
	})
	m.HandleFunc("GET /reads", func(w http.ResponseWriter, r *http.Request) {
		within, err := withinDefault, error(nil)
		if text := r.URL.Query().Get("within"); text != "" {
			within, err = time.ParseDuration(text)
		}
		if err != nil || within <= 0 {
			http.Error(w, "within is a time such as 10s", http.StatusBadRequest)
			return
		}
		a.lookForHealth(r.Context())
		o, told, age := a.health.newest()
		say(w, a.takesWrites(o) && !told.Hidden || fitForReaders(o, told, age, within))
	})
	s := &http.Server{Handler: m, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 5 * time.Second,
		WriteTimeout: 15 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 8 << 10,
		ErrorLog: slog.NewLogLogger(a.log.Handler(), slog.LevelDebug)}
	go s.Serve(ln)
	return func() { s.Close() }, nil
}

// say answers a balancer: the status is the answer.
func say(w http.ResponseWriter, yes bool) {
	w.Header().Set("Content-Type", "text/plain")
	w.Header().Set("Cache-Control", "no-store")
	if !yes {
		w.WriteHeader(http.StatusServiceUnavailable)
		io.WriteString(w, "no\n")
		return
	}
	io.WriteString(w, "yes\n")
}

// lookForHealth has a look at the server where the newest one is too old: the service may
// be away. However many ask, there is one look in a while.
func (a *Agent) lookForHealth(ctx context.Context) {
	a.health.looking.Lock()
	defer a.health.looking.Unlock()
	a.health.mu.Lock()
	old := a.health.seen == nil || clock.Now()-a.health.seenAt > healthLook
	a.health.mu.Unlock()
	if old {
		a.observe(ctx, false)
	}
}

// takesWrites reports whether this server takes writes of right: under fencing only while
// its permission runs (invariant: a balancer is never sent to a server whose permission has
// ended, whatever the newest look said).
func (a *Agent) takesWrites(o *observation.Server) bool {
	s := a.memory.get()
	if o == nil || !o.Process.Accepting || o.Process.Role != observation.Primary || !o.Process.Writable ||
		o.Data.Foreign || s.Left || !s.Guard.Owner {
		return false
	}
	return !s.Fencing || a.permission.runs()
}

// fitForReaders reports whether a replica is in step within a bound: by the service's word,
// whose age counts as lag as well.
func fitForReaders(o *observation.Server, told agentapi.Readers, age, within time.Duration) bool {
	if o == nil || !o.Process.Accepting || o.Process.Role != observation.Replica || o.Data.Foreign || o.Replay.Paused {
		return false
	}
	up := o.Links.Upstream
	if up == nil || up.DelaySeconds > 0 || up.ApplierProblem != "" {
		return false
	}
	lag := time.Duration(told.LagSeconds * float64(time.Second))
	return told.Known && !told.Hidden && lag+age <= within
}
