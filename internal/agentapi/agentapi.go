// Package agentapi is the wire between service and agent: the types that both
// sides use, and the service's client. Calls are short (long work is a job that
// an observation reports), over TLS with certificates of the service's own
// authority.
package agentapi

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/pki"
)

// ThoroughTimeout bounds a look at a server that also collects its settings and
// counts what is in its databases.
const ThoroughTimeout = 8 * time.Second

// ObserveRequest asks for an observation and tells the newest decision.
type ObserveRequest struct {
	Term     int64 `json:"term"`  // newest decided
	Owner    bool  `json:"owner"` // of it: this server
	Thorough bool  `json:"thorough"`
	// Reopen: if this server came back closed, nothing is known that speaks against
	// opening it again.
	Reopen bool `json:"reopen,omitempty"`
	// KeepTails is for how many seconds saved tails stay; 0: for ever.
	KeepTails float64 `json:"keep_tails_seconds,omitempty"`
	// System identifies the cluster's data; empty: not known yet.
	System string `json:"system,omitempty"`
	// Decision is that of the term, signed.
	Decision *guard.Signed `json:"decision,omitempty"`
	// Guard is about the permission to write; nil where fencing is off.
	Guard *GuardAsk `json:"guard,omitempty"`
	// Promise is the number of the newest change of what acknowledged writes rest on.
	Promise int64 `json:"promise,omitempty"`
	// Readers is what load balancers may be told.
	Readers *Readers `json:"readers,omitempty"`
	// Certificates are those by which agents of the cluster are known; nil: nothing is said.
	Certificates *Certificates `json:"certificates,omitempty"`
	// Orders are for a gate; nil for an agent.
	Orders *route.Orders `json:"orders,omitempty"`
}

// Certificates are those by which agents of a cluster are known. Serials are in hex. One that
// was made since Changed, by the service's clock, is none that was withdrawn before.
type Certificates struct {
	Serials []string  `json:"serials"`
	Changed time.Time `json:"changed"`
}

// Readers is what the service knows of a server as one for readers.
type Readers struct {
	Hidden bool `json:"hidden"`
	// Known: how far behind it is, is known, and its history is the primary's.
	Known      bool    `json:"known"`
	LagSeconds float64 `json:"lag_seconds"`
}

// Request is the envelope of a call.
type Request struct {
	Operation int64
	Step      string
	Term      int64
	Call      verb.Call
	// Decision is the newest of the cluster.
	Decision *guard.Signed
}

// Envelope is a Request as it goes over the wire; the verb's name is in the path.
type Envelope struct {
	Operation int64           `json:"operation"`
	Step      string          `json:"step"`
	Term      int64           `json:"term"`
	Args      json.RawMessage `json:"args,omitempty"`
	Decision  *guard.Signed   `json:"decision,omitempty"`
}

// Answer is what a verb gives back: its result, or a job that goes on.
type Answer struct {
	Result json.RawMessage  `json:"result,omitempty"`
	Job    *observation.Job `json:"job,omitempty"`
}

// Problem is an error as it goes over the wire (RFC 9457).
type Problem struct {
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Status int    `json:"status"`
	Code   string `json:"code"`
}

func (p Problem) Error() string { return p.Detail }

// The codes of an agent's problems.
const (
	CodeStaleTerm = "stale-term"
	CodeBusy      = "agent-busy"
	CodeFailed    = "verb-failed"
	CodeBadInput  = "bad-request"
	CodeForbidden = "forbidden"
	CodeNotFound  = "not-found"
)

// EnrollRequest is what a new agent sends with its one-time code.
type EnrollRequest struct {
	Code string `json:"code"`
	// Engine is that of the server that was found there, Cluster and Server what the
	// agent is enrolled as already; each may be empty. A code for something else is not
	// spent.
	Engine  string `json:"engine,omitempty"`
	Cluster string `json:"cluster,omitempty"`
	Server  string `json:"server,omitempty"`
	// Referee: an agent without a database. Gate: a gate.
	Referee bool   `json:"referee,omitempty"`
	Gate    bool   `json:"gate,omitempty"`
	Request string `json:"certificate_request"`
	Agent   string `json:"agent"` // address at which the service reaches it
	Host    string `json:"host"`  // of the database
	Port    int    `json:"port"`
}

// EnrollAnswer is the agent's identity.
type EnrollAnswer struct {
	Cluster     string `json:"cluster"`
	Server      string `json:"server"`
	Engine      string `json:"engine"`
	Certificate string `json:"certificate"`
	Authority   string `json:"authority"`
}

// Unreachable says that an agent could not be asked; whether the verb had an
// effect is then unknown.
type Unreachable struct {
	Server, Address string
	Err             error
}

func (u Unreachable) Error() string {
	if errors.Is(u.Err, context.DeadlineExceeded) {
		return fmt.Sprintf("%s's agent at %s has not answered in time", u.Server, u.Address)
	}
	return fmt.Sprintf("%s's agent cannot be reached at %s: %v", u.Server, u.Address, u.Err)
}

