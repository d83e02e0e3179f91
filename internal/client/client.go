// Package client is the Go client of the service's HTTP API, used by the
// command line and by tests. Every method returns an apitype.Problem for an
// error that the service answered, and ErrUnreachable when it did not answer.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/apitype"
	"crosstwin/internal/core/access"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// ErrUnreachable says that no service answered.
var ErrUnreachable = errors.New("the service does not answer")

// Client calls one service.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client. caFile, when given, holds the only authority that is
// trusted for an https address.
func New(base, token, caFile string) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a service: it looks like http://127.0.0.1:7710", base)
	}
	tr := http.DefaultTransport.(*http.Transport).Clone()
	if caFile != "" {
		pem, err := os.ReadFile(caFile)
		if err != nil {
			return nil, err
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", caFile)
		}
		tr.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return &Client{base: strings.TrimSuffix(base, "/"), token: token, http: &http.Client{Transport: tr}}, nil
}

// Base returns the service's address.
func (c *Client) Base() string { return c.base }

func (c *Client) request(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w at %s (%w)", ErrUnreachable, c.base, reason(err))
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	var p apitype.Problem
	if err := json.NewDecoder(res.Body).Decode(&p); err != nil || p.Detail == "" {
		return nil, fmt.Errorf("%w at %s: what answers there is no crosstwin service (%s)", ErrUnreachable, c.base,
			res.Status)
	}
	return nil, p
}

// reason drops the method and address that net/http puts before an error.
func reason(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	res, err := c.request(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("%w at %s: its answer cannot be read: %w", ErrUnreachable, c.base, err)
	}
	return nil
}

func at(parts ...string) string {
	p := "/api/v1"
	for _, s := range parts {
		p += "/" + url.PathEscape(s)
	}
	return p
}

// Version asks who answers.
func (c *Client) Version(ctx context.Context) (v apitype.Version, err error) {
	return v, c.call(ctx, "GET", at("version"), nil, &v)
}

// Clusters returns all clusters, worst first.
func (c *Client) Clusters(ctx context.Context) ([]view.View, error) {
	var out apitype.Clusters
	return out.Clusters, c.call(ctx, "GET", at("clusters"), nil, &out)
}

// Cluster returns one cluster.
func (c *Client) Cluster(ctx context.Context, name string) (v view.View, err error) {
	return v, c.call(ctx, "GET", at("clusters", name), nil, &v)
}

// AddCluster adds a cluster.
func (c *Client) AddCluster(ctx context.Context, n apitype.NewCluster) (v view.View, err error) {
	return v, c.call(ctx, "POST", at("clusters"), n, &v)
}

// SetCluster changes a cluster.
func (c *Client) SetCluster(ctx context.Context, name string, ch apitype.ClusterChange) (v view.View, err error) {
	return v, c.call(ctx, "PATCH", at("clusters", name), ch, &v)
}

// RemoveCluster removes a cluster; with drop what Cross Twin made there and nothing
// uses.
func (c *Client) RemoveCluster(ctx context.Context, name string, drop bool) (r apitype.Leaving, err error) {
	return r, c.call(ctx, "DELETE", at("clusters", name)+dropQuery(drop), nil, &r)
}

// Leaving returns what becomes of the things that Cross Twin made when a cluster, or
// one server of it, is removed.
func (c *Client) Leaving(ctx context.Context, cluster, server string, drop bool) (r apitype.Leaving, err error) {
	return r, c.call(ctx, "GET", at("clusters", cluster, "leaving")+"?"+url.Values{"server": {server},
		"drop": {strconv.FormatBool(drop)}}.Encode(), nil, &r)
}

func dropQuery(drop bool) string {
	if drop {
		return "?drop=true"
	}
	return ""
}

// AddServer adds a server.
func (c *Client) AddServer(ctx context.Context, cluster string, n apitype.NewServer) (code apitype.EnrolmentCode,
	err error) {
	return code, c.call(ctx, "POST", at("clusters", cluster, "servers"), n, &code)
}

// GateSessions lists the sessions of a gate.
func (c *Client) GateSessions(ctx context.Context, cluster, gate string) (list apitype.GateSessions, err error) {
	return list, c.call(ctx, "GET", at("clusters", cluster, "gates", gate, "sessions"), nil, &list)
}

