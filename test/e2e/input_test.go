package e2e

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/internal/store"
)

// What is typed wrongly, or asked of the wrong server, is a clear error with
// an exit code of its own, and changes nothing.
func TestBadInput(t *testing.T) { anEngine(t, true, badInput) }

func badInput(t *testing.T, w *world) {
	before := w.settled()
	for _, c := range []struct {
		code  int
		words []string
		args  []string
	}{
		{2, []string{`unknown command "force"`}, []string{"force"}},
		{2, []string{"unknown flag: --force"}, []string{"switchover", "bookings", "--force"}},
		{2, []string{"1 arguments given, 2 needed"}, []string{"seed", "bookings"}},
		{2, []string{`no output form "xml"`}, []string{"status", "-o", "xml"}},
		{2, []string{`there is no cluster "post"`}, []string{"status", "post"}},
		{2, []string{`there is no cluster "post"`}, []string{"switchover", "post", "--yes"}},
		{2, []string{`no server "auk"`, "gull, tern, heron"}, []string{"switchover", "bookings", "--to", "auk", "--yes"}},
		{2, []string{"is the primary of bookings already"}, []string{"switchover", "bookings", "--to", "gull", "--yes"}},
		{2, []string{"no terminal", "--preview"}, []string{"switchover", "bookings"}},
		{2, []string{"only a replica can be seeded"}, []string{"seed", "bookings", "gull", "--yes"}},
		{2, []string{"nothing to rejoin"}, []string{"rejoin", "bookings", "gull", "--yes"}},
		{2, []string{`no way "force"`}, []string{"rejoin", "bookings", "tern", "--way", "force", "--yes"}},
		{2, []string{"its writes are the cluster's own"}, []string{"tail", "bookings", "gull"}},
		{2, []string{"invalid operation number"}, []string{"operation", "show", "x"}},
		{2, []string{`there is no operation "99"`}, []string{"operation", "show", "99"}},
		{2, []string{"has ended already"}, []string{"operation", "cancel", "1"}},
		{2, []string{`invalid name "Bad_Name"`}, []string{"cluster", "add", "Bad_Name"}},
		{2, []string{`no engine "oracle"`}, []string{"cluster", "add", "other", "--engine", "oracle"}},
		{3, []string{"taken already"}, []string{"cluster", "add", "bookings"}},
		{3, []string{"taken already"}, []string{"server", "add", "bookings", "tern"}},
		{2, []string{"has a primary already (gull)"}, []string{"server", "add", "bookings", "auk", "--primary"}},
		{2, []string{`invalid rank "first"`}, []string{"server", "set", "bookings", "tern", "--rank", "first"}},
		{2, []string{"the address for clients", "is not of the form HOST:PORT"},
			[]string{"server", "set", "bookings", "tern", "--client-address", "pier"}},
		{2, []string{"its rank cannot become never"}, []string{"server", "set", "bookings", "gull", "--rank", "never"}},
		{2, []string{"is the primary of bookings: switch over"}, []string{"server", "remove", "bookings", "gull", "--yes"}},
		{2, []string{"behind_seconds"}, []string{"cluster", "set", "bookings", "--behind-seconds", "-1"}},
		{3, []string{"its rank is never", "--rank 1"}, []string{"switchover", "bookings", "--to", "heron", "--yes"}},
		{3, []string{"its rank is never"}, []string{"failover", "bookings", "--to", "heron", "--yes"}},
		{3, []string{"there is nothing to do"}, []string{"failover", "bookings", "--to", "gull", "--yes"}},
		{6, []string{"does not answer", "crosstwin serve"}, []string{"status", "--service", "http://127.0.0.1:9"}},
		{6, []string{"token is not known", "crosstwin login"}, []string{"status", "--token", "wrong"}},
		{2, []string{"is not the address of a service"}, []string{"status", "--service", "nonsense"}},
		{2, []string{"needs --code"}, []string{"agent", "enroll"}},
		{1, []string{"not an enrolment code"},
			[]string{"agent", "enroll", "--code", "x", "--data-dir", "/x", "--host", "h", "--dir",
				filepath.Join(w.Dir, "no-agent")}},
		{1, []string{"no agent is enrolled in"}, []string{"agent", "--dir", filepath.Join(w.Dir, "no-agent")}},
		{1, []string{"another service works with the records"},
			[]string{"serve", "--dir", filepath.Join(w.Dir, "service"), "--listen", "127.0.0.1:0"}},
		{2, []string{"that needs TLS"}, []string{"serve", "--dir", filepath.Join(w.Dir, "other"), "--listen", "0.0.0.0:0"}},
		{2, []string{"go together"}, []string{"serve", "--dir", filepath.Join(w.Dir, "other"), "--tls-cert", "x"}},
		{1, []string{"is not empty and holds no demo world"}, []string{"demo", "--dir", filepath.Join(w.Dir, "service")}},
	} {
		w.must(c.code, c.words, c.args...)
	}
	// A port in use, and a code used twice.
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	w.must(1, []string{"something else listens there"}, "serve", "--dir", filepath.Join(w.Dir, "third"), "--listen",
		ln.Addr().String())
	w.must(0, []string{"crosstwin agent enroll --service"}, "server", "add", "bookings", "auk", "--rank", "never")
	var code struct{ Code string }
	out, _, _ := w.run("server", "code", "bookings", "auk", "-o", "json")
	if err := json.Unmarshal([]byte(out), &code); err != nil {
		t.Fatal(err)
	}
	enroll := func(dir, code string) []string {
		return []string{"agent", "enroll", "--code", code, "--dir", filepath.Join(w.Dir, dir), "--data-dir",
			filepath.Join(w.Dir, dir, "data"), "--host", "127.0.0.1", "--listen", "127.0.0.1:1", "--port", "1"}
	}
	// What cannot be meant, or could not work, leaves the code good.
	gull := w.server("gull")
	other := map[bool]string{true: "postgresql", false: "mariadb"}[w.mariadb()]
	w.must(0, nil, "cluster", "add", "elsewhere", "--engine", other)
	w.must(0, nil, "server", "add", "elsewhere", "skua")
	var wrong struct{ Code string }
	out, _, _ = w.run("server", "code", "elsewhere", "skua", "-o", "json")
	if err := json.Unmarshal([]byte(out), &wrong); err != nil {
		t.Fatal(err)
	}
	at := func(code, socketDir string, port int) []string {
		return []string{"agent", "enroll", "--code", code, "--dir", filepath.Join(w.Dir, "auk0"), "--data-dir", gull.DataDir,
			"--config-file", gull.ConfigFile, "--socket-dir", socketDir, "--host", gull.Host, "--port", fmt.Sprint(port),
			"--listen", "127.0.0.1:1", "--log-file", gull.LogFile}
	}
	w.must(1, []string{"gull of bookings already", "one database belongs to one cluster, once"},
		at(code.Code, gull.SocketDir, gull.Port)...)
	w.must(1, []string{"an agent could not use it", "The code is not used up"}, at(code.Code, w.Dir, gull.Port)...)
	w.must(1, []string{"the code is for skua of elsewhere, which is a cluster of"},
		at(wrong.Code, gull.SocketDir, gull.Port)...)
	w.must(0, nil, "cluster", "remove", "elsewhere", "--yes")
	w.must(0, []string{"enrolled as auk of cluster bookings"}, enroll("auk1", code.Code)...)
	w.must(1, []string{"was used or is too old"}, enroll("auk2", code.Code)...)
	secret, _, _ := strings.Cut(code.Code, ".")
	w.must(1, []string{"was used or is too old"}, enroll("auk3", secret+".00112233445566778899aabbccddeeff")...)
	// An agent that is not there.
	w.must(3, []string{"auk's agent does not answer", "connection refused"}, "seed", "bookings", "auk", "--yes")
	w.must(0, nil, "server", "remove", "bookings", "auk", "--yes")

	after := w.settled()
	if after.Primary != before.Primary || after.Term != before.Term || len(after.Servers) != 3 {
		t.Errorf("bad input changed something: %s", after.Sentence)
	}
}