// Unwrap returns the network's own error.
func (u Unreachable) Unwrap() error { return u.Err }

// Target is one agent, or a gate.
type Target struct {
	Cluster, Server, Address string
	Gate                     bool
}

// Name is the one in its certificate.
func (t Target) Name() string {
	if t.Gate {
		return pki.GateName(t.Cluster, t.Server)
	}
	return pki.AgentName(t.Cluster, t.Server)
}

// Caller calls agents as the service.
type Caller struct {
	// Shows judges the certificate by which an agent answers; nil: the authority's word is
	// enough. It is set before the first call.
	Shows func(Target, *x509.Certificate) error

	mu    sync.Mutex
	cert  tls.Certificate
	roots *x509.CertPool
	byKey map[Target]*http.Client
}

// NewCaller makes a caller with the service's certificate.
func NewCaller(cert tls.Certificate, roots *x509.CertPool) *Caller {
	return &Caller{cert: cert, roots: roots, byKey: map[Target]*http.Client{}}
}

// Use has all further calls made with another certificate and other roots.
func (c *Caller) Use(cert tls.Certificate, roots *x509.CertPool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, h := range c.byKey {
		h.CloseIdleConnections() // a call under way goes on
	}
	c.cert, c.roots, c.byKey = cert, roots, map[Target]*http.Client{}
}

// Forget has the next call to an agent begin with a new connection.
func (c *Caller) Forget(t Target) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if h := c.byKey[t]; h != nil {
		h.CloseIdleConnections() // a call under way goes on
		delete(c.byKey, t)
	}
}

// client keeps one connection an agent. The dial gives up soon and kept
// connections are probed, because a cut network is silent.
func (c *Caller) client(t Target) *http.Client {
	c.mu.Lock()
	defer c.mu.Unlock()
	if h := c.byKey[t]; h != nil {
		return h
	}
	d := &net.Dialer{Timeout: 2 * time.Second, KeepAlive: 5 * time.Second}
	h := &http.Client{CheckRedirect: refuseRedirect, Transport: &http.Transport{
		DialContext: d.DialContext, MaxIdleConnsPerHost: 4, DisableCompression: true,
		IdleConnTimeout: time.Minute, TLSHandshakeTimeout: 3 * time.Second,
		TLSClientConfig: &tls.Config{Certificates: []tls.Certificate{c.cert}, RootCAs: c.roots,
			ServerName: t.Name(), MinVersion: tls.VersionTLS13,
			VerifyConnection: func(s tls.ConnectionState) error {
				if c.Shows == nil {
					return nil
				}
				return c.Shows(t, s.PeerCertificates[0])
			}}}}
	c.byKey[t] = h
	return h
}

func (c *Caller) post(ctx context.Context, t Target, path string, in, out any) error {
	if t.Address == "" {
		return Unreachable{t.Server, "an unknown address", errors.New("it has not enrolled")}
	}
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+t.Address+path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if permit := PermitOf(ctx); permit != "" {
		req.Header.Set(PermitHeader, permit)
	}
	res, err := c.client(t).Do(req)
	if err != nil {
		return Unreachable{t.Server, t.Address, rootCause(err)}
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var p Problem
		if json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&p) != nil || p.Detail == "" {
			return Unreachable{t.Server, t.Address, fmt.Errorf("it answers %s: something else listens there", res.Status)}
		}
		return p
	}
	text := buffers.Get().(*bytes.Buffer)
	defer func() {
		if text.Cap() <= mostKept {
			text.Reset()
			buffers.Put(text)
		}
	}()
	body := &io.LimitedReader{R: res.Body, N: mostAnswer}
	_, err = text.ReadFrom(body)
	if err == nil && body.N <= 0 {
		err = fmt.Errorf("its answer is larger than %d bytes", mostAnswer)
	}
	if err == nil {
		err = json.Unmarshal(text.Bytes(), out)
	}
	if err != nil {
		return Unreachable{t.Server, t.Address, err}
	}
	return nil
}

// buffers are for answers, which are read whole before they are decoded; one of more than
// mostKept bytes is not used again.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

const mostKept = 1 << 16

// mostAnswer bounds what is read of an agent's answer: it may come from a host that
// somebody else has taken over.
const mostAnswer = 64 << 20

var errRedirect = errors.New("it answers from somewhere else, which is not followed")

func refuseRedirect(*http.Request, []*http.Request) error { return errRedirect }

// rootCause drops the method and address that net/http puts before an error.
func rootCause(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		return op.Err
	}
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// Observe asks for an observation.
func (c *Caller) Observe(ctx context.Context, t Target, r ObserveRequest) (*observation.Server, error) {
	var o observation.Server
	if err := c.post(ctx, t, "/agent/v1/observe", r, &o); err != nil {
		return nil, err
	}
	return &o, nil
}