// Server returns one server.
func (c *Client) Server(ctx context.Context, cluster, server string) (s view.Server, err error) {
	return s, c.call(ctx, "GET", at("clusters", cluster, "servers", server), nil, &s)
}

// SetServer changes a server.
func (c *Client) SetServer(ctx context.Context, cluster, server string, ch apitype.ServerChange) (s view.Server,
	err error) {
	return s, c.call(ctx, "PATCH", at("clusters", cluster, "servers", server), ch, &s)
}

// RemoveServer removes a server.
func (c *Client) RemoveServer(ctx context.Context, cluster, server string) (r apitype.Leaving, err error) {
	return r, c.call(ctx, "DELETE", at("clusters", cluster, "servers", server), nil, &r)
}

// NewCode makes a new enrolment code.
func (c *Client) NewCode(ctx context.Context, cluster, server string) (code apitype.EnrolmentCode, err error) {
	return code, c.call(ctx, "POST", at("clusters", cluster, "servers", server, "code"), nil, &code)
}

// Enroll trades a one-time code for an agent's certificate. It trusts whom it
// talks to: an agent on another host checks the code's fingerprint instead.
func (c *Client) Enroll(ctx context.Context, r agentapi.EnrollRequest) (ans agentapi.EnrollAnswer, err error) {
	return ans, c.call(ctx, "POST", at("enroll"), r, &ans)
}

// Check returns the checks for a purpose.
func (c *Client) Check(ctx context.Context, cluster, purpose, server, to string) (p apitype.Plan, err error) {
	q := url.Values{"for": {purpose}, "server": {server}, "to": {to}}
	return p, c.call(ctx, "GET", at("clusters", cluster, "check")+"?"+q.Encode(), nil, &p)
}

// Preview returns the plan of an operation, with the digest by which it is begun.
func (c *Client) Preview(ctx context.Context, cluster string, r operation.Request) (p apitype.Plan, err error) {
	return p, c.call(ctx, "POST", at("clusters", cluster, "plan"), apitype.NewOperation{Request: r}, &p)
}

// Begin begins an operation whose plan was shown: digest is that plan's. When
// the plan differs by now, the error is a Problem with the code "plan-changed"
// and the new plan.
func (c *Client) Begin(ctx context.Context, cluster string, r operation.Request, digest string) (op operation.Operation,
	err error) {
	return op, c.call(ctx, "POST", at("clusters", cluster, "operations"),
		apitype.NewOperation{Request: r, Plan: digest}, &op)
}

// BeginUnseen begins an operation whose plan no person looks at, and accepts
// what the plan discards: for programs that have decided beforehand. A plan that
// changes meanwhile is taken as it is then, a few times.
func (c *Client) BeginUnseen(ctx context.Context, cluster string, r operation.Request) (op operation.Operation,
	err error) {
	p, err := c.Preview(ctx, cluster, r)
	if err != nil {
		return op, err
	}
	for range 5 {
		r.ConfirmName = p.ConfirmName
		op, err = c.Begin(ctx, cluster, r, p.Digest)
		var problem apitype.Problem
		if !errors.As(err, &problem) || problem.Code != apitype.CodeChanged || problem.Plan == nil {
			return op, err
		}
		p = *problem.Plan
	}
	return op, err
}

// Tail returns what only a server has.
func (c *Client) Tail(ctx context.Context, cluster, server string) (x verb.Examination, err error) {
	return x, c.call(ctx, "GET", at("clusters", cluster, "servers", server, "tail"), nil, &x)
}

