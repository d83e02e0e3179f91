package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/access"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

func checkName(kind, name string) error {
	if err := cluster.CheckName(name); err != nil {
		return badInput("invalid name %q for a %s: %v", name, kind, err)
	}
	return nil
}

func (s *Service) audit(ctx context.Context, who, from, action, target, detail string) {
	if err := s.Store.AddEvent(ctx, access.Event{Who: who, From: from, Action: action, Target: target,
		Detail: detail}); err != nil {
		s.log.Error("the audit trail could not be written", "error", err)
	}
}

// AddCluster makes a cluster.
func (s *Service) AddCluster(ctx context.Context, name, engine, who, from string) (view.View, error) {
	if err := checkName("cluster", name); err != nil {
		return view.View{}, err
	}
	if engine == "" {
		engine = dialect.Default
	}
	if !slices.Contains(dialect.Engines(), engine) {
		return view.View{}, badInput("there is no engine %q: this version knows %s", engine,
			strings.Join(dialect.Engines(), " and "))
	}
	if _, err := s.Store.AddCluster(ctx, name, engine); err != nil {
		return view.View{}, err
	}
	s.audit(ctx, who, from, "cluster added", name, engine)
	if err := s.reload(ctx, name); err != nil {
		return view.View{}, err
	}
	return s.View(name)
}

// SetPolicy changes a cluster's policy.
func (s *Service) SetPolicy(ctx context.Context, name string, p cluster.Policy, who, from string) error {
	if p.BehindSeconds <= 0 || p.UnseenSeconds < 2 || p.StalledSeconds <= 0 {
		return badInput("a policy needs behind_seconds and stalled_seconds above 0 and unseen_seconds of at least 2")
	}
	if p.AtRiskBytes < 0 || p.SlotBytes < 0 || p.FullHours < 0 || p.ConflictsPerHour < 0 || p.ClockSeconds < 0 {
		return badInput("a limit of a policy is not negative; 0 is never")
	}
	if p.Muted == nil {
		p.Muted = []cluster.Rule{}
	}
	c, err := s.cluster(name)
	if err != nil {
		return err
	}
	c.mu.Lock()
	before, fenced, open := c.rec.Policy.Maintenance, c.rec.Policy.Fencing, c.rec.Policy.FencingOpen
	mode := c.rec.Policy.Synchronous
	c.mu.Unlock()
	if p.Synchronous.Mode == "" {
		p.Synchronous = mode
	}
	if p.Synchronous != mode {
		return badInput("the synchronous mode is changed by an operation, which shows its plan first: "+
			"crosstwin cluster set %s --synchronous %s", name, p.Synchronous.Mode)
	}
	p.FencingOpen = p.FencingOpen && open && p.Fencing == fenced
	if p.Fencing != fenced {
		if err := c.mayFence(p.Fencing); err != nil {
			return InputError{err}
		}
	}
	switch now := time.Now(); {
	case p.Maintenance != before:
		if err := p.Maintenance.Check(now); err != nil {
			return badInput("%v", err)
		}
	case !before.On(now):
		p.Maintenance = cluster.Maintenance{}
	}
	if err := p.Gates.Check(); err != nil {
		return badInput("%v", err)
	}
	if err := p.Automatic.Check(time.Now()); err != nil {
		return badInput("%v", err)
	}
	if p.Automatic.On && !p.Fencing && fenced {
		return badInput("automatic failover is on and needs fencing: switch both off: crosstwin cluster set %s "+
			"--fencing off --automatic off", name)
	}
	if p.Automatic.On && !p.Fencing {
		return badInput("automatic failover needs fencing: without it nothing tells that the old primary has stopped. "+
			"Switch it on first: crosstwin cluster set %s --fencing on", name)
	}
	for _, r := range p.Muted {
		if !slices.Contains(cluster.Rules, r) {
			return badInput("there is no rule %q to mute", r)
		}
	}
	if err := s.Store.SetPolicy(ctx, name, p); err != nil {
		return orNotFound(err, "cluster", name)
	}
	s.audit(ctx, who, from, "policy changed", name, fmt.Sprintf("%+v", p))
	return s.reload(ctx, name)
}

