package api

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"sort"
	"strconv"

	"github.com/labstack/echo/v4"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/apitype"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/metrics"
	"crosstwin/internal/service"
)

// allRoutes is the whole API.
func (a *API) allRoutes() []route { return slices.Concat(a.routes(), a.watchRoutes()) }

// routes are those of clusters, operations and access.
func (a *API) routes() []route {
	const v1 = "/api/v1"
	const cluster, server = v1 + "/clusters/:cluster", v1 + "/clusters/:cluster/servers/:server"
	return []route{
		{method: "GET", path: "/healthz", id: "health", summary: "Whether the process runs", open: true, status: 200,
			content: "text/plain", handle: func(c echo.Context) error { return c.String(200, "ok\n") }},
		{method: "GET", path: "/readyz", id: "ready", summary: "Whether it can do its work", open: true, status: 200,
			content: "text/plain", handle: a.ready},
		{method: "GET", path: "/metrics", id: "metrics", summary: "What the service judges, as Prometheus metrics",
			status: 200, content: "text/plain", handle: echo.WrapHandler(metrics.Handler(a.service))},
		{method: "GET", path: v1 + "/openapi.json", id: "document", summary: "This document", open: true, status: 200,
			out: map[string]any{}, handle: a.document},
		{method: "GET", path: v1 + "/version", id: "version", summary: "Version and start of the service", status: 200,
			out: apitype.Version{}, handle: func(c echo.Context) error {
				return c.JSON(200, apitype.Version{Version: a.version, StartedAt: a.started})
			}},
		{method: "POST", path: v1 + "/enroll", id: "enroll", summary: "Exchange a one-time code for an agent's certificate",
			open: true, status: 200, in: agentapi.EnrollRequest{}, out: agentapi.EnrollAnswer{}, handle: a.enroll},

		{method: "GET", path: v1 + "/clusters", id: "listClusters", summary: "All clusters as judged now", status: 200,
			out: apitype.Clusters{}, handle: a.listClusters},
		{method: "POST", path: v1 + "/clusters", id: "addCluster", summary: "Add a cluster", status: 201,
			in: apitype.NewCluster{}, out: view.View{}, handle: a.addCluster},
		{method: "GET", path: cluster, id: "showCluster",
			summary: "One cluster as judged now, with its servers' observations", status: 200, out: view.View{},
			handle: a.showCluster},
		{method: "PATCH", path: cluster, id: "setCluster", summary: "Change a cluster", status: 200,
			in: apitype.ClusterChange{}, out: view.View{}, handle: a.setCluster},
		{method: "DELETE", path: cluster, id: "removeCluster", summary: "Remove a cluster; its databases keep running",
			query: []string{"drop"}, status: 200, out: apitype.Leaving{}, handle: a.removeCluster},
		{method: "GET", path: cluster + "/leaving", id: "leaving",
			summary: "What becomes of the things that Cross Twin made there when the cluster, or one server, is removed",
			query:   []string{"server", "drop"}, status: 200, out: apitype.Leaving{}, handle: a.leaving},
		{method: "GET", path: cluster + "/check", id: "check", summary: "The checks for a purpose",
			query: []string{"for", "server", "to"}, status: 200, out: apitype.Plan{}, handle: a.check},
		{method: "POST", path: cluster + "/plan", id: "previewOperation",
			summary: "The plan of an operation; nothing is changed", status: 200, in: apitype.NewOperation{},
			out: apitype.Plan{}, handle: a.preview},
		{method: "POST", path: cluster + "/operations", id: "beginOperation", summary: "Begin an operation", status: 201,
			in: apitype.NewOperation{}, out: operation.Operation{}, handle: a.begin},

		{method: "POST", path: cluster + "/servers", id: "addServer",
			summary: "Add a server; gives its agent's one-time code", status: 201, in: apitype.NewServer{},
			out: apitype.EnrolmentCode{}, handle: a.addServer},
		{method: "GET", path: server, id: "showServer", summary: "One server as judged now", status: 200, out: view.Server{},
			handle: a.showServer},
		{method: "PATCH", path: server, id: "setServer", summary: "Change rank or site, hide or show", status: 200,
			in: apitype.ServerChange{}, out: view.Server{}, handle: a.setServer},
		{method: "DELETE", path: server, id: "removeServer", summary: "Remove a server; its database keeps running",
			status: 200, out: apitype.Leaving{}, handle: a.removeServer},
		{method: "POST", path: server + "/code", id: "newCode", summary: "A new one-time code for its agent", status: 201,
			out: apitype.EnrolmentCode{}, handle: a.newCode},
		{method: "GET", path: cluster + "/gates/:gate/sessions", id: "gateSessions",
			summary: "The sessions of a gate, the oldest first", status: 200, out: apitype.GateSessions{},
			handle: a.gateSessions},
		{method: "GET", path: server + "/tail", id: "tail", summary: "What only this server has", status: 200,
			out: verb.Examination{}, handle: a.tail},
		{method: "GET", path: server + "/salvage/:file", id: "salvage", summary: "A saved tail", status: 200,
			content: "application/sql", handle: a.salvage},

		{method: "GET", path: v1 + "/operations", id: "listOperations",
			summary: "List operations, newest first, without steps", query: []string{"cluster", "state", "kind", "limit"},
			status: 200, out: apitype.Operations{}, handle: a.listOperations},
		{method: "GET", path: v1 + "/operations/:id", id: "showOperation", summary: "One operation with steps and journal",
			status: 200, out: operation.Operation{}, handle: a.showOperation},
		{method: "POST", path: v1 + "/operations/:id/cancel", id: "cancelOperation",
			summary: "Cancel an operation before its point of no return", status: 202, handle: a.cancel},
		{method: "GET", path: v1 + "/events", id: "events",
			summary: "Changes as server-sent events; resumes after Last-Event-ID", query: []string{"cluster", "operation"},
			status: 200, content: "text/event-stream", handle: a.events},
		{method: "GET", path: v1 + "/audit", id: "audit", summary: "Who asked for what, newest first",
			query: []string{"limit", "before"}, status: 200, out: apitype.Events{}, handle: a.audit},

		{method: "POST", path: v1 + "/session", id: "openSession",
			summary: "Trade a token or a one-time code for a session cookie (console)", open: true, status: 201,
			in: apitype.NewSession{}, out: apitype.Session{}, handle: a.openSession},
		{method: "GET", path: v1 + "/session", id: "showSession", summary: "Who is logged in; nobody: an empty name",
			open: true, status: 200, out: apitype.Session{}, handle: a.showSession},
		{method: "DELETE", path: v1 + "/session", id: "closeSession", summary: "End the session", status: 204,
			handle: a.closeSession},
		{method: "POST", path: v1 + "/logins", id: "noteLogin",
			summary: "Write down that a token is kept for the command line, and say what it is good for", status: 201,
			out: apitype.Session{}, handle: a.noteLogin},
		{method: "POST", path: v1 + "/session-links", id: "addSessionLink",
			summary: "Make an address that opens the console once, for ten minutes", status: 201, out: apitype.SessionLink{},
			handle: a.newSessionLink},

		{method: "GET", path: v1 + "/tokens", id: "listTokens", summary: "All tokens, without their secrets", status: 200,
			out: apitype.Tokens{}, handle: a.listTokens},
		{method: "POST", path: v1 + "/tokens", id: "addToken", summary: "Make a token; it is shown once", status: 201,
			in: apitype.NewToken{}, out: apitype.MadeToken{}, handle: a.addToken},
		{method: "DELETE", path: v1 + "/tokens/:name", id: "removeToken", summary: "Remove a token", status: 204,
			handle: a.removeToken},
	}
}

