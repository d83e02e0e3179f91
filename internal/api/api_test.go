package api

import (
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/access"
	"crosstwin/internal/pki"
	"crosstwin/internal/service"
	"crosstwin/internal/store"
)

// face is the API of a service without agents, served on loopback.
type face struct {
	t     *testing.T
	url   string
	token string
	jar   []*http.Cookie
	store *store.Store
}

func newFace(t *testing.T) *face {
	t.Helper()
	dir := t.TempDir()
	st, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	authority, err := pki.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	s, err := service.New(st, authority, slog.New(slog.DiscardHandler), nil)
	if err != nil {
		t.Fatal(err)
	}
	f := &face{t: t, token: "ct-of-this-test", store: st}
	token := access.Token{Name: "night-shift", Scopes: []access.Scope{access.Admin}}
	if err := st.AddToken(t.Context(), token, service.Hash(f.token)); err != nil {
		t.Fatal(err)
	}
	h := httptest.NewServer(New(s, "test", slog.New(slog.DiscardHandler)))
	t.Cleanup(h.Close)
	f.url = h.URL
	return f
}

// ask sends a request; header lines are "Name: value".
func (f *face) ask(method, path, body string, header ...string) (int, string, http.Header) {
	f.t.Helper()
	req, err := http.NewRequestWithContext(f.t.Context(), method, f.url+path, strings.NewReader(body))
	if err != nil {
		f.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	for _, h := range header {
		k, v, _ := strings.Cut(h, ": ")
		req.Header.Set(k, v)
	}
	for _, c := range f.jar {
		req.AddCookie(c)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		f.t.Fatal(err)
	}
	if c := res.Cookies(); len(c) > 0 {
		f.jar = c
	}
	return res.StatusCode, string(b), res.Header
}

// Every address but the few open ones tells nothing without a token, and every
// error is a problem with a code.
func TestNothingWithoutAToken(t *testing.T) {
	f := newFace(t)
	open := 0
	for _, r := range (&API{}).allRoutes() {
		path := strings.NewReplacer(":cluster", "bookings", ":server", "gull", ":id", "1", ":name", "x", ":file",
			"x").Replace(r.path)
		status, text, h := f.ask(r.method, path, "{}")
		if r.open {
			open++
			continue
		}
		var p apitype.Problem
		if status != 401 || h.Get("Content-Type") != "application/problem+json" || json.Unmarshal([]byte(text), &p) != nil ||
			p.Code != apitype.CodeUnauthorized || p.Detail == "" {
			t.Errorf("%s %s without a token: %d %s", r.method, path, status, text)
		}
	}
	if open != 6 {
		t.Errorf("%d addresses are open", open)
	}
}

func TestProblems(t *testing.T) {
	f := newFace(t)
	with := "Authorization: Bearer " + f.token
	if status, text, _ := f.ask("POST", "/api/v1/clusters", `{"name":"bookings"}`, with); status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	for _, c := range []struct {
		method, path, body string
		status             int
		code, says         string
	}{
		{"POST", "/api/v1/clusters", `{"name":"bookings"}`, 409, apitype.CodeTaken, "bookings"},
		{"POST", "/api/v1/clusters", `{"name":"cargo","engine":"other"}`, 400, apitype.CodeBadInput,
			"mariadb and postgresql"},
		{"POST", "/api/v1/clusters", `{"nmae":"cargo"}`, 400, apitype.CodeBadInput, "nmae"},
		{"POST", "/api/v1/clusters", `not json`, 400, apitype.CodeBadInput, "body"},
		{"GET", "/api/v1/clusters/none", "", 404, apitype.CodeNotFound, "none"},
		{"GET", "/api/v1/clusters/bookings/servers/none", "", 404, apitype.CodeNotFound, "none"},
		{"GET", "/api/v1/nothing/here", "", 404, apitype.CodeNotFound, "openapi.json"},
		{"GET", "/api/v1/operations/7", "", 404, apitype.CodeNotFound, "7"},
		{"POST", "/api/v1/clusters/bookings/plan", `{"kind":"force"}`, 400, apitype.CodeBadInput, `no operation "force"`},
		{"POST", "/api/v1/clusters/bookings/operations", `{"kind":"compare"}`, 409, apitype.CodeRefused, "has no primary"},
		{"POST", "/api/v1/clusters/bookings/operations", `{"kind":"compare","plan":"of yesterday"}`, 409, apitype.CodeRefused,
			"has no primary"},
		{"DELETE", "/api/v1/tokens/none", "", 404, apitype.CodeNotFound, "none"},
	} {
		status, text, _ := f.ask(c.method, c.path, c.body, with)
		var p apitype.Problem
		if err := json.Unmarshal([]byte(text), &p); err != nil || status != c.status || p.Status != c.status ||
			p.Code != c.code || !strings.Contains(p.Detail, c.says) {
			t.Errorf("%s %s %s: %d %s", c.method, c.path, c.body, status, text)
		}
	}
}

// A session: opened with a token, known by its cookie, of no use to another
// site's page, over when it is closed.
func TestSession(t *testing.T) {
	f := newFace(t)
	const page = "X-Crosstwin-Page: 1"
	if status, text, _ := f.ask("GET", "/api/v1/session", ""); status != 200 || !strings.Contains(text, `"name":""`) {
		t.Errorf("nobody: %d %s", status, text)
	}
	if status, _, _ := f.ask("POST", "/api/v1/session", `{"token":"`+f.token+`"}`); status != 403 {
		t.Errorf("opened from somewhere else: %d", status)
	}
	if status, _, _ := f.ask("POST", "/api/v1/session", `{"token":"wrong"}`, page); status != 401 {
		t.Errorf("a wrong token: %d", status)
	}
	status, text, _ := f.ask("POST", "/api/v1/session", `{"token":"`+f.token+`"}`, page)
	if status != 201 || !strings.Contains(text, "night-shift") || len(f.jar) != 1 || !f.jar[0].HttpOnly ||
		f.jar[0].Secure {
		t.Fatalf("%d %s %+v", status, text, f.jar)
	}
	for _, c := range []struct {
		method, path, body string
		header             []string
		want               int
	}{
		{"GET", "/api/v1/clusters", "", nil, 200},
		{"POST", "/api/v1/clusters", `{"name":"a"}`, nil, 403},
		{"POST", "/api/v1/clusters", `{"name":"a"}`, []string{page, "Origin: http://elsewhere.example"}, 403},
		{"POST", "/api/v1/clusters", `{"name":"a"}`, []string{page, "Origin: " + f.url}, 201},
		{"POST", "/api/v1/clusters", `{"name":"b"}`, []string{page}, 201},
		{"DELETE", "/api/v1/clusters/b", "", nil, 403},
	} {
		if status, text, _ := f.ask(c.method, c.path, c.body, c.header...); status != c.want {
			t.Errorf("%s %s %v: %d %s, want %d", c.method, c.path, c.header, status, text, c.want)
		}
	}
	kept := f.jar
	if status, _, _ := f.ask("DELETE", "/api/v1/session", "", page); status != 204 {
		t.Errorf("closing it: %d", status)
	}
	f.jar = kept
	if status, text, _ := f.ask("GET", "/api/v1/clusters", ""); status != 401 || !strings.Contains(text, "log in again") {
		t.Errorf("after it was closed: %d %s", status, text)
	}
}

// Pages come with a policy that lets no foreign script run, whether the console
// was built into this binary or not; what is no page is not answered with one.
func TestConsoleFiles(t *testing.T) {
	f := newFace(t)
	for _, path := range []string{"/", "/clusters/bookings", "/enter"} {
		status, text, h := f.ask("GET", path, "")
		built := status == 200 && strings.Contains(text, "<title>Cross Twin</title>") && h.Get("Cache-Control") == "no-cache"
		missing := status == 404 && strings.Contains(text, "make build")
		if !built && !missing || !strings.Contains(h.Get("Content-Security-Policy"), "default-src 'none'") ||
			strings.Contains(h.Get("Content-Security-Policy"), "unsafe") || h.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: %d %.80s %v", path, status, text, h)
		}
	}
	for path, want := range map[string]int{"/assets/none.js": 404, "/api/none": 404, "/api/v1/clusters/": 404,
		"/..%2f..%2fetc/passwd": 400} {
		if status, text, _ := f.ask("GET", path, ""); status != want || strings.Contains(text, "<title>") {
			t.Errorf("%s: %d %.80s", path, status, text)
		}
	}
	if status, _, _ := f.ask("POST", "/clusters/bookings", "{}"); status != 405 && status != 404 {
		t.Errorf("a page takes a POST: %d", status)
	}
}