// RemoveCluster forgets a cluster. Its databases keep running, and nothing guards
// them any more. With drop what Cross Twin made there is dropped, where nothing uses
// it; the answer says what became of each thing.
func (s *Service) RemoveCluster(ctx context.Context, name string, drop bool, who, from string) ([]verb.Leftover,
	error) {
	if err := s.idle(name); err != nil {
		return nil, err
	}
	c, err := s.cluster(name)
	if err != nil {
		return nil, err
	}
	if v := c.latest.Load().View.Synchronous; v != nil && (v.Mode != synchronous.None || !v.State().Set.IsZero()) {
		return nil, badInput("commits of %s wait for replicas, and nobody would let them go on: end that first: "+
			"crosstwin cluster set %s --synchronous none", name, name)
	}
	left := s.leave(ctx, c, c.latest.Load().View.Names(), drop)
	if err := s.Store.RemoveCluster(ctx, name); err != nil {
		return nil, orNotFound(err, "cluster", name)
	}
	s.audit(ctx, who, from, "cluster removed", name, "")
	return left, s.reload(ctx, name)
}

func (s *Service) idle(cluster string) error {
	c, err := s.cluster(cluster)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.op != nil {
		return badInput("operation %d (%s) is under way on %s: wait for it", c.op.ID, c.op.Kind, cluster)
	}
	return nil
}

// codeLife is how long an enrolment code is good for.
const codeLife = time.Hour

// AddServer adds a server and gives the one-time code for its agent.
func (s *Service) AddServer(ctx context.Context, name string, v cluster.Member, who, from string) (code string,
	err error) {
	if err := checkName("server", v.Name); err != nil {
		return "", err
	}
	if err := v.Placement.Check(); err != nil {
		return "", badInput("%v", err)
	}
	cur, err := s.View(name)
	if err != nil {
		return "", err
	}
	if v.FirstPrimary && cur.Primary != "" {
		return "", badInput("%s has a primary already (%s): add %s as a replica and seed it", name, cur.Primary, v.Name)
	}
	if v.Referee && (v.FirstPrimary || v.Hidden || v.Clients != "" || v.Site != "") {
		return "", badInput("%s is to be a referee: it has no database, so it has a name and nothing else", v.Name)
	}
	if v.Gate && (v.Referee || v.FirstPrimary || v.Hidden || v.Clients != "" || v.Site != "") {
		return "", badInput("%s is to be a gate: it has no database, so it has a name and nothing else", v.Name)
	}
	if v.FirstPrimary && v.Rank == 0 {
		return "", badInput("the first primary needs a rank")
	}
	if err := s.Store.AddServer(ctx, name, v); err != nil {
		return "", orNotFound(err, "cluster", name)
	}
	s.audit(ctx, who, from, "server added", name, v.Name)
	if err := s.reload(ctx, name); err != nil {
		return "", err
	}
	code, _, err = s.NewCode(ctx, name, v.Name, who, from)
	return code, err
}

// NewCode makes a one-time enrolment code for a server, and gives its record.
func (s *Service) NewCode(ctx context.Context, cluster, server, who, from string) (code string, rec store.Server,
	err error) {
	if rec, err = s.Store.Server(ctx, cluster, server); err != nil {
		return "", rec, orNotFound(err, "server", server)
	}
	secret := randomText(16)
	code = secret + "." + s.Authority.Fingerprint()
	if err := s.Store.AddEnrollment(ctx, rec.ID, Hash(code), time.Now().Add(codeLife)); err != nil {
		return "", rec, err
	}
	s.audit(ctx, who, from, "enrolment code made", cluster, server)
	return code, rec, nil
}

// SetServer changes a server's placement.
func (s *Service) SetServer(ctx context.Context, name, server string, ch cluster.Change, who, from string) error {
	rec, err := s.Store.Server(ctx, name, server)
	if err != nil {
		return orNotFound(err, "server", server)
	}
	if rec.Referee {
		return badInput("%s is a referee: it has no database, and nothing of it can be set", server)
	}
	if rec.Gate {
		return badInput("%s is a gate: it has no database, and nothing of it can be set here", server)
	}
	if ch.Rank != nil && *ch.Rank == 0 {
		v, err := s.View(name)
		if err != nil {
			return err
		}
		if v.Primary == server {
			return badInput("%s is the primary: its rank cannot become never while it is", server)
		}
	}
	if ch.Rank != nil && *ch.Rank == 0 {
		c, err := s.cluster(name)
		if err != nil {
			return err
		}
		if err := c.mayWaitWithout(server); err != nil {
			return err
		}
	}
	rec.Placement = rec.With(ch)
	if err := rec.Placement.Check(); err != nil {
		return badInput("%v", err)
	}
	if err := s.Store.SetServer(ctx, rec); err != nil {
		return err
	}
	s.audit(ctx, who, from, "server changed", name,
		fmt.Sprintf("%s: rank %d, site %q, hidden %t, clients %q", server, rec.Rank, rec.Site, rec.Hidden, rec.Clients))
	return s.reload(ctx, name)
}