func (a *API) ready(c echo.Context) error {
	if err := a.service.Ready(c.Request().Context()); err != nil {
		return apitype.Problem{Status: http.StatusServiceUnavailable, Code: apitype.CodeInternal, Title: "Not ready",
			Detail: "the records cannot be used: " + err.Error()}
	}
	return c.String(200, "ready\n")
}

func (a *API) enroll(c echo.Context) error {
	r, err := body[agentapi.EnrollRequest](c)
	if err != nil {
		return err
	}
	ans, err := a.service.Enroll(c.Request().Context(), r, c.RealIP())
	if err != nil {
		return err
	}
	return c.JSON(200, ans)
}

func (a *API) listClusters(c echo.Context) error {
	list := kept(c, a.service.Assessments(), func(a *service.Assessment) string { return a.View.Cluster })
	// Worst first; equals by name.
	sort.Slice(list, func(i, j int) bool {
		x, y := &list[i].View, &list[j].View
		if x.Health != y.Health {
			return view.Worse(x.Health, y.Health)
		}
		return x.Cluster < y.Cluster
	})
	body, err := inJSON(list)
	if err != nil {
		return err
	}
	return c.JSONBlob(200, body)
}

// inJSON is apitype.Clusters, of parts that are encoded already.
func inJSON(list []*service.Assessment) ([]byte, error) {
	const head, tail = `{"clusters":[`, "]}\n"
	size := len(head) + len(tail)
	parts := make([]json.RawMessage, len(list))
	for i, x := range list {
		var err error
		if parts[i], err = x.Shown(); err != nil {
			return nil, err
		}
		size += len(parts[i]) + len(",")
	}
	out := append(make([]byte, 0, size), head...)
	for i, part := range parts {
		if i > 0 {
			out = append(out, ',')
		}
		out = append(out, part...)
	}
	return append(out, tail...), nil
}