// Things that are wrong on the servers: each is said before anything changes.
func TestWrongServers(t *testing.T) { anEngine(t, true, wrongServers) }

func wrongServers(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.settled()
	// What each engine calls the same trouble.
	change, denied, bind, sync, unsync := []string{"alter role crosstwin_follow_tern password 'other'"},
		"password authentication failed", "could not bind",
		[]string{"alter system set synchronous_standby_names = 'auk'", "select pg_reload_conf()"},
		[]string{"alter system reset synchronous_standby_names", "select pg_reload_conf()"}
	hangs := "synchronous_standby_names"
	if w.mariadb() {
		change, denied, bind = []string{"alter user crosstwin_follow_plover@'127.0.0.1' identified by 'other'"},
			"Access denied for user", "Bind on TCP/IP port"
		sync, unsync, hangs = []string{"set global rpl_semi_sync_master_enabled = 1"},
			[]string{"set global rpl_semi_sync_master_enabled = 0"}, "rpl_semi_sync_master_enabled"
	}
	// An address for clients at which nothing listens, and the server's own.
	tern := w.server("tern")
	w.must(0, []string{"applications reach it at 127.0.0.1:1"}, "server", "set", "bookings", "tern", "--client-address",
		"127.0.0.1:1")
	w.must(0, []string{"127.0.0.1:1 is not reached from the service's host", "0 fail"}, "check", "bookings", "--for",
		"switchover")
	at := fmt.Sprintf("127.0.0.1:%d", tern.Port)
	w.must(0, []string{"applications reach it at " + at}, "server", "set", "bookings", "tern", "--client-address", at)
	w.must(0, []string{"something listens at " + at}, "check", "bookings", "--for", "switchover")

	// The replication password was changed by hand.
	w.sql("gull", change...)
	w.must(3, []string{denied, "Replication path"}, "switchover", "bookings", "--yes")
	w.must(3, []string{"Replication path", "FAIL"}, "check", "bookings")
	w.must(0, []string{"tern follows gull"}, "rejoin", "bookings", "tern", "--yes", "--accept-loss", "tern")
	w.must(0, []string{"0 fail"}, "check", "bookings", "--for", "switchover")

	// A port in use when a replica is to start: the server's own words.
	heron := w.server("heron")
	demo.StopDatabase(heron)
	ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", heron.Port))
	if err != nil {
		t.Fatal(err)
	}
	w.must(4, []string{"failed and undone", bind}, "rejoin", "bookings", "heron", "--yes", "--accept-loss", "heron")
	ln.Close()
	w.must(0, []string{"heron follows gull"}, "rejoin", "bookings", "heron", "--yes", "--accept-loss", "heron")

	w.strangeData(heron)
	w.must(0, []string{"heron follows gull"}, "rejoin", "bookings", "heron", "--way", "rebuild", "--yes", "--accept-loss",
		"heron")
	w.settled()

	// A candidate whose first write would hang.
	w.sql("tern", sync...)
	w.must(3, []string{hangs}, "switchover", "bookings", "--yes")
	w.sql("tern", unsync...)

	// A candidate whose sessions would be read-only.
	shut, unshut := []string{"alter system set default_transaction_read_only = on", "select pg_reload_conf()"},
		[]string{"alter system reset default_transaction_read_only", "select pg_reload_conf()"}
	if w.mariadb() {
		shut, unshut = []string{"set global tx_read_only = 1"}, []string{"set global tx_read_only = 0"}
	}
	w.sql("tern", shut...)
	w.must(3, []string{"nobody could write"}, "switchover", "bookings", "--yes")
	w.sql("tern", unshut...)
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
	w.throughACrowd("tern", "gull")
	w.holdsAll(load, nil, "gull", "tern", "heron")
}