// RemoveServer forgets a server. Its database keeps running, nothing guards it any more,
// and it has no way in: its account, its access rules and its slot go.
func (s *Service) RemoveServer(ctx context.Context, cluster, server, who, from string) ([]verb.Leftover, error) {
	if err := s.idle(cluster); err != nil {
		return nil, err
	}
	rec, err := s.Store.Server(ctx, cluster, server)
	if err != nil {
		return nil, orNotFound(err, "server", server)
	}
	c, err := s.cluster(cluster)
	if err != nil {
		return nil, err
	}
	if c.latest.Load().View.Primary == server {
		return nil, badInput("%s is the primary of %s: switch over to another server first, or remove the cluster", server,
			cluster)
	}
	if err := cmp.Or(c.mayDoWithout(rec), c.mayWaitWithout(server)); err != nil {
		return nil, err
	}
	left := s.leave(ctx, c, []string{server}, false)
	if err := s.Store.RemoveServer(ctx, rec.ID); err != nil {
		return nil, err
	}
	s.audit(ctx, who, from, "server removed", cluster, server)
	return left, s.reload(ctx, cluster)
}

// mayDoWithout refuses to remove an agent that fencing needs: of two that are left, one alone
// could not go on.
func (c *watched) mayDoWithout(rec store.Server) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := 0
	for _, m := range c.agents() {
		if m.rec.Enrolled && m.rec.ID != rec.ID {
			n++
		}
	}
	if !c.rec.Policy.Fencing || !rec.Enrolled || rec.Gate || n >= leastAgents {
		return nil
	}
	return badInput("fencing is on, and without %s %s would have %d agents of the %d that it needs: add another "+
		"server, or a referee (crosstwin server add %s NAME --referee), or switch fencing off first (crosstwin cluster set "+
		"%s --fencing off)",
		rec.Name, c.rec.Name, n, leastAgents, c.rec.Name, c.rec.Name)
}

// mayWaitWithout refuses what would leave nobody for commits to wait for.
func (c *watched) mayWaitWithout(server string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	mode := c.rec.Policy.Synchronous.Mode
	if !c.rec.Policy.Synchronous.Wanted() || c.rec.Owner == "" || c.member(server) == nil {
		return nil
	}
	var others []view.Member
	for _, m := range c.members {
		if m.rec.Name != server {
			others = append(others, view.Member{Member: m.rec.Member})
		}
	}
	if _, err := view.ListFor(c.rec.Engine, others, mode, c.rec.Owner); err != nil {
		return badInput("commits of %s wait for replicas (mode %s), and without %s: %v; end the mode first: crosstwin "+
			"cluster set %s --synchronous none", c.rec.Name, mode, server, err, c.rec.Name)
	}
	return nil
}

// ErrBadCode says that an enrolment code is not good (any more).
var ErrBadCode = errors.New(
	"this enrolment code is not known, was used or is too old: make a new one with crosstwin server code CLUSTER SERVER")

// Enroll trades a one-time code for a certificate.
func (s *Service) Enroll(ctx context.Context, r agentapi.EnrollRequest, from string) (agentapi.EnrollAnswer, error) {
	if err := cluster.CheckHostPort(r.Agent); err != nil {
		return agentapi.EnrollAnswer{}, badInput("the agent's address: %v", err)
	}
	if err := cluster.CheckHost(r.Host); err != nil || r.Port < 0 || r.Port > 65535 {
		return agentapi.EnrollAnswer{}, badInput("the database's address: %v", cmp.Or(err,
			fmt.Errorf("%d is no port", r.Port)))
	}
	host := r.Host
	if r.Port == 0 {
		host = "" // the engine's own port: the agent's first answer names it
	}
	rec, err := s.Store.EnrollmentFor(ctx, Hash(r.Code))
	if err == nil {
		if err := s.mayEnroll(rec, r); err != nil {
			return agentapi.EnrollAnswer{}, err
		}
		rec, err = s.Store.UseEnrollment(ctx, Hash(r.Code), r.Agent, host, r.Port)
	}
	if errors.Is(err, store.ErrNotFound) {
		return agentapi.EnrollAnswer{}, ErrBadCode
	}
	if err != nil {
		return agentapi.EnrollAnswer{}, err
	}
	cert, err := s.Authority.SignRequest([]byte(r.Request), targetOf(rec).Name())
	if err != nil {
		return agentapi.EnrollAnswer{}, badInput("the certificate request: %v", err)
	}
	if err := s.certified(ctx, rec.Cluster, rec.Name, cert); err != nil {
		return agentapi.EnrollAnswer{}, err
	}
	c, err := s.Store.Cluster(ctx, rec.Cluster)
	if err != nil {
		return agentapi.EnrollAnswer{}, err
	}
	s.audit(ctx, "agent", from, "agent enrolled", rec.Cluster, rec.Name+" at "+r.Agent)
	return agentapi.EnrollAnswer{Cluster: rec.Cluster, Server: rec.Name, Engine: c.Engine, Certificate: string(cert),
		Authority: string(s.Authority.PEM())}, s.reload(ctx, rec.Cluster)
}