func (a *API) addCluster(c echo.Context) error {
	r, err := body[apitype.NewCluster](c)
	if err != nil {
		return err
	}
	name, from := who(c)
	v, err := a.service.AddCluster(c.Request().Context(), r.Name, r.Engine, name, from)
	if err != nil {
		return err
	}
	return c.JSON(201, v)
}

func (a *API) showCluster(c echo.Context) error {
	v, err := a.service.View(c.Param("cluster"))
	if err != nil {
		return err
	}
	return c.JSON(200, v)
}

func (a *API) setCluster(c echo.Context) error {
	v, err := a.service.View(c.Param("cluster"))
	if err != nil {
		return err
	}
	policy := v.Policy
	policy.Muted = slices.Clone(policy.Muted)
	r := apitype.ClusterChange{Policy: &policy}
	if err := bodyInto(c, &r); err != nil {
		return err
	}
	name, from := who(c)
	if r.Policy != nil && !reflect.DeepEqual(*r.Policy, v.Policy) {
		if err := a.service.SetPolicy(c.Request().Context(), c.Param("cluster"), *r.Policy, name, from); err != nil {
			return err
		}
	}
	return a.showCluster(c)
}

func (a *API) removeCluster(c echo.Context) error {
	name, from := who(c)
	left, err := a.service.RemoveCluster(c.Request().Context(), c.Param("cluster"), c.QueryParam("drop") == "true", name,
		from)
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.ToLeaving(left, false))
}

func (a *API) leaving(c echo.Context) error {
	left, err := a.service.Leaving(c.Param("cluster"), c.QueryParam("server"), c.QueryParam("drop") == "true")
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.ToLeaving(left, true))
}

func (a *API) check(c echo.Context) error {
	purpose := operation.Kind(c.QueryParam("for"))
	if purpose == "" {
		purpose = operation.Switchover
	}
	p, err := a.service.Check(c.Request().Context(), c.Param("cluster"),
		operation.Request{Kind: purpose, Server: c.QueryParam("server"), To: c.QueryParam("to")})
	if err != nil {
		return err
	}
	return c.JSON(200, readablePlan(c, shown(p)))
}

func (a *API) preview(c echo.Context) error {
	r, err := body[apitype.NewOperation](c)
	if err != nil {
		return err
	}
	p, err := a.service.Preview(c.Request().Context(), c.Param("cluster"), r.Request)
	if err != nil {
		return err
	}
	return c.JSON(200, readablePlan(c, shown(p)))
}

func (a *API) begin(c echo.Context) error {
	r, err := body[apitype.NewOperation](c)
	if err != nil {
		return err
	}
	name, from := who(c)
	op, err := a.service.Begin(c.Request().Context(), c.Param("cluster"), r.Request, r.Plan, name, from)
	if err != nil {
		return err
	}
	return c.JSON(201, readable(c, op))
}

func (a *API) addServer(c echo.Context) error {
	r, err := body[apitype.NewServer](c)
	if err != nil {
		return err
	}
	name, from := who(c)
	code, err := a.service.AddServer(c.Request().Context(), c.Param("cluster"),
		cluster.Member{Name: r.Name, Placement: r.Placement, FirstPrimary: r.Primary, Referee: r.Referee,
			Gate: r.Gate}, name, from)
	if err != nil {
		return err
	}
	return c.JSON(201, apitype.EnrolmentCode{Code: code, Cluster: c.Param("cluster"), Server: r.Name, Referee: r.Referee,
		Gate: r.Gate})
}

func (a *API) showServer(c echo.Context) error {
	v, err := a.service.View(c.Param("cluster"))
	if err != nil {
		return err
	}
	s := v.Find(c.Param("server"))
	isReferee := func(r view.Referee) bool { return r.Name == c.Param("server") }
	switch {
	case slices.ContainsFunc(v.Referees, isReferee):
		return service.InputError{Err: fmt.Errorf("%s is a referee of %s and has no database: crosstwin status %s says how "+
			"it is", c.Param("server"), v.Cluster, v.Cluster)}
	case slices.ContainsFunc(v.Gates, func(g view.Gate) bool { return g.Name == c.Param("server") }):
		return service.InputError{Err: fmt.Errorf("%s is a gate of %s and has no database: crosstwin gate show %s %[1]s "+
			"says how it is", c.Param("server"), v.Cluster, v.Cluster)}
	case s == nil:
		return service.NotFound("server", c.Param("server"))
	}
	return c.JSON(200, s)
}

func (a *API) setServer(c echo.Context) error {
	r, err := body[apitype.ServerChange](c)
	if err != nil {
		return err
	}
	name, from := who(c)
	if err := a.service.SetServer(c.Request().Context(), c.Param("cluster"), c.Param("server"), r.Change, name,
		from); err != nil {
		return err
	}
	return a.showServer(c)
}