// strangeData puts a copy of another cluster in a server's place: it is not
// taken for the server's own, and goes only when that is asked for.
func (w *world) strangeData(s *demo.Server) {
	w.t.Helper()
	demo.StopDatabase(s)
	if err := os.RemoveAll(s.DataDir); err != nil {
		w.t.Fatal(err)
	}
	// Made elsewhere: the agent closes whatever stands in the data directory,
	// and initdb cannot work with a closed one.
	other := s.DataDir + "-other"
	make := []string{"/usr/lib/postgresql/15/bin/initdb", "-D", other, "-U", "postgres", "--auth=trust"}
	if w.mariadb() {
		make = []string{"/usr/bin/env", "TMPDIR=" + s.SocketDir, "/usr/bin/mariadb-install-db", "--no-defaults",
			"--datadir=" + other, "--skip-test-db"}
	}
	if err := s.RunAsOwner(w.ctx, make[0], make[1:]...); err != nil {
		w.t.Fatal(err)
	}
	if err := os.Rename(other, s.DataDir); err != nil {
		w.t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		x := v.Find(s.Name)
		return x.Health == view.Adrift && x.Cause.Code == cause.ForeignOrigin || x.Health == view.Stopped &&
			strings.Contains(x.Why, "other data than its agent knew")
	}); err != nil {
		w.t.Fatal(err)
	}
	w.leftAsItIs(s)
	why := "copy of another cluster"
	if w.mariadb() {
		why = "other data than its agent knew"
	}
	w.must(3, []string{why, "--way rebuild"}, "rejoin", "bookings", s.Name, "--yes")
}