// Do has a call carried out.
func (c *Caller) Do(ctx context.Context, t Target, r Request) (a Answer, err error) {
	e := Envelope{Operation: r.Operation, Step: r.Step, Term: r.Term, Decision: r.Decision}
	if e.Args, err = json.Marshal(r.Call); err != nil {
		return a, err
	}
	return a, c.post(ctx, t, "/agent/v1/verbs/"+string(r.Call.Verb()), e, &a)
}

// Doer carries out calls: a Caller on a target, or whatever wraps one.
type Doer func(ctx context.Context, r Request) (Answer, error)

// Ask makes a call that yields a result and returns that result.
func Ask[R any](ctx context.Context, do Doer, r Request, call verb.Asks[R]) (result R, err error) {
	r.Call = call
	a, err := do(ctx, r)
	if err != nil {
		return result, err
	}
	if len(a.Result) == 0 {
		return result, fmt.Errorf("%s yielded no result", call.Verb())
	}
	return result, json.Unmarshal(a.Result, &result)
}

// Examine has a server's data examined.
func (c *Caller) Examine(ctx context.Context, t Target, a verb.Examine) (*verb.Examination, error) {
	var x verb.Examination
	if err := c.post(ctx, t, "/agent/v1/examine", a, &x); err != nil {
		return nil, err
	}
	return &x, nil
}

// Names asks a running server for the names of tables by file number.
func (c *Caller) Names(ctx context.Context, t Target, files []string) (map[string]string, error) {
	out := map[string]string{}
	return out, c.post(ctx, t, "/agent/v1/names", files, &out)
}

// RowsAt asks a running server for row versions of before a fork, by place.
func (c *Caller) RowsAt(ctx context.Context, t Target, a tail.RowsAtArgs) (out tail.RowsAt, err error) {
	return out, c.post(ctx, t, "/agent/v1/rows-at", a, &out)
}

// LogFiles lists the files of a server's log.
func (c *Caller) LogFiles(ctx context.Context, t Target) (files []tail.LogFile, err error) {
	return files, c.post(ctx, t, "/agent/v1/log-files", struct{}{}, &files)
}

// ReadLog reads a part of a server's log.
func (c *Caller) ReadLog(ctx context.Context, t Target, a tail.ReadLogArgs) (page tail.LogPage, err error) {
	return page, c.post(ctx, t, "/agent/v1/read-log", a, &page)
}

// Complaints returns the newest lines of a server's own error log.
func (c *Caller) Complaints(ctx context.Context, t Target) (list []tail.Complaint, err error) {
	return list, c.post(ctx, t, "/agent/v1/complaints", struct{}{}, &list)
}

// AccountRequest asks a primary's agent for the account by which the asking server
// follows. Secret is what a database keeps of its password.
type AccountRequest struct {
	Secret string `json:"secret"`
}

// Renewal is a certificate request of an agent, or the certificate for it; and the
// same for its database, of an agent that asks for one.
type Renewal struct {
	Request             string `json:"request,omitempty"`
	Certificate         string `json:"certificate,omitempty"`
	DatabaseRequest     string `json:"database_request,omitempty"`
	DatabaseCertificate string `json:"database_certificate,omitempty"`
}

// Renew has an agent make new keys, and gives it the certificates that sign makes.
func (c *Caller) Renew(ctx context.Context, t Target, sign func(asked Renewal) (Renewal, error)) error {
	var asked Renewal
	if err := c.post(ctx, t, "/agent/v1/renewal/ask", struct{}{}, &asked); err != nil {
		return err
	}
	signed, err := sign(asked)
	if err != nil {
		return err
	}
	var done struct{}
	return c.post(ctx, t, "/agent/v1/renewal/take", signed, &done)
}

// Authorities are those that an agent is to trust, as a file of certificates, the one that
// signs first. The signature is of one that it trusts.
type Authorities struct {
	Certificates string `json:"certificates"`
	Signature    []byte `json:"signature"`
}

// Trust tells an agent whom to trust.
func (c *Caller) Trust(ctx context.Context, t Target, a Authorities) error {
	var done struct{}
	return c.post(ctx, t, "/agent/v1/authorities", a, &done)
}

// StopJob ends a job.
func (c *Caller) StopJob(ctx context.Context, t Target, key string) error {
	var stopped bool
	return c.post(ctx, t, "/agent/v1/stop-job", key, &stopped)
}

// Salvage copies a saved tail from an agent.
func (c *Caller) Salvage(ctx context.Context, t Target, file string, w io.Writer) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+t.Address+"/agent/v1/salvage/"+file, nil)
	if err != nil {
		return err
	}
	res, err := c.client(t).Do(req)
	if err != nil {
		return Unreachable{t.Server, t.Address, rootCause(err)}
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var p Problem
		json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&p)
		return p
	}
	_, err = io.Copy(w, res.Body)
	return err
}