func (a *API) removeServer(c echo.Context) error {
	name, from := who(c)
	left, err := a.service.RemoveServer(c.Request().Context(), c.Param("cluster"), c.Param("server"), name,
		from)
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.ToLeaving(left, false))
}

func (a *API) newCode(c echo.Context) error {
	name, from := who(c)
	code, rec, err := a.service.NewCode(c.Request().Context(), c.Param("cluster"), c.Param("server"), name, from)
	if err != nil {
		return err
	}
	return c.JSON(201, apitype.EnrolmentCode{Code: code, Cluster: rec.Cluster, Server: rec.Name, Referee: rec.Referee,
		Gate: rec.Gate})
}

func (a *API) gateSessions(c echo.Context) error {
	list, err := a.service.GateSessions(c.Request().Context(), c.Param("cluster"), c.Param("gate"))
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.GateSessions{Sessions: list})
}

func (a *API) tail(c echo.Context) error {
	x, err := a.service.Tail(c.Request().Context(), c.Param("cluster"), c.Param("server"))
	if err != nil {
		return err
	}
	return c.JSON(200, x)
}

func (a *API) salvage(c echo.Context) error {
	c.Response().Header().Set(echo.HeaderContentType, "application/sql")
	return a.service.SalvageFile(c.Request().Context(), c.Param("cluster"), c.Param("server"), c.Param("file"),
		c.Response())
}

const defaultLimit, largestLimit = 50, 1000

func limitOf(c echo.Context) (int, error) {
	s := c.QueryParam("limit")
	if s == "" {
		return defaultLimit, nil
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > largestLimit {
		return 0, apitype.Problem{Status: 400, Code: apitype.CodeBadInput, Title: "Bad limit",
			Detail: "limit is a number from 1 to 1000"}
	}
	return n, nil
}

func (a *API) listOperations(c echo.Context) error {
	n, err := limitOf(c)
	if err != nil {
		return err
	}
	ops, err := a.service.Operations(c.Request().Context(), c.QueryParam("cluster"), c.QueryParam("state"),
		c.QueryParam("kind"), n)
	if err != nil {
		return err
	}
	ops = kept(c, ops, func(x operation.Operation) string { return x.Cluster })
	for i, op := range ops {
		ops[i] = readable(c, op)
	}
	return c.JSON(200, apitype.Operations{Operations: ops})
}

func operationID(c echo.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		return 0, service.NotFound("operation", c.Param("id"))
	}
	return id, nil
}

func (a *API) showOperation(c echo.Context) error {
	id, err := operationID(c)
	if err != nil {
		return err
	}
	op, err := a.service.Operation(c.Request().Context(), id)
	if err == nil && !tokenOf(c).Sees(op.Cluster) {
		err = service.NotFound("operation", c.Param("id"))
	}
	if err != nil {
		return err
	}
	return c.JSON(200, readable(c, op))
}

func (a *API) cancel(c echo.Context) error {
	id, err := operationID(c)
	if err != nil {
		return err
	}
	if !a.seesOperation(c, c.Param("id")) {
		return service.NotFound("operation", c.Param("id"))
	}
	name, from := who(c)
	if err := a.service.Cancel(c.Request().Context(), id, name, from); err != nil {
		return err
	}
	return c.NoContent(http.StatusAccepted)
}

func (a *API) audit(c echo.Context) error {
	n, err := limitOf(c)
	if err != nil {
		return err
	}
	before, err := strconv.ParseInt(cmp.Or(c.QueryParam("before"), "0"), 10, 64)
	if err != nil || before < 0 {
		return apitype.Problem{Status: 400, Code: apitype.CodeBadInput, Title: "Bad place",
			Detail: "before is the number of an event"}
	}
	ev, err := a.service.Audit(c.Request().Context(), before, n)
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.Events{Events: ev})
}

func (a *API) listTokens(c echo.Context) error {
	t, err := a.service.Tokens(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(200, apitype.Tokens{Tokens: t})
}

func (a *API) addToken(c echo.Context) error {
	r, err := body[apitype.NewToken](c)
	if err != nil {
		return err
	}
	name, from := who(c)
	secret, t, err := a.service.AddToken(c.Request().Context(), r.Name, r.Scopes, r.Clusters, r.Days, name, from)
	if err != nil {
		return err
	}
	return c.JSON(201, apitype.MadeToken{Token: t, Secret: secret})
}

func (a *API) removeToken(c echo.Context) error {
	name, from := who(c)
	if err := a.service.RemoveToken(c.Request().Context(), c.Param("name"), name, from); err != nil {
		return err
	}
	return c.NoContent(204)
}
