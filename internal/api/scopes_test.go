package api

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"crosstwin/internal/core/access"
	"crosstwin/internal/service"
)

// Each token may do what its scopes say on every route and nothing else: a stolen
// metrics token reads metrics. A token for one cluster sees no other.
func TestScopes(t *testing.T) {
	f := newFace(t)
	for _, s := range access.Scopes {
		if err := f.store.AddToken(t.Context(), access.Token{Name: string(s), Scopes: []access.Scope{s}},
			service.Hash("ct-"+string(s))); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.store.AddToken(t.Context(), access.Token{Name: "one", Scopes: []access.Scope{access.Admin},
		Clusters: []string{"bookings"}}, service.Hash("ct-one")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"bookings", "cargo"} {
		code, text, _ := f.ask("POST", "/api/v1/clusters", `{"name":"`+name+`"}`, "Authorization: Bearer "+f.token)
		if code != 201 {
			t.Fatal(code, text)
		}
	}
	for _, r := range (&API{}).allRoutes() {
		if r.open {
			continue
		}
		if _, said := needs[r.id]; !said && r.method != http.MethodGet {
			t.Errorf("%s changes something and stands in no scope", r.id)
		}
		path := strings.NewReplacer(":cluster", "ferry", ":server", "auk", ":id", "999",
			":file", "x", ":name", "nobody").Replace(r.path)
		need := access.Watch
		if s, said := needs[r.id]; said {
			need = s
		}
		for _, s := range access.Scopes {
			may := access.Token{Scopes: []access.Scope{s}}.May(need)
			if may && r.id == "events" {
				continue // it would go on for ever
			}
			code, text, _ := f.ask(r.method, path, "", "Authorization: Bearer ct-"+string(s))
			if (code != http.StatusForbidden) != may || code == http.StatusUnauthorized {
				t.Errorf("%s with %s: %d %s", r.id, s, code, text)
			}
		}
		code, text, _ := http.StatusForbidden, "", 0
		if r.id != "events" {
			code, text, _ = f.ask(r.method, path, "", "Authorization: Bearer ct-one")
		}
		ownWay := ofAll[r.id] && !strings.Contains(r.path, ":cluster")
		if (code != http.StatusForbidden) != (ownWay && r.id != "events") {
			t.Errorf("%s with a token for another cluster: %d %s", r.id, code, text)
		}
	}
	code, text, _ := f.ask("GET", "/api/v1/clusters", "", "Authorization: Bearer ct-one")
	if code != 200 || !strings.Contains(text, `"bookings"`) || strings.Contains(text, `"cargo"`) {
		t.Errorf("the clusters of a token for one: %d %s", code, text)
	}
	if code, text, _ := f.ask("GET", "/api/v1/clusters/bookings", "", "Authorization: Bearer ct-one"); code != 200 {
		t.Errorf("%d %s", code, text)
	}
	code, text, _ = f.ask("POST", "/api/v1/tokens", `{"name":"more","scopes":["root"]}`, "Authorization: Bearer "+f.token)
	if code != 400 || !strings.Contains(text, "there is no scope") {
		t.Errorf("%d %s", code, text)
	}
	if !slices.Equal(access.Scopes, []access.Scope{"metrics", "watch", "read-data", "operate", "admin"}) {
		t.Error("the scopes of the documentation")
	}
}

// What a token is refused stands in the audit trail, and does not fill it.
func TestRefusalsAreTraced(t *testing.T) {
	f := newFace(t)
	if err := f.store.AddToken(t.Context(), access.Token{Name: "graphs", Scopes: []access.Scope{access.Metrics}},
		service.Hash("ct-graphs")); err != nil {
		t.Fatal(err)
	}
	for range 20 {
		for _, path := range []string{"/api/v1/tokens", "/api/v1/clusters"} {
			if code, text, _ := f.ask("GET", path, "", "Authorization: Bearer ct-graphs"); code != http.StatusForbidden {
				t.Fatal(code, text)
			}
		}
	}
	_, text, _ := f.ask("GET", "/api/v1/audit", "", "Authorization: Bearer "+f.token)
	for _, want := range []string{`"refused"`, "the token graphs is not good for this", "/api/v1/tokens"} {
		if !strings.Contains(text, want) {
			t.Errorf("the trail does not say %q: %s", want, text)
		}
	}
	if n := strings.Count(text, `"refused"`); n != 2 {
		t.Errorf("%d refusals in the trail of 40: %s", n, text)
	}
}