// Salvage copies a saved tail.
func (c *Client) Salvage(ctx context.Context, cluster, server, file string, w io.Writer) error {
	res, err := c.request(ctx, "GET", at("clusters", cluster, "servers", server, "salvage", file), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(w, res.Body)
	return err
}

// Operations lists operations.
func (c *Client) Operations(ctx context.Context, cluster, state, kind string, limit int) ([]operation.Operation,
	error) {
	var out apitype.Operations
	q := url.Values{"cluster": {cluster}, "state": {state}, "kind": {kind}, "limit": {strconv.Itoa(limit)}}
	return out.Operations, c.call(ctx, "GET", at("operations")+"?"+q.Encode(), nil, &out)
}

// Operation returns one operation.
func (c *Client) Operation(ctx context.Context, id int64) (op operation.Operation, err error) {
	return op, c.call(ctx, "GET", at("operations", strconv.FormatInt(id, 10)), nil, &op)
}

// Cancel returns an operation up.
func (c *Client) Cancel(ctx context.Context, id int64) error {
	return c.call(ctx, "POST", at("operations", strconv.FormatInt(id, 10), "cancel"), nil, nil)
}

// SessionLink makes an address that opens the console once.
func (c *Client) SessionLink(ctx context.Context) (string, error) {
	var l apitype.SessionLink
	err := c.call(ctx, http.MethodPost, "/api/v1/session-links", nil, &l)
	return c.base + l.Path, err
}

// Login says that this token is kept, and returns what it is good for.
func (c *Client) Login(ctx context.Context) (s apitype.Session, err error) {
	return s, c.call(ctx, http.MethodPost, "/api/v1/logins", nil, &s)
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]access.Token, error) {
	var out apitype.Tokens
	return out.Tokens, c.call(ctx, "GET", at("tokens"), nil, &out)
}

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, n apitype.NewToken) (t apitype.MadeToken, err error) {
	return t, c.call(ctx, "POST", at("tokens"), n, &t)
}

// RemoveToken removes a token.
func (c *Client) RemoveToken(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", at("tokens", name), nil, nil)
}

// Event is one event of the stream.
type Event struct {
	ID   int64
	Kind string
	Data []byte
}

// Events hands over changes until ctx ends or the stream ends; after
// continues a broken stream. query may be cluster=NAME or operation=ID.
func (c *Client) Events(ctx context.Context, query url.Values, after int64, each func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, "GET", c.base+at("events")+"?"+query.Encode(), nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if after > 0 {
		req.Header.Set("Last-Event-ID", strconv.FormatInt(after, 10))
	}
	res, err := c.http.Do(req)
	if err != nil {
		return fmt.Errorf("%w at %s (%w)", ErrUnreachable, c.base, reason(err))
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		var p apitype.Problem
		json.NewDecoder(res.Body).Decode(&p)
		return p
	}
	sc := bufio.NewScanner(res.Body)
	sc.Buffer(make([]byte, 64<<10), 16<<20)
	var e Event
	for sc.Scan() {
		key, value, _ := strings.Cut(sc.Text(), ": ")
		switch {
		case sc.Text() == "" && e.Kind != "":
			if err := each(e); err != nil {
				return err
			}
			e = Event{}
		case key == "id":
			e.ID, _ = strconv.ParseInt(value, 10, 64)
		case key == "event":
			e.Kind = value
		case key == "data":
			e.Data = []byte(value)
		}
	}
	return fmt.Errorf("%w at %s: the stream of events ended", ErrUnreachable, c.base)
}

// lookAnyway is how often Follow looks although no event came.
const lookAnyway = time.Second

// restAfterLook is the shortest time between two looks.
const restAfterLook = 100 * time.Millisecond

// Follow reports an operation whenever it has changed, until it has ended. A
// service that goes away is waited for: the operation is in its journal.
func (c *Client) Follow(ctx context.Context, id int64, patience time.Duration,
	each func(operation.Operation)) (operation.Operation, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	changed := make(chan struct{}, 1)
	go c.signal(ctx, id, changed)
	var last operation.Operation
	lost := time.Time{}
	for {
		op, err := c.Operation(ctx, id)
		switch {
		case err == nil:
			lost = time.Time{}
			each(op)
			if last = op; op.State == operation.Ended {
				return op, nil
			}
		case errors.Is(err, ErrUnreachable) && ctx.Err() == nil:
			if lost.IsZero() {
				lost = time.Now()
			}
			if time.Since(lost) > patience {
				return last, err
			}
		default:
			return last, err
		}
		select {
		case <-ctx.Done():
			return last, ctx.Err()
		case <-changed:
			// A busy operation changes every few milliseconds; looking as often
			// would cost the machine time that the operation needs.
			time.Sleep(restAfterLook)
		case <-time.After(lookAnyway):
		}
	}
}

// signal tells of every change of an operation, over broken streams too.
func (c *Client) signal(ctx context.Context, id int64, changed chan<- struct{}) {
	for ctx.Err() == nil {
		c.Events(ctx, url.Values{"operation": {strconv.FormatInt(id, 10)}}, 0, func(Event) error {
			select {
			case changed <- struct{}{}:
			default: // one is waiting already
			}
			return nil
		})
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
}
