// Package console clicks through the console in a real browser, against the
// real service with real servers.
package console

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/test/browser"
	"crosstwin/test/harness"
)

var binary string

func TestMain(m *testing.M) { harness.Main(m, &binary) }

// visit is a world with a page of its console open.
type visit struct {
	*demo.Cluster
	t    *testing.T
	ctx  context.Context
	page *browser.Page
}

func (v *visit) ok(err error) {
	v.t.Helper()
	if err != nil {
		v.t.Fatal(err)
	}
}

func newVisit(t *testing.T, cluster string) *visit {
	t.Helper()
	w, ctx := harness.World(t, binary, cluster, nil)
	p, stop, err := browser.Open(ctx, w.URL, 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	v := &visit{w, t, ctx, p}
	link, err := w.Client.SessionLink(ctx)
	v.ok(err)
	v.ok(p.Go(strings.TrimPrefix(link, w.URL), "Fleet", cluster))
	return v
}

// act presses through a plan: the button that opens it, the name where data is
// lost, the button that begins it, and waits for the operation's last words.
func (v *visit) act(open, begin, end string, confirm bool) {
	v.t.Helper()
	v.ok(v.page.Press(open))
	v.ok(v.page.Await("Nothing has been changed", "Steps"))
	if confirm {
		v.ok(v.page.Type("Name to confirm", v.Name))
	}
	v.ok(v.page.Press(begin))
	v.ok(v.page.Await(end, "Journal"))
}

func (v *visit) quiet(what string) {
	v.t.Helper()
	if e := v.page.Errors(); len(e) > 0 {
		v.t.Errorf("%s: the page's console says %v", what, e)
	}
}

// The whole story, clicked: seed, switchover, failover, rejoin.
func TestClickedThrough(t *testing.T) {
	t.Parallel()
	for _, cluster := range harness.Drawn(t.Name()) {
		t.Run(cluster, func(t *testing.T) {
			t.Parallel()
			clickThrough(newVisit(t, cluster))
		})
	}
}

func clickThrough(v *visit) {
	n := v.Names()
	first, second, third := n[0], n[1], n[2]
	here := "/clusters/" + v.Name
	load := v.Load(1, 20*time.Millisecond)
	defer load.Stop()

	v.ok(v.page.Go(here+"/"+second, second+" is stopped", "it holds no database yet"))
	v.act("Seed…", "Seed "+second, "Seed: finished.", false)
	_, err := v.Operate(v.ctx, operation.Request{Kind: operation.Seed, Server: third}, nil)
	v.ok(err)

	v.ok(v.page.Go(here, "It can lose 1 more server", "Nothing at risk"))
	v.act("Switch over…", "Switch over to "+second, "Switchover: finished.", false)
	v.ok(v.page.Await(second + " is primary of " + v.Name))
	v.quiet("switchover")

	v.ok(v.Server(second).Starve(v.ctx))
	v.ok(load.AwaitAcks(v.ctx, 5))
	demo.KillDatabase(v.Server(second))
	v.ok(v.page.Go("/", v.Name+" takes no writes"))
	v.act("Fail over…", "Fail over to "+first, "Failover: finished.", true)

	v.ok(v.Await(v.ctx, func(x view.View) bool { return x.Primary == first && x.Find(first).Health == view.TakesWrites }))
	v.ok(v.page.Go(here+"/"+second, second+" is "))
	v.ok(v.page.Press("Rejoin…"))
	v.ok(v.page.Await("only here", "The tail, newest first", "Ways back", "not possible"))
	v.ok(v.page.TypeInto("#confirm", second))
	v.ok(v.page.Press("Rewind and rejoin " + second))
	v.ok(v.page.Await("Rejoin: finished.", "Journal", "Download the salvage", "The tail, newest first"))
	v.ok(v.page.Go("/", v.Name+" takes writes on "+first))
	v.quiet("the end")
}

// Every page opens in both themes, at three widths, without a complaint of the
// browser's; and when the service goes, every page says so and comes back by
// itself.
func TestPages(t *testing.T) {
	t.Parallel()
	v := newVisit(t, demo.Bookings)
	v.ok(v.SeedAll(v.ctx, nil))
	pages := map[string]string{"/": "Of", "/clusters/bookings": "takes writes on gull",
		"/clusters/bookings/tern": "tern is in step", "/operations": "newest first", "/operations/1": "Seed: finished",
		"/audit":  "who asked for what",
		"/alerts": "No alert is open", "/clusters/bookings/log": "it is being written",
		"/clusters/bookings/tuning": "Replay has cancelled no query", "/clusters/bookings/tern/rejoin": "Ways back",
		"/settings": "Access tokens", "/setup": "Add a cluster", "/clusters/bookings/setup": "Add a replica to bookings",
		"/clusters/bookings/check": "is ready for a switchover", "/clusters/none": "no cluster",
		"/nowhere": "no page at this address"}
	pages["/"] = "1 of 1 cluster is in step"
	for _, theme := range []string{"light", "dark"} {
		v.ok(v.page.Theme(theme))
		for path, words := range pages {
			if err := v.page.Go(path, words); err != nil {
				t.Errorf("%s: %v", path, err)
			}
			v.quiet(theme + " " + path)
			for what, find := range map[string]func() ([]string, error){"too little contrast": v.page.Unreadable,
				"no name for a screen reader": v.page.Unnamed} {
				if bad, err := find(); err != nil || len(bad) > 0 {
					t.Errorf("%s %s: %s: %q %v", theme, path, what, bad, err)
				}
			}
		}
	}
	for _, width := range []int{360, 2560} {
		v.ok(v.page.Size(width, 900))
		for path, words := range pages {
			v.ok(v.page.Go(path, words))
			if over, err := v.page.Overflow(); err != nil || over > 0 {
				t.Errorf("%s at %d px is %d px too wide: %s %v", path, width, over, v.page.Widest(), err)
			}
		}
	}
	v.ok(v.page.Size(1280, 800))
	v.ok(v.page.Go("/clusters/bookings", "data is current"))
	v.StopService()
	v.ok(v.WaitServiceGone(v.ctx))
	v.ok(v.page.Await("connection lost"))
	v.ok(v.StartService(v.ctx))
	v.ok(v.page.Await("data is current", "takes writes on gull"))
}

// Who may come in: a token or a one-time address, nobody twice, no other
// site's page; and failures are limited.
func TestSessions(t *testing.T) {
	t.Parallel()
	v := newVisit(t, demo.Bookings)
	ask := func(method, path, body string, header map[string]string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(v.ctx, method, v.URL+path, bytes.NewReader([]byte(body)))
		v.ok(err)
		for k, x := range header {
			req.Header.Set(k, x)
		}
		res, err := http.DefaultClient.Do(req)
		v.ok(err)
		res.Body.Close()
		return res
	}
	page := map[string]string{"X-Crosstwin-Page": "1", "Content-Type": "application/json"}
	link, err := v.Client.SessionLink(v.ctx)
	v.ok(err)
	_, code, _ := strings.Cut(link, "#")
	res := ask("POST", "/api/v1/session", `{"code":"`+code+`"}`, page)
	if res.StatusCode != 201 || len(res.Cookies()) != 1 {
		t.Fatalf("a one-time address: %d %v", res.StatusCode, res.Cookies())
	}
	k := res.Cookies()[0]
	if !k.HttpOnly || k.SameSite != http.SameSiteStrictMode {
		t.Errorf("the cookie is %+v", k)
	}
	if res := ask("POST", "/api/v1/session", `{"code":"`+code+`"}`, page); res.StatusCode != 401 {
		t.Errorf("the same address again: %d", res.StatusCode)
	}
	cookie := k.Name + "=" + k.Value
	for _, c := range []struct {
		what   string
		header map[string]string
		want   int
	}{
		{"the console's own page", map[string]string{"Cookie": cookie, "X-Crosstwin-Page": "1"}, 201},
		{"a form of another site", map[string]string{"Cookie": cookie}, 403},
		{"a page of another site", map[string]string{"Cookie": cookie, "X-Crosstwin-Page": "1",
			"Origin": "http://elsewhere.example"}, 403},
		{"no session", map[string]string{"X-Crosstwin-Page": "1"}, 401},
	} {
		c.header["Content-Type"] = "application/json"
		if res := ask("POST", "/api/v1/tokens", `{"name":"t-`+fmt.Sprint(len(c.what))+`","scopes":["watch"]}`,
			c.header); res.StatusCode != c.want {
			t.Errorf("%s: %d, want %d", c.what, res.StatusCode, c.want)
		}
	}
	if res := ask("GET", "/", "", nil); !strings.Contains(res.Header.Get("Content-Security-Policy"),
		"script-src 'self'") || strings.Contains(res.Header.Get("Content-Security-Policy"), "unsafe") {
		t.Errorf("the policy is %q", res.Header.Get("Content-Security-Policy"))
	}
	// Logging in by hand, and out.
	v.ok(v.page.Go("/settings", "Access tokens"))
	v.ok(v.page.Press("Log out"))
	v.ok(v.page.Await("Log in to Cross Twin"))
	v.ok(v.page.TypeInto(`input[type="password"]`, v.Token))
	v.ok(v.page.Press("Log in"))
	v.ok(v.page.Await("Settings", "Access tokens"))
	for _, e := range v.page.Errors() {
		if !strings.Contains(e, "401 (Unauthorized)") { // asked in the moment of leaving, and refused rightly
			t.Errorf("logging out and in: the page's console says %s", e)
		}
	}
	limited := false
	for range 12 {
		limited = limited || ask("POST", "/api/v1/session", `{"token":"wrong"}`, page).StatusCode == 429
	}
	if !limited {
		t.Error("failed logins are not limited")
	}
}
