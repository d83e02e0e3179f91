package agent

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net/http"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/gate"
	"crosstwin/internal/pki"
)

// What agents have to do with gates: one beside a database says how that stands, and what it
// keeps of a user's password; one without a database is the shell round a gate.

// GateDir is the directory of gates unless told otherwise; gateUnit the packages' unit.
const (
	GateDir  = "/var/lib/crosstwin-gate"
	gateUnit = "crosstwin-gate.service"
)

// Gates is the kind of the gate.
var Gates = Kind{Name: "gate", dir: GateDir, unit: gateUnit, port: 7750,
	is: func(c *Config) bool { return c.Gate != nil }, after: serveDrain}

// name is the one in this agent's own certificate.
func (a *Agent) name() string {
	if a.cfg.Gate != nil {
		return pki.GateName(a.cfg.Cluster, a.cfg.Server)
	}
	return pki.AgentName(a.cfg.Cluster, a.cfg.Server)
}

// fromGate lets in the gates of the same cluster, whether or not the service is there.
func (a *Agent) fromGate(h func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return a.from(func(name string) bool { return strings.HasSuffix(name, pki.GateName(a.cfg.Cluster, "")) }, h)
}

// serveStandingToGate says how the server stands just now. A look at it may be up to a second and
// a half old; the permission to write is asked at this moment.
func (a *Agent) serveStandingToGate(w http.ResponseWriter, r *http.Request) error {
	a.lookForHealth(r.Context())
	o, told, age := a.health.newest()
	s := route.Standing{Term: a.memory.get().Guard.Accepted}
	if o != nil {
		s.Writes, s.Reads = a.takesWrites(o), fitForReaders(o, told, age, withinDefault)
		s.Process, s.Line, s.Past = o.Process.Identity, o.Log.Line, o.Log.Past
	}
	return answer(w, s)
}

// serveKept says what the database keeps of a user's password. The user of the replication and
// the agent's own are nobody's to log in as through a gate.
func (a *Agent) serveKept(w http.ResponseWriter, r *http.Request) error {
	var q agentapi.KeptRequest
	if err := decode(r.Body, &q); err != nil {
		return err
	}
	x, ok := a.engine.(engine.Keeper)
	if !ok {
		return fmt.Errorf("the engine of %s has no passwords that a gate could use", a.cfg.Server)
	}
	if strings.HasPrefix(q.User, verb.AccountPrefix) || strings.HasPrefix(q.User, verb.ReaderUser) ||
		q.User == verb.SharedUser {
		return answer(w, agentapi.Kept{})
	}
	k, err := x.Kept(r.Context(), q.User)
	if err != nil {
		return err
	}
	return answer(w, agentapi.Kept(k))
}

// serveAccounts lists the accounts, without what is kept of their passwords.
func (a *Agent) serveAccounts(w http.ResponseWriter, r *http.Request) error {
	x, ok := a.engine.(engine.Keeper)
	if !ok {
		return answer(w, []route.Account{})
	}
	list, err := x.Accounts(r.Context())
	if err != nil {
		return err
	}
	return answer(w, list)
}

// openGate makes the gate of a seat.
func (a *Agent) openGate() error {
	a.verbs = map[verb.Name]handler{}
	n, h := ask(func(context.Context, verb.Leave) ([]verb.Leftover, error) { return nil, a.left() })
	a.verbs[n] = h
	caller := agentapi.NewCaller(a.certificate(), pki.Pool(a.authorities()))
	g, err := gate.New(a.cfg.Cluster, a.cfg.Engine, a.cfg.Server, a.dir, *a.cfg.Gate,
		&gateControl{a: a, caller: caller}, a.log)
	a.gate = g
	return err
}

// gateControl is how a gate reaches the agents, and proves itself to clients.
type gateControl struct {
	a      *Agent
	caller *agentapi.Caller
	shown  tls.Certificate // what the caller shows
}

// fresh has calls made with the newest certificate.
func (c *gateControl) fresh() *agentapi.Caller {
	own := c.a.certificate()
	if c.shown.Leaf != own.Leaf {
		c.shown = own
		c.caller.Use(own, pki.Pool(c.a.authorities()))
	}
	return c.caller
}

func (c *gateControl) target(s route.Server) agentapi.Target {
	return agentapi.Target{Cluster: c.a.cfg.Cluster, Server: s.Name, Address: s.Agent}
}

// Standing implements gate.Control.
func (c *gateControl) Standing(ctx context.Context, s route.Server) (route.Standing, error) {
	return c.caller.GateStanding(ctx, c.target(s))
}

// Kept implements gate.Control.
func (c *gateControl) Kept(ctx context.Context, s route.Server, user string) (agentapi.Kept, error) {
	return c.caller.GateKept(ctx, c.target(s), user)
}

// Accounts implements gate.Control.
func (c *gateControl) Accounts(ctx context.Context, s route.Server) ([]route.Account, error) {
	return c.caller.GateAccounts(ctx, c.target(s))
}

// Certificate implements gate.Control.
func (c *gateControl) Certificate() tls.Certificate {
	c.fresh()
	return c.a.certificate()
}

// Authorities implements gate.Control.
func (c *gateControl) Authorities() *x509.CertPool { return pki.Pool(c.a.authorities()) }

// gateHandler serves the service.
func (a *Agent) gateHandler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("POST /agent/v1/verbs/{verb}", a.fromService(a.serveVerb))
	m.HandleFunc("POST /agent/v1/authorities", a.fromService(a.takeAuthorities))
	m.HandleFunc("POST /agent/v1/renewal/ask", a.fromService(a.askRenewal))
	m.HandleFunc("POST /agent/v1/renewal/take", a.fromService(a.takeRenewal))
	m.HandleFunc("POST /agent/v1/observe", a.fromService(a.serveGateLook))
	m.HandleFunc("POST /gate/v1/rest", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		return answer(w, a.gate.Rest(r.Context()))
	}))
	m.HandleFunc("POST /gate/v1/hold", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var q agentapi.HoldRequest
		if err := decode(r.Body, &q); err != nil {
			return err
		}
		return answer(w, a.gate.Hold(r.Context(), time.Duration(q.Limit*float64(time.Second))))
	}))
	m.HandleFunc("POST /gate/v1/release", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var q agentapi.ReleaseRequest
		if err := decode(r.Body, &q); err != nil {
			return err
		}
		f, err := a.gate.Release(r.Context(), q.Orders, q.Waited)
		if err != nil {
			return err
		}
		return answer(w, f)
	}))
	m.HandleFunc("POST /gate/v1/try", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		return answer(w, a.gate.Try(r.Context()))
	}))
	m.HandleFunc("POST /gate/v1/sessions", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		return answer(w, a.gate.Sessions())
	}))
	return m
}

// serveGateLook takes the service's orders, and shows the gate.
func (a *Agent) serveGateLook(w http.ResponseWriter, r *http.Request) error {
	var req agentapi.ObserveRequest
	if err := decode(r.Body, &req); err != nil {
		return err
	}
	a.gate.Obey(req.Orders)
	o := &observation.Server{At: time.Now().UTC(), Nonce: nonce(), Data: observation.Data{Empty: true},
		Gate: a.gate.Observe()}
	a.tellOwn(o)
	return answer(w, o)
}
