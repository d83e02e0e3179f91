// Package api is the HTTP face of the service: JSON under /api/v1, errors as
// problem+json, changes as server-sent events, the OpenAPI document made from
// the same table as the handlers. It makes no decisions.
package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v4"
	"github.com/labstack/echo/v4/middleware"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/apitype"
	"crosstwin/internal/core/access"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/service"
	"crosstwin/internal/store"
)

// API serves one service.
type API struct {
	service *service.Service
	version string
	started time.Time
	log     *slog.Logger
	refused access.Refusals
}

// route is one line of the table that both the handlers and the document are
// made from.
type route struct {
	method, path, id, summary string
	query                     []string
	in, out                   any
	status                    int
	open                      bool   // without a token
	content                   string // of the answer, when it is not JSON
	handle                    func(c echo.Context) error
}

// New makes the handler of a service.
func New(s *service.Service, version string, log *slog.Logger) http.Handler {
	a := &API{service: s, version: version, started: time.Now().UTC(), log: log}
	e := echo.New()
	e.HideBanner, e.HidePort = true, true
	e.HTTPErrorHandler = a.fail
	e.Use(middleware.Recover(), a.logged, guarded)
	for _, r := range a.allRoutes() {
		h := r.handle
		if !r.open {
			h = a.authorized(a.scoped(r, h))
		}
		e.Add(r.method, r.path, h)
	}
	e.IPExtractor = echo.ExtractIPDirect() // the address of the connection, not what a caller claims in a header
	e.GET("/*", a.console)
	return e
}

// mostBody bounds a request's body, slowest how long it may take to arrive.
const (
	mostBody = 1 << 20
	slowest  = 20 * time.Second
)

// guarded reads a request's body whole, bounded in size and time, before anything is
// done with it, and has nobody keep or guess at an answer.
func guarded(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		if strings.HasPrefix(c.Request().URL.Path, "/api/") || c.Request().URL.Path == "/metrics" {
			h.Set("Cache-Control", "no-store")
		}
		r := c.Request()
		if r.Body == nil || r.ContentLength == 0 {
			return next(c)
		}
		conn := http.NewResponseController(c.Response().Writer)
		conn.SetReadDeadline(time.Now().Add(slowest))
		b, err := io.ReadAll(http.MaxBytesReader(c.Response().Writer, r.Body, mostBody))
		conn.SetReadDeadline(time.Time{})
		if err != nil {
			return apitype.Problem{Status: http.StatusRequestEntityTooLarge, Code: apitype.CodeBadInput, Title: "Unreadable",
				Detail: fmt.Sprintf("the request's body: %v; it may have %d bytes and take %s", err, mostBody, slowest)}
		}
		r.Body = io.NopCloser(bytes.NewReader(b))
		return next(c)
	}
}

func (a *API) logged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		began := time.Now()
		err := next(c)
		if err != nil {
			c.Error(err)
		}
		a.log.Debug("request", "method", c.Request().Method, "path", c.Request().URL.Path, "status", c.Response().Status,
			"seconds", time.Since(began).Seconds())
		return nil
	}
}

// authorized lets in who shows a token or has a session.
func (a *API) authorized(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		token, _ := strings.CutPrefix(c.Request().Header.Get("Authorization"), "Bearer ")
		name, err := a.identify(c, token)
		if err != nil {
			return err
		}
		t, err := a.service.Token(c.Request().Context(), name)
		if err != nil {
			return err
		}
		c.Set("who", name)
		c.Set("token", t)
		a.service.NoteUse(c.Request().Context(), name)
		return next(c)
	}
}

func who(c echo.Context) (name, from string) {
	name, _ = c.Get("who").(string)
	return name, c.RealIP()
}

// fail writes any error as a problem.
func (a *API) fail(err error, c echo.Context) {
	if c.Response().Committed {
		return
	}
	p := problemOf(a.service.Explain(err))
	p.Plan = readablePlan(c, p.Plan)
	if p.Status >= 500 {
		a.log.Error("request failed", "path", c.Request().URL.Path, "error", err)
	}
	p.Type = "about:blank"
	c.Response().Header().Set(echo.HeaderContentType, "application/problem+json")
	c.Response().WriteHeader(p.Status)
	json.NewEncoder(c.Response()).Encode(p)
}