// leftAsItIs starts a foreign server the way its owners would: the agent reports
// it, neither fences nor closes it, and says how to go on.
func (w *world) leftAsItIs(s *demo.Server) {
	w.t.Helper()
	if w.mariadb() {
		return // its new data is told by what the agent knew of the old
	}
	f, err := os.OpenFile(filepath.Join(s.DataDir, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		w.t.Fatal(err)
	}
	fmt.Fprintf(f, "port = %d\nunix_socket_directories = '%s'\n", s.Port, s.SocketDir)
	if err := f.Close(); err != nil {
		w.t.Fatal(err)
	}
	if err := s.StartByHand(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	seen := map[time.Time]bool{}
	err = w.Await(w.ctx, func(v view.View) bool {
		o := v.Find(s.Name).Observation
		if o.Process.Running && o.Process.Role == observation.Primary && o.Data.Foreign {
			seen[o.At] = true
		}
		return len(seen) > 3
	})
	if err != nil {
		w.t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(s.DataDir, "standby.signal")); err == nil {
		w.t.Error("the foreign data was closed by default")
	}
	w.says([]string{"its data is not this cluster's", "its agent leaves it as it is",
		"crosstwin server remove bookings " + s.Name}, "status", "bookings")
	demo.StopDatabase(s)
}

// Records of a newer version, or no records at all, are not touched.
func TestRecordsFile(t *testing.T) {
	t.Parallel()
	serve := func(dir string) (string, int) {
		c := exec.Command(binary, "serve", "--dir", dir, "--listen", "127.0.0.1:0")
		out, _ := c.CombinedOutput()
		return string(out), c.ProcessState.ExitCode()
	}
	dir := t.TempDir()
	st, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := st.AddCluster(t.Context(), "bookings", "postgresql"); err != nil {
		t.Fatal(err)
	}
	st.Close()
	path := filepath.Join(dir, "crosstwin.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("insert into goose_db_version (version_id, is_applied) values (99, 1)"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	before, _ := os.ReadFile(path)
	if out, code := serve(dir); code == 0 || !strings.Contains(out, "written by a newer crosstwin") {
		t.Errorf("a newer file: %d %s", code, out)
	}
	if after, _ := os.ReadFile(path); !bytes.Equal(before, after) {
		t.Error("the newer file was changed")
	}
	dir = t.TempDir()
	path = filepath.Join(dir, "crosstwin.db")
	if err := os.WriteFile(path, []byte("these are no records, but somebody may need them"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, code := serve(dir); code == 0 || !strings.Contains(out, path) {
		t.Errorf("no records: %d %s", code, out)
	}
	if b, _ := os.ReadFile(path); !strings.HasPrefix(string(b), "these are no records") {
		t.Error("a file that is not ours was overwritten")
	}
}

// The document describes what the handlers answer, errors included, and the
// plan that is previewed is the plan that runs.
func TestDocumentAndPreview(t *testing.T) { anEngine(t, true, documentAndPreview) }

func documentAndPreview(t *testing.T, w *world) {
	w.settled()
	preview, err := w.Client.Preview(w.ctx, w.Name, operation.Request{Kind: operation.Switchover})
	if err != nil {
		t.Fatal(err)
	}
	op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
	a, _ := json.Marshal(preview.Steps)
	b, _ := json.Marshal(op.Plan.Steps)
	if !bytes.Equal(a, b) {
		t.Errorf("previewed\n%s\nran\n%s", a, b)
	}
	if v := w.settled(); v.Term != 2 {
		t.Errorf("a preview and a switchover led to term %d", v.Term)
	}

	res, err := http.Get(w.URL + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(res.Body)
	res.Body.Close()
	doc, err := openapi3.NewLoader().LoadFromData(text)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(w.ctx); err != nil {
		t.Fatal(err)
	}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	const c = "/api/v1/clusters"
	for _, x := range []struct {
		method, path, body string
		status             int
	}{
		{"GET", "/healthz", "", 200}, {"GET", "/readyz", "", 200}, {"GET", "/api/v1/version", "", 200}, {"GET", c, "", 200},
		{"GET", c + "/bookings", "", 200}, {"GET", c + "/post", "", 404},
		{"GET", c + "/bookings/servers/gull", "", 200}, {"GET", c + "/bookings/servers/auk", "", 404},
		{"GET", c + "/bookings/servers/gull/tail", "", 200}, {"GET", c + "/bookings/check?for=failover", "", 200},
		{"POST", c + "/bookings/plan", `{"kind":"compare"}`, 200},
		{"POST", c + "/bookings/plan", `{"kind":"switchover","force":true}`, 400},
		{"POST", c + "/bookings/operations", `{"kind":"switchover","to":"heron"}`, 409},
		{"POST", c + "/bookings/operations", `{"kind":"seed","server":"heron","replace":true}`, 400},
		{"POST", c, `{"name":"freight","engine":"mariadb"}`, 201}, {"POST", c, `{"name":"freight","engine":"mariadb"}`, 409},
		{"PATCH", c + "/freight", `{"policy":{"behind_seconds":5,"unseen_seconds":5,"stalled_seconds":5}}`, 200},
		{"GET", c + "/bookings/history", "", 200}, {"GET", c + "/bookings/history?points=0", "", 400},
		{"GET", c + "/bookings/history?from=2026-01-02T00:00:00Z&to=2026-01-01T00:00:00Z", "", 400},
		{"GET", c + "/bookings/history?from=yesterday", "", 400},
		{"GET", c + "/post/history", "", 404}, {"GET", c + "/bookings/logs", "", 200},
		{"GET", c + "/bookings/logs?server=heron", "", 200}, {"GET", c + "/bookings/logs?server=auk", "", 404},
		{"GET", c + "/bookings/log?limit=3", "", 200},
		{"GET", c + "/bookings/log?limit=3&from=nonsense", "", 400}, {"GET", c + "/bookings/log?since=noon", "", 400},
		{"GET", c + "/bookings/drift", "", 200}, {"GET", c + "/bookings/conflicts", "", 200},
		{"GET", c + "/bookings/servers/heron/complaints", "", 200},
		{"GET", "/api/v1/lag-lines", "", 200}, {"GET", "/api/v1/records", "", 200},
		{"GET", "/api/v1/alerts?open=true", "", 200}, {"POST", "/api/v1/alerts/4711/acknowledge", `{"note":"x"}`, 404},
		{"POST", "/api/v1/channels", `{"name":"pager","url":"http://127.0.0.1:9/x"}`, 201},
		{"POST", "/api/v1/channels", `{"name":"pager","url":"http://127.0.0.1:9/x"}`, 409},
		{"POST", "/api/v1/channels", `{"name":"other","url":"nowhere"}`, 400},
		{"GET", "/api/v1/channels", "", 200}, {"POST", "/api/v1/channels/pager/test", "", 200},
		{"POST", "/api/v1/channels/nobody/test", "", 404}, {"DELETE", "/api/v1/channels/pager", "", 204},
		{"PATCH", c + "/freight", `{"policy":{"muted":["no such rule"]}}`, 400},
		{"PATCH", c + "/freight", `{"policy":{"full_hours":-1}}`, 400},
		{"POST", c + "/freight/servers", `{"name":"puffin","rank":1}`, 201},
		{"PATCH", c + "/freight/servers/puffin", `{"rank":2}`, 200},
		{"POST", c + "/freight/servers/puffin/code", "", 201}, {"DELETE", c + "/freight/servers/puffin", "", 200},
		{"GET", c + "/freight/leaving?drop=true", "", 200},
		{"DELETE", c + "/freight", "", 200}, {"GET", "/api/v1/operations?kind=seed", "", 200},
		{"GET", "/api/v1/operations?limit=0", "", 400},
		{"GET", "/api/v1/operations/1", "", 200}, {"GET", "/api/v1/operations/999", "", 404},
		{"POST", "/api/v1/operations/1/cancel", "", 400}, {"GET", "/api/v1/audit", "", 200},
		{"POST", "/api/v1/logins", "", 201},
		{"POST", "/api/v1/tokens", `{"name":"night-shift"}`, 400},
		{"POST", "/api/v1/tokens", `{"name":"night-shift","scopes":["watch"],"days":30}`, 201},
		{"GET", "/api/v1/tokens", "", 200},
		{"DELETE", "/api/v1/tokens/night-shift", "", 204},
		{"POST", "/api/v1/enroll", `{"code":"x.y","certificate_request":"","agent":"h:1","host":"h","port":1}`, 400},
	} {
		x.path, x.body = w.as(x.path), w.as(x.body)
		req, err := http.NewRequestWithContext(w.ctx, x.method, w.URL+x.path, strings.NewReader(x.body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+w.Token)
		req.Header.Set("Content-Type", "application/json")
		route, params, err := router.FindRoute(req)
		if err != nil {
			t.Errorf("%s %s is not described: %v", x.method, x.path, err)
			continue
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		answer, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != x.status {
			t.Errorf("%s %s: %d, want %d: %s", x.method, x.path, res.StatusCode, x.status, answer)
		}
		in := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route,
			Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}
		out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: res.StatusCode, Header: res.Header,
			Options: in.Options}
		out.SetBodyBytes(answer)
		if x.path == "/healthz" || x.path == "/readyz" {
			continue // plain text
		}
		if err := openapi3filter.ValidateResponse(w.ctx, out); err != nil {
			t.Errorf("%s %s answers other than described: %.600v", x.method, x.path, err)
		}
	}
	// Without a token nothing is told.
	for _, path := range []string{c, c + "/" + w.Name, "/api/v1/operations", "/api/v1/events", "/api/v1/tokens"} {
		if res, err := http.Get(w.URL + path); err != nil || res.StatusCode != 401 {
			t.Errorf("%s without a token: %v %v", path, res.StatusCode, err)
		}
	}
	w.formsAgree()
}

// formsAgree: what a command prints as JSON is what the API answers, as YAML
// the same, and the table says the sentence.
func (w *world) formsAgree() {
	w.t.Helper()
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil {
		w.t.Fatal(err)
	}
	var fromJSON view.View
	out, _, _ := w.run("status", "bookings", "-o", "json")
	if err := json.Unmarshal([]byte(out), &fromJSON); err != nil || fromJSON.Primary != v.Primary ||
		len(fromJSON.Servers) != 3 {
		w.t.Errorf("%v %s", err, out)
	}
	w.says([]string{"primary: " + v.Primary, "health: in step"}, "status", "bookings", "-o", "yaml")
	w.must(0, []string{"takes writes on " + v.Primary, map[bool]string{true: "term 2", false: "timeline 2"}[w.mariadb()],
		"0 s"}, "status")
	w.must(0, []string{"switchover", "finished"}, "operation", "list", "--kind", "switchover")
	w.must(0, []string{"Journal", "Promote tern", "writes paused for"}, "operation", "show", "3")
}
