// Package service wires the long-running parts together: it watches every
// server through its agent, judges each cluster with core/view, makes plans
// with core/plan and has the runner carry them out. It never opens a database
// connection and holds no database password.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/pki"
	"crosstwin/internal/runner"
	"crosstwin/internal/store"
)

// watchEvery is the time between two observations of a server.
const watchEvery = time.Second

// observeTimeout bounds one observation. It leaves an agent time to say that its
// server has not answered within 3 s.
const observeTimeout = 5 * time.Second

// clockSamples is how many samples of a primary's position are remembered: an
// hour of a busy cluster.
const clockSamples = 3600

// Service is the running service.
type Service struct {
	Store     *store.Store
	Hub       *Hub
	Authority *pki.Authority
	// Keep says for how long samples are kept; AlertCommand is run with each
	// alert on its standard input. Both are set before Run.
	Keep         history.Keep
	AlertCommand string
	// FirstTokenFile holds the first token until somebody has taken it over.
	FirstTokenFile string
	// KeepAudit is for how long the audit trail is kept, KeepRows for how long what
	// operations hold of rows. KeepTails is for how long saved tails stay on their hosts; 0:
	// for ever, because one may be the only copy of what it holds.
	KeepAudit, KeepRows, KeepTails time.Duration
	// DeliverTo are networks that channels may lead to in any case.
	DeliverTo []netip.Prefix

	sending sync.Map // channels that are being sent to
	telling sync.Map // agents that are being told whom to trust

	agents       *agentapi.Caller
	certificates certificates
	log          *slog.Logger
	runner       *runner.Runner
	alerts       alert.Tracker // of the watching loop alone
	refused      refused       // lately, to whoever may not ask

	attempts attempts

	lookers crew // look at the servers, each second

	// reloading orders the readings of the records: an older one must not take
	// the place of a newer one.
	reloading sync.Mutex

	// mu guards the list of clusters alone; each cluster has a lock of its own, so
	// that a slow one holds up no other.
	mu       sync.RWMutex
	clusters map[string]*watched
	running  sync.WaitGroup
	ctx      context.Context
}

// New makes a service on its records. killpoint is nil but in tests.
func New(st *store.Store, authority *pki.Authority, log *slog.Logger,
	killpoint func(kind operation.Kind, step, where string)) (*Service, error) {
	pair, err := authority.Pair(pki.ServiceName)
	if err != nil {
		return nil, err
	}
	s := &Service{Store: st, Hub: newHub(), Authority: authority, log: log, clusters: map[string]*watched{},
		lookers: newCrew(), ctx: context.Background(), Keep: history.DefaultKeep(), KeepAudit: 400 * 24 * time.Hour,
		KeepRows: 90 * 24 * time.Hour}
	s.agents = agentapi.NewCaller(tls.Certificate(pair), authority.Pool())
	s.agents.Shows = s.showsCertificate
	s.runner = &runner.Runner{Journal: st, Servers: servers{s}, Local: s.localVerbs(), Log: log,
		Changed: s.operationChanged, Killpoint: killpoint}
	return s, s.reload(context.Background(), "")
}

// Run watches and carries out operations until ctx ends. Operations that an
// earlier process left are taken up first.
func (s *Service) Run(ctx context.Context) error {
	s.ctx = ctx
	ids, err := s.Store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		op, err := s.Store.Operation(ctx, id)
		if err != nil {
			return err
		}
		s.log.Info("taking up an operation that was under way", "operation", id, "kind", op.Kind, "cluster", op.Cluster)
		s.carryOut(id, op.Cluster, op.Kind, true)
	}
	if err := s.restoreAlerts(ctx); err != nil {
		return err
	}
	s.running.Go(func() { s.deliver(ctx) })
	s.running.Go(func() { s.keepGranting(ctx) })
	t := time.NewTicker(watchEvery)
	defer t.Stop()
	var forgot time.Time
	for {
		s.watchAll(ctx)
		if now := time.Now(); now.Sub(forgot) > forgetEvery {
			forgot = now
			if err := s.Store.Forget(ctx, s.Keep, s.KeepAudit, s.KeepRows, now); err != nil && ctx.Err() == nil {
				s.log.Error("old records cannot be removed", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			s.running.Wait()
			s.saveAll()
			return nil
		case <-t.C:
		}
	}
}

// servers is the runner's way to the agents.
type servers struct{ s *Service }

func (x servers) Observe(ctx context.Context, cluster, server string) (*observation.Server, error) {
	return x.s.observe(ctx, cluster, server, false)
}

func (x servers) Do(ctx context.Context, cluster, server string, r agentapi.Request) (agentapi.Answer, error) {
	t, o, err := x.s.target(cluster, server)
	if err != nil {
		return agentapi.Answer{}, err
	}
	r.Decision = o.Decision
	if x.s.opensForWrites(cluster, r.Call) {
		if err := x.s.permit(ctx, cluster, server, r.Term); err != nil {
			return agentapi.Answer{}, err
		}
	}
	return x.s.agents.Do(x.s.permitted(ctx, t), t, r)
}

// at returns a way to make calls to one server.
func (x servers) at(cluster, server string) agentapi.Doer {
	return func(ctx context.Context, r agentapi.Request) (agentapi.Answer, error) {
		return x.Do(ctx, cluster, server, r)
	}
}

func (x servers) StopJob(ctx context.Context, cluster, server, key string) error {
	t, _, err := x.s.target(cluster, server)
	if err != nil {
		return err
	}
	return x.s.agents.StopJob(ctx, t, key)
}

// Explain says of an error what is to be done, where the records' disk is full.
func (s *Service) Explain(err error) error { return s.Store.Explain(err) }

// Ready reports whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.Store.Ping(ctx) }

// NotFoundError says that a name is unknown.
type NotFoundError struct{ Kind, Name string }

func (e NotFoundError) Error() string { return fmt.Sprintf("there is no %s %q", e.Kind, e.Name) }

// NotFound makes a NotFoundError.
func NotFound(kind, name string) error { return NotFoundError{kind, name} }

// InputError says that a request is invalid as it stands.
type InputError struct{ Err error }

func (e InputError) Error() string { return e.Err.Error() }

// Unwrap returns the reason.
func (e InputError) Unwrap() error { return e.Err }

func badInput(format string, args ...any) error { return InputError{fmt.Errorf(format, args...)} }

func orNotFound(err error, kind, name string) error {
	if errors.Is(err, store.ErrNotFound) {
		return NotFound(kind, name)
	}
	return err
}
