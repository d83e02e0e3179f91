package gate

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/route"
)

// agents stand for those beside the servers; no server is behind them.
type agents map[string]route.Standing

func (a agents) Standing(_ context.Context, s route.Server) (route.Standing, error) {
	x, ok := a[s.Name]
	if !ok {
		return x, errors.New("it does not answer")
	}
	return x, nil
}

func (a agents) Kept(context.Context, route.Server, string) (agentapi.Kept, error) {
	return agentapi.Kept{}, nil
}

func (a agents) Accounts(context.Context, route.Server) ([]route.Account, error) { return nil, nil }
func (a agents) Certificate() tls.Certificate                                    { return tls.Certificate{} }
func (a agents) Authorities() *x509.CertPool                                     { return x509.NewCertPool() }

func newGate(t testing.TB, engine string, cfg Config, a agents) *Gate {
	t.Helper()
	g, err := New("bookings", engine, "quay", t.TempDir(), cfg, a, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func orders(term int64, owner string) *route.Orders {
	return &route.Orders{Engine: position.EnginePostgres, Term: term, Owner: owner, WaitSeconds: 0.2,
		Servers: []route.Server{{Name: "gull"}, {Name: "tern"}}}
}

// Writers are led to the owner that the service names once its own agent confirms it; an older
// word of the service counts for nothing; who is held waits, and is told why when time is up.
func TestLedByOrders(t *testing.T) {
	a := agents{"gull": {Term: 7, Writes: true}, "tern": {Term: 8, Writes: true}}
	g := newGate(t, position.EnginePostgres, Config{Writer: []string{"127.0.0.1:1"}}, a)
	led := func() string {
		p, err := g.await(t.Context(), route.Writer, false)
		if err != nil {
			return err.Error()
		}
		return p.Name
	}
	ask := func() {
		for _, s := range orders(0, "").Servers {
			g.askAgent(t.Context(), s)
		}
	}
	g.Obey(orders(7, "gull"))
	if got := led(); !strings.Contains(got, string(route.NotConfirmed)) {
		t.Errorf("before any agent was asked: %s", got)
	}
	if ask(); led() != "gull" {
		t.Errorf("confirmed: %s", led())
	}
	g.Obey(orders(8, "tern"))
	g.Obey(orders(7, "gull"))
	if got := led(); got != "tern" {
		t.Errorf("after an older word of the service: %s", got)
	}
	if !g.misplaced(route.Writer, place{route.Server{Name: "gull"}, 7, ""}) ||
		g.misplaced(route.Writer, place{route.Server{Name: "tern"}, 8, ""}) ||
		g.misplaced(route.Reader, place{route.Server{Name: "gull"}, 7, ""}) {
		t.Error("who is at an older owner is not told from who is not")
	}
	g.Hold(t.Context(), time.Millisecond)
	if got := led(); !strings.Contains(got, "held") {
		t.Errorf("while sessions are held: %s", got)
	}
	if p, err := g.await(t.Context(), route.Writer, true); err != nil || p.Name != "tern" {
		t.Errorf("who is carried meanwhile: %v %v", p.Name, err)
	}
	if _, err := g.Release(t.Context(), orders(8, "tern"), true); err != nil || led() != "tern" {
		t.Errorf("released: %v", err)
	}
	if o := g.Observe(); o.To != "tern" || o.Term != 8 || o.HeldSeconds != 0 {
		t.Errorf("%+v", o)
	}
	a["tern"] = route.Standing{Term: 8}
	if ask(); !strings.Contains(led(), string(route.NotConfirmed)) {
		t.Errorf("the permission has ended: %s", led())
	}
}

// deaf are agents that answer only after some questions.
type deaf struct {
	agents
	left *atomic.Int64
}

func (d deaf) Kept(context.Context, route.Server, string) (agentapi.Kept, error) {
	if d.left.Add(-1) >= 0 {
		return agentapi.Kept{}, errors.New("it is busy")
	}
	return agentapi.Kept{Passwords: []string{"kept"}}, nil
}

// A login waits for an agent as it waits for a server, and no longer.
func TestLoginWaitsForAgents(t *testing.T) {
	var left atomic.Int64
	g, err := New("bookings", position.EnginePostgres, "quay", t.TempDir(), Config{Writer: []string{"127.0.0.1:1"}},
		deaf{agents{}, &left}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	g.Obey(orders(7, "gull"))
	left.Store(1 << 40)
	if k, err := g.kept(t.Context(), "skerry"); err == nil {
		t.Errorf("no agent answers: %v", k)
	}
	left.Store(3) // of two agents each, in a second round
	if k, err := g.kept(t.Context(), "skerry"); err != nil || len(k.Passwords) != 1 {
		t.Errorf("agents answer late: %v %v", k, err)
	}
}

// A hold that nobody ends ends with a newer term, which whoever ended it elsewhere decided.
func TestMissedRelease(t *testing.T) {
	g := newGate(t, position.EnginePostgres, Config{Writer: []string{"127.0.0.1:1"}}, agents{})
	g.Obey(orders(7, "gull"))
	for _, c := range []struct {
		since time.Duration
		held  bool
	}{{0, true}, {missedRelease + time.Second, false}} {
		g.mu.Lock()
		g.setHeld(time.Now().Add(-c.since))
		g.mu.Unlock()
		next := g.orders.Term + 1
		if g.Obey(orders(next, "tern")); g.holding.Load() != c.held {
			t.Errorf("held for %s, a newer term: held %t", c.since, g.holding.Load())
		}
	}
}

// A socket that a gate left behind is no obstacle; one that somebody listens on is left alone.
func TestSockets(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	if removeStale(path); !exists(path) {
		t.Error("a socket that somebody listens on was removed")
	}
	l.Close()
	g := newGate(t, position.EnginePostgres, Config{Writer: []string{path}}, agents{})
	if err := g.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	defer g.Stop()
	other := newGate(t, position.EnginePostgres, Config{Writer: []string{path}}, agents{})
	if err := other.Start(t.Context()); err == nil {
		t.Error("two gates listen on one socket")
	}
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// What is no client of the protocol is dropped, soon and without harm.
func TestStrangers(t *testing.T) {
	for _, engine := range []string{position.EnginePostgres, position.EngineMariaDB} {
		g := newGate(t, engine, Config{Writer: []string{"127.0.0.1:0"}}, agents{})
		g.Obey(orders(7, "gull"))
		if err := g.Start(t.Context()); err != nil {
			t.Fatal(err)
		}
		for _, garbage := range []string{"GET / HTTP/1.1\r\n\r\n", "\xff\xff\xff\xff\x00\x03\x00\x00",
			"\x00\x00\x00\x08\x04\xd2\x16\x2fmore than that", "\x00\x00\x00\x0a\x00\x03\x00\x00\x00\x00",
			"\x00\x00\x00\x10\x04\xd2\x16\x2e\x00\x00\x00\x01\x00\x00\x00\x02"} {
			c, err := net.Dial("tcp", g.listeners[0].Addr().String())
			if err != nil {
				t.Fatal(err)
			}
			c.Write([]byte(garbage))
			c.SetReadDeadline(time.Now().Add(20 * time.Second))
			var b bytes.Buffer
			if _, err := b.ReadFrom(c); err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
				continue // reset, because what it sent was not all read
			} else if err != nil {
				t.Errorf("%s: %q is not dropped", engine, garbage)
			}
			c.Close()
		}
		if o := g.Observe(); o.Sessions() != 0 || o.Waiting != 0 {
			t.Errorf("%s: %+v", engine, o)
		}
		g.Stop()
	}
}

func TestMatches(t *testing.T) {
	for _, c := range []struct {
		pattern string
		want    bool
	}{{"%", true}, {"10.0.0.%", true}, {"10.0.0.7", true}, {"10.0.0._", true}, {"10.0.1.%", false},
		{"10.0.0.0/255.255.255.0", true}, {"10.1.0.0/255.255.255.0", false}, {"app.skerry.example", true}} {
		if got := matches(c.pattern, "10.0.0.7"); got != c.want {
			t.Errorf("%s: %t", c.pattern, got)
		}
	}
}

func TestConfigs(t *testing.T) {
	for name, c := range map[string]Config{"no address": {}, "no port": {Writer: []string{"host"}}, "no host": {
		Reader: []string{":5432"}}, "half a certificate": {Writer: []string{"h:1"}, Cert: "x"}} {
		if c.Check() == nil {
			t.Errorf("%s passes", name)
		}
	}
	good := Config{Writer: []string{"10.0.0.9:6432", "/run/crosstwin-gate/s"}}
	if err := good.Check(); err != nil {
		t.Error(err)
	}
}

// A session that wrote past the fork is told so; one that wrote before it, or nothing, is not.
func TestLostAfter(t *testing.T) {
	past := []position.Branch{{Timeline: 1, End: 100}, {Timeline: 2, End: 300}}
	for _, c := range []struct {
		written position.LSN
		line    uint32
		want    bool
	}{{0, 2, false}, {300, 2, false}, {301, 2, true}, {90, 1, false}, {200, 1, true}, {900, 3, false}, {10, 9, true}} {
		st := &pgState{written: c.written, line: c.line}
		if got := st.lostAfter(position.Line{Number: 3}, past); got != c.want {
			t.Errorf("wrote up to %d on timeline %d: %t", c.written, c.line, got)
		}
	}
	for gtid, want := range map[string]bool{"": true, "1-11-40": true, "1-11-41": false, "1-12-7": true, "2-11-1": false} {
		if got := holds(gtid, "1-11-40,1-12-9", "1-12-9"); got != want {
			t.Errorf("%s: %t", gtid, got)
		}
	}
}

// What a session of MariaDB's is set back by needs no character set to be read.
func TestMariaRestore(t *testing.T) {
	text := "utf8mb4"
	st := &mariaState{role: "a`b", lastID: "7", users: []userVariable{{"a`", "INT", "-5", ""},
		{"d", "DOUBLE", "1.5", ""}, {"n", "NULL", "", ""}, {"t", "VARCHAR", "C3A4", "utf8mb4"}, {"b", "VARCHAR", "00FF", ""}},
		variables: map[string]*string{"character_set_client": &text, "sort_buffer_size": ptr("1024"), "sql_mode": ptr("ANSI"),
			"autocommit": ptr("OFF"), "character_set_results": nil}}
	got := strings.Join(st.restore(map[string]string{"sort_buffer_size": "BIGINT UNSIGNED", "autocommit": "BOOLEAN",
		"sql_mode": "SET"}), "; ")
	want := "set @`a``` = -5; set @`d` = 1.5e0; set @`n` = null; set @`t` = _utf8mb4 x'C3A4'; set @`b` = x'00FF'; " +
		"set role `a``b`; set last_insert_id = 7; set @@session.autocommit = 0, @@session.sort_buffer_size = 1024, " +
		"@@session.sql_mode = x'414e5349', @@session.character_set_client = x'757466386d6234', " +
		"@@session.character_set_results = null"
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
}

func ptr(s string) *string { return &s }

// An execution without types is given those that the client told another server.
func TestTypesOfParameters(t *testing.T) {
	st := &mariaStatement{parameters: 2}
	first := append([]byte{0x17, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1}, 3, 0, 8, 0, 'x', 'y')
	if got := st.withTypes(first, false); !bytes.Equal(got, first) {
		t.Errorf("changed: %v", got)
	}
	second := append([]byte{0x17, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0}, 'x', 'y')
	if got := st.withTypes(second, true); !bytes.Equal(got, second) {
		t.Errorf("changed for a server that knows them: %v", got)
	}
	if got := st.withTypes(second, false); !bytes.Equal(got, first) {
		t.Errorf("%v, want %v", got, first)
	}
}

func FuzzMariaLogin(f *testing.F) {
	g := greeting{version: "10.11.19-MariaDB", caps: 0xffffffff, charset: 45}
	f.Add(g.packet(7, bytes.Repeat([]byte{9}, 20), true))
	login := mariaLogin{caps: capProtocol41 | capPlugin | capSecure, user: "skerry", database: "cargo"}
	f.Add(login.packet([]byte{1, 2}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if l, err := readMariaLogin(b); err == nil {
			if again, err := readMariaLogin(l.packet(l.answer[:min(len(l.answer), 200)])); err == nil && again.user != l.user {
				t.Errorf("user %q becomes %q", l.user, again.user)
			}
		}
		readGreeting(b)
		textRow(b)
	})
}

// What a server greets with is read as it was written.
func TestGreeting(t *testing.T) {
	nonce := []byte("01234567890123456789")
	want := greeting{version: "10.11.19-MariaDB", caps: 0x81bff7fe | capTLS, charset: 45, status: 2}
	got, err := readGreeting(want.packet(gateThreads+7, nonce, true))
	if err != nil || got.version != want.version || got.thread != gateThreads+7 || !bytes.Equal(got.nonce[:20], nonce) ||
		got.caps != want.caps&^capCompress || got.plugin != "mysql_native_password" {
		t.Errorf("%+v %v", got, err)
	}
}

// A gate that is started while the service is away leads by what it was told last.
func TestOrdersAreKept(t *testing.T) {
	a := agents{"gull": {Term: 7, Writes: true}}
	g := newGate(t, position.EnginePostgres, Config{Writer: []string{"127.0.0.1:1"}}, a)
	g.Obey(orders(7, "gull"))
	again, err := New("bookings", position.EnginePostgres, "quay", g.dir, g.cfg, a, g.log)
	if err != nil {
		t.Fatal(err)
	}
	if err := again.awaitOwner(t.Context()); err != nil {
		t.Error(err)
	}
	if p, err := again.await(t.Context(), route.Writer, false); err != nil || p.Name != "gull" {
		t.Errorf("%+v %v", p, err)
	}
}