func what(gate bool) string {
	if gate {
		return "a gate (crosstwin gate enroll)"
	}
	return "a server or a referee (crosstwin agent enroll, crosstwin referee enroll)"
}

// targetOf is where a server's agent, or a gate, is called.
func targetOf(rec store.Server) agentapi.Target {
	return agentapi.Target{Cluster: rec.Cluster, Server: rec.Name, Address: rec.Agent, Gate: rec.Gate}
}

// mayEnroll refuses an enrolment that cannot be meant, before its code is spent: of another
// engine, of an agent that is another server's, at an address that another server has
// (invariant: a database belongs to one cluster, once).
func (s *Service) mayEnroll(m store.Server, r agentapi.EnrollRequest) error {
	c, err := s.cluster(m.Cluster)
	if err != nil {
		return err
	}
	c.mu.Lock()
	engine := c.rec.Engine
	c.mu.Unlock()
	switch {
	case m.Referee && !r.Referee:
		return badInput("the code is for a referee of %s, an agent without a database: crosstwin referee enroll --service "+
			"URL --code CODE", m.Cluster)
	case r.Referee && !m.Referee:
		return badInput("the code is for %s, a server of %s with a database: on its host, crosstwin agent enroll --service "+
			"URL --code CODE", m.Name, m.Cluster)
	case m.Gate != r.Gate:
		return badInput("the code is for %s, and what wants to enrol is %s", what(m.Gate), what(r.Gate))
	case r.Engine != "" && r.Engine != engine:
		return badInput("the code is for %s of %s, which is a cluster of %s; the server there is of %s", m.Name, m.Cluster,
			dialect.Of(engine).Label, dialect.Of(r.Engine).Label)
	case r.Server != "" && (r.Server != m.Name || r.Cluster != m.Cluster):
		return badInput("the code is for %s of %s, and the agent there is that of %s of %s: give another --dir", m.Name,
			m.Cluster, r.Server, r.Cluster)
	}
	for _, other := range s.all() {
		other.mu.Lock()
		for _, x := range other.members {
			same := x.rec.Enrolled && x.rec.Host == r.Host && x.rec.Port == r.Port && r.Port != 0
			if same && x.rec.ID != m.ID {
				err = badInput("the database at %s is %s of %s already: one database belongs to one cluster, once",
					net.JoinHostPort(r.Host, strconv.Itoa(r.Port)), x.rec.Name, other.rec.Name)
			}
		}
		other.mu.Unlock()
	}
	return err
}

// AddToken makes an access token; it is shown once. Days is how long it lasts; 0 is for
// ever.
func (s *Service) AddToken(ctx context.Context, name string, scopes, clusters []string, days int, who,
	from string) (token string, t access.Token, err error) {
	if err := checkName("token", name); err != nil {
		return "", t, err
	}
	t = access.Token{Name: name, Clusters: append([]string{}, clusters...), CreatedAt: time.Now().UTC()}
	if t.Scopes, err = access.ParseScopes(scopes); err != nil {
		return "", t, InputError{err}
	}
	for _, c := range clusters {
		if _, err := s.cluster(c); err != nil {
			return "", t, err
		}
	}
	if days < 0 {
		return "", t, badInput("a token lasts for some days, or with 0 for ever")
	}
	if days > 0 {
		end := t.CreatedAt.AddDate(0, 0, days)
		t.ExpiresAt = &end
	}
	token = NewToken()
	if err := s.Store.AddToken(ctx, t, Hash(token)); err != nil {
		return "", t, err
	}
	s.audit(ctx, who, from, "token added", name, fmt.Sprintf("scopes %v, clusters %v, days %d", scopes, clusters, days))
	return token, t, nil
}

// RemoveToken removes an access token.
func (s *Service) RemoveToken(ctx context.Context, name, who, from string) error {
	if err := s.Store.RemoveToken(ctx, name); err != nil {
		return orNotFound(err, "token", name)
	}
	s.audit(ctx, who, from, "token removed", name, "")
	return nil
}

// NewToken makes the text of an access token.
func NewToken() string { return "ct-" + randomText(24) }

// Hash is how tokens and codes stand in the records. They are random and long,
// so a plain hash is enough.
func Hash(secret string) string {
	h := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(h[:])
}

func randomText(n int) string {
	b := make([]byte, n)
	rand.Read(b)
	return hex.EncodeToString(b)
}