func problemOf(err error) apitype.Problem {
	var (
		p       apitype.Problem
		missing service.NotFoundError
		many    service.TooManyError
		clash   service.ConflictError
		input   service.InputError
		refused service.RefusedError
		changed service.ChangedError
		confirm service.ConfirmError
		far     agentapi.Unreachable
		agent   agentapi.Problem
		he      *echo.HTTPError
	)
	make := func(status int, code, title string) apitype.Problem {
		return apitype.Problem{Status: status, Code: code, Title: title, Detail: err.Error()}
	}
	switch {
	case errors.As(err, &p):
		return p
	case errors.Is(err, service.ErrUnknownToken):
		p := make(http.StatusUnauthorized, apitype.CodeUnauthorized, "Unknown token")
		p.Detail += ": crosstwin login with another"
		return p
	case errors.As(err, &many):
		return make(http.StatusTooManyRequests, apitype.CodeTooMany, "Too many failed logins")
	case errors.As(err, &clash):
		return make(http.StatusConflict, apitype.CodeRefused, "Refused: nothing was changed")
	case errors.As(err, &missing):
		return make(http.StatusNotFound, apitype.CodeNotFound, "Not found")
	case errors.As(err, &input), errors.Is(err, service.ErrBadCode):
		return make(http.StatusBadRequest, apitype.CodeBadInput, "Invalid request")
	case errors.As(err, &refused):
		p := make(http.StatusConflict, apitype.CodeRefused, "Refused: nothing was changed")
		p.Plan, p.Operation = shown(refused.Plan), refused.Operation
		return p
	case errors.As(err, &changed):
		p := make(http.StatusConflict, apitype.CodeChanged, "Plan changed")
		p.Plan = shown(changed.Plan)
		return p
	case errors.As(err, &confirm):
		p := make(http.StatusPreconditionRequired, apitype.CodeConfirm, "To be confirmed")
		p.Plan = shown(confirm.Plan)
		return p
	case errors.Is(err, store.ErrTaken):
		return make(http.StatusConflict, apitype.CodeTaken, "Taken already")
	case errors.As(err, &far):
		return make(http.StatusBadGateway, apitype.CodeAgent, "An agent cannot be reached")
	case errors.As(err, &agent) && agent.Code == agentapi.CodeBadInput:
		return make(http.StatusBadRequest, apitype.CodeBadInput, agent.Title)
	case errors.As(err, &agent):
		return make(http.StatusBadGateway, apitype.CodeAgent, agent.Title)
	case errors.As(err, &he):
		p := make(he.Code, apitype.CodeBadInput, http.StatusText(he.Code))
		p.Detail = fmt.Sprint(he.Message)
		if he.Code == http.StatusNotFound {
			p.Code, p.Detail = apitype.CodeNotFound,
				"there is nothing at this address; the API is described at /api/v1/openapi.json"
		}
		return p
	case errors.Is(err, context.Canceled):
		return make(499, apitype.CodeInternal, "Given up by the caller")
	}
	return make(http.StatusInternalServerError, apitype.CodeInternal, "Internal error")
}

// shown puts the digest beside a plan.
func shown(p *operation.Plan) *apitype.Plan { return &apitype.Plan{Digest: p.Digest(), Plan: *p} }

// body decodes a request's body and refuses fields that it does not know: a
// misspelt field must not pass for an absent one.
func body[T any](c echo.Context) (v T, err error) { return v, bodyInto(c, &v) }

// bodyInto decodes over what stands in v: what the body leaves out stays.
func bodyInto(c echo.Context, v any) error {
	d := json.NewDecoder(c.Request().Body)
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return apitype.Problem{Status: http.StatusBadRequest, Code: apitype.CodeBadInput, Title: "Unreadable",
			Detail: "the request's body: " + err.Error()}
	}
	return nil
}
