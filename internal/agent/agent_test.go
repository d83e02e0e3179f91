package agent

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/pki"
)

// fakeEngine stands for a database server, so that every state can be had.
type fakeEngine struct {
	mu       sync.Mutex
	writable bool
	fenced   int
	promoted int
	started  []observation.Role
	hold     chan struct{} // a seed waits for it
	slow     chan struct{} // a checkpoint closes it and goes on until it is ended
	fail     error
	granted  []string
}

// Secret, Grant, Prepare, Probe and Remember implement engine.Accounter.
func (f *fakeEngine) Secret(password string) (string, error) {
	return "what is kept of " + password, nil
}
func (f *fakeEngine) Grant(_ context.Context, server, secret, from string) error {
	f.granted = append(f.granted, server+" from "+from+": "+secret)
	return nil
}
func (f *fakeEngine) Prepare(context.Context, verb.Prepare) error                      { return nil }
func (f *fakeEngine) Probe(context.Context, verb.Peer, engine.Account) (r verb.Probed) { return r }
func (f *fakeEngine) Remember(...engine.Account) error                                 { return nil }

func (f *fakeEngine) Observe(ctx context.Context, _ bool) *observation.Server {
	f.mu.Lock()
	defer f.mu.Unlock()
	role := observation.Replica
	if f.writable {
		role = observation.Primary
	}
	return &observation.Server{Process: observation.Process{Running: true, Accepting: ctx.Err() == nil, Role: role,
		Writable: f.writable}}
}
func (f *fakeEngine) Start(_ context.Context, as observation.Role) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.started, f.writable = append(f.started, as), as == observation.Primary
	return f.fail
}
func (f *fakeEngine) Stop(context.Context) error { return f.fail }
func (f *fakeEngine) Fence(ctx context.Context, _ bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	f.fenced++
	f.writable = false
	return nil
}
func (f *fakeEngine) Commits(context.Context) error { return nil }
func (f *fakeEngine) Promote(context.Context) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.promoted++
	f.writable = true
	return nil
}
func (f *fakeEngine) Checkpoint(ctx context.Context) error {
	f.mu.Lock()
	slow := f.slow
	f.mu.Unlock()
	if slow != nil {
		close(slow)
		<-ctx.Done()
	}
	return nil
}
func (f *fakeEngine) Closed() bool                                { return false }
func (f *fakeEngine) Close() error                                { return nil }
func (f *fakeEngine) Follow(context.Context, verb.Follow) error   { return f.fail }
func (f *fakeEngine) Slots(context.Context, verb.Slots) error     { return nil }
func (f *fakeEngine) FindMark(context.Context, verb.Marked) error { return f.fail }
func (f *fakeEngine) Examine(context.Context, verb.Examine) (*verb.Examination, error) {
	return &verb.Examination{}, nil
}
func (f *fakeEngine) Mark(_ context.Context, id string, _ int64, _ string) (verb.Marked, error) {
	return verb.Marked{ID: id, At: "0/1"}, nil
}
func (f *fakeEngine) Seed(ctx context.Context, _ verb.Seed, p engine.Progress) error {
	p("copying", 50, 100)
	select {
	case <-f.hold:
		return f.fail
	case <-ctx.Done():
		return ctx.Err()
	}
}
func (f *fakeEngine) Verify(context.Context, engine.Progress) error { return nil }

// rig is an agent with a fake engine behind real TLS, and a caller to it.
type rig struct {
	*Agent
	f         *fakeEngine
	authority *pki.Authority
	server    *httptest.Server
	target    agentapi.Target
	caller    *agentapi.Caller
}

func newRig(t *testing.T) *rig {
	t.Helper()
	dir := t.TempDir()
	authority, err := pki.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	r := &rig{f: &fakeEngine{hold: make(chan struct{})}, authority: authority}
	m, err := openMemory(dir)
	if err != nil {
		t.Fatal(err)
	}
	r.Agent = &Agent{cfg: Config{Cluster: "bookings", Server: "gull"}, dir: dir, engine: r.f, memory: m,
		log: slog.New(slog.DiscardHandler)}
	trust(r.Agent, authority)
	if r.cert, err = authority.Pair(pki.AgentName("bookings", "gull")); err != nil {
		t.Fatal(err)
	}
	r.verbs = r.table()
	r.data = r.cfg.data()
	r.permission.begin(r.Agent)
	r.server = httptest.NewUnstartedServer(r.handler())
	r.server.TLS = r.serverTLS()
	r.server.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, slog.LevelDebug)
	r.server.StartTLS()
	t.Cleanup(r.server.Close)
	r.target = agentapi.Target{Cluster: "bookings", Server: "gull", Address: r.server.Listener.Addr().String()}
	r.caller = r.as(t, pki.ServiceName)
	return r
}

// trust has an agent trust what an authority says.
func trust(a *Agent, authority *pki.Authority) *Agent {
	certs := authority.Trusted()
	a.trusted.Store(&certs)
	return a
}

// permit returns a context with a permit for a server's agent.
func permit(t *testing.T, authority *pki.Authority, holder string, life time.Duration) context.Context {
	t.Helper()
	p := guard.Permit{Cluster: "bookings", Holder: holder, Until: time.Now().Add(life)}
	signature, err := authority.SignStatement(p.Statement())
	if err != nil {
		t.Fatal(err)
	}
	return agentapi.WithPermit(t.Context(), p.Text(signature))
}

// as returns a caller whose certificate has a name.
func (r *rig) as(t *testing.T, name string) *agentapi.Caller {
	t.Helper()
	pair, err := r.authority.Pair(name)
	if err != nil {
		t.Fatal(err)
	}
	return agentapi.NewCaller(pair, r.authority.Pool())
}

func (r *rig) do(t *testing.T, term int64, call verb.Call) (agentapi.Answer, error) {
	t.Helper()
	return r.caller.Do(t.Context(), r.target, agentapi.Request{Operation: 1, Step: "s", Term: term, Call: call})
}

func code(err error) string {
	var p agentapi.Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return ""
}

// Only the service's certificate may ask for verbs; an agent of the same
// cluster may ask for the account and nothing else.
func TestWhoMayAsk(t *testing.T) {
	r := newRig(t)
	for _, name := range []string{pki.AgentName("bookings", "tern"), pki.AgentName("cargo", "wren"), "somebody"} {
		c := r.as(t, name)
		if _, err := c.Observe(t.Context(), r.target, agentapi.ObserveRequest{}); code(err) != agentapi.CodeForbidden {
			t.Errorf("%s may observe: %v", name, err)
		}
		if _, err := c.Do(t.Context(), r.target,
			agentapi.Request{Term: 9, Call: verb.Promote{}}); code(err) != agentapi.CodeForbidden {
			t.Errorf("%s may promote: %v", name, err)
		}
	}
	peer := func(cluster string) error {
		pair, err := r.authority.Pair(pki.AgentName(cluster, "tern"))
		if err != nil {
			t.Fatal(err)
		}
		other := trust(&Agent{cfg: Config{Cluster: "bookings", Server: "tern"}, cert: pair, memory: &memory{},
			dir: t.TempDir(), engine: &fakeEngine{}}, r.authority)
		permit := permit(t, r.authority, "tern", guard.PermitLife)
		if err := other.learnAccount(permit, verb.Peer{Name: "gull", Agent: r.target.Address}); err != nil {
			return err
		}
		fi, err := os.Stat(filepath.Join(other.dir, accountFile))
		if err != nil || fi.Mode().Perm() != 0o600 {
			t.Errorf("the account's file: %v %v", fi.Mode(), err)
		}
		kept, err := other.accounts()
		if want := "tern from 127.0.0.1: what is kept of " + kept.Password; !slices.Equal(r.f.granted, []string{want}) {
			t.Errorf("granted %q, want %q", r.f.granted, want)
		}
		return err
	}
	if err := peer("bookings"); err != nil {
		t.Errorf("a peer does not get its account: %v", err)
	}
	if err := peer("cargo"); err == nil || len(r.f.granted) != 1 {
		t.Errorf("another cluster's agent got an account: %v, %q", err, r.f.granted)
	}
	// A stranger's authority is nobody.
	strange, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	pair, _ := strange.Pair(pki.ServiceName)
	if _, err := agentapi.NewCaller(pair, r.authority.Pool()).Observe(t.Context(), r.target,
		agentapi.ObserveRequest{}); err == nil {
		t.Error("another authority's service may observe")
	}
}

// Invariant: an act of an older term has no effect, over restarts too.
func TestOlderTermsAreRefused(t *testing.T) {
	r := newRig(t)
	if _, err := r.do(t, 5, verb.Note{}); err != nil {
		t.Fatal(err)
	}
	for _, v := range []verb.Call{verb.Note{}, verb.Start{}, verb.Stop{}, verb.Fence{}, verb.Promote{}, verb.Follow{},
		verb.Slots{}, verb.Checkpoint{}, verb.Mark{}, verb.AwaitMark{}, verb.Seed{}, verb.Verify{}} {
		if _, err := r.do(t, 4, v); code(err) != agentapi.CodeStaleTerm {
			t.Errorf("%s of term 4 after 5 was noted: %v", v.Verb(), err)
		}
	}
	if r.f.promoted+r.f.fenced+len(r.f.started) != 0 {
		t.Error("an act of an older term had an effect")
	}
	again, err := openMemory(r.dir)
	if err != nil || again.get().Guard.Noted != 5 {
		t.Errorf("after a restart: %+v %v", again.get().Guard, err)
	}
}

func TestPromote(t *testing.T) {
	r := newRig(t)
	if _, err := r.do(t, 2, verb.Promote{Server: "tern"}); err == nil || r.f.promoted != 0 {
		t.Errorf("a promotion meant for another server: %v", err)
	}
	if _, err := r.do(t, 2, verb.Mark{}); err == nil {
		t.Error("a server that owns no term wrote a mark")
	}
	if _, err := r.do(t, 2, verb.Promote{Server: "gull"}); err != nil {
		t.Fatal(err)
	}
	if g := r.memory.get().Guard; g != (guard.State{Noted: 2, Accepted: 2, Owner: true}) || r.f.promoted != 1 {
		t.Errorf("%+v", g)
	}
	a, err := r.do(t, 2, verb.Mark{})
	var m verb.Marked
	if err != nil || json.Unmarshal(a.Result, &m) != nil || m.ID == "" || r.memory.get().Kin != m.ID {
		t.Errorf("%v %s", err, a.Result)
	}
	r.memory.SetUnfinished("rewind")
	if _, err := r.do(t, 3, verb.Promote{Server: "gull"}); err == nil ||
		!strings.Contains(err.Error(), "was interrupted") {
		t.Errorf("a half rewound server was promoted: %v", err)
	}
	if _, err := r.do(t, 2, verb.Start{As: "primary"}); err != nil {
		t.Errorf("the owner may open its data: %v", err)
	}
}

// Invariant: writable without owning the term is fenced at once, when the
// service tells the decision and when nobody asks.
func TestFencesItself(t *testing.T) {
	r := newRig(t)
	r.f.writable = true
	o, err := r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{})
	if err != nil || !o.Process.Writable || r.f.fenced != 0 {
		t.Fatalf("a server that is not under our care yet: %+v %v", o, err)
	}
	if o, err = r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{Term: 3, Owner: true}); err != nil ||
		r.f.fenced != 0 || !o.Guard.Owner {
		t.Fatalf("the owner: %+v %v", o, err)
	}
	if _, err := r.do(t, 4, verb.Note{}); err != nil {
		t.Fatal(err)
	}
	if o, _ = r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{Term: 3, Owner: true}); r.f.fenced != 0 ||
		!o.Process.Writable {
		t.Error("a term that was only opened fenced its owner")
	}
	o, err = r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{Term: 4, Owner: false})
	if err != nil || r.f.fenced != 1 || o.Process.Writable {
		t.Errorf("a decision for another server: fenced %d times, %+v %v", r.f.fenced, o.Guard, err)
	}
	// Somebody opens it again; no service asks.
	r.f.mu.Lock()
	r.f.writable = true
	r.f.mu.Unlock()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	go r.watch(ctx)
	for {
		r.f.mu.Lock()
		n := r.f.fenced
		r.f.mu.Unlock()
		if n > 1 {
			break
		}
		if ctx.Err() != nil {
			t.Fatal("the agent by itself did not fence a writable server")
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Invariant: a look that has begun is finished with all that follows from it,
// though the caller has gone: what it finds writable is fenced.
func TestFencesWhenNobodyWaits(t *testing.T) {
	r := newRig(t)
	r.f.writable = true
	if err := r.memory.change(func(s *state) error { s.Ours = true; return nil }); err != nil {
		t.Fatal(err)
	}
	if err := r.learn(4, false); err != nil {
		t.Fatal(err)
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if o := r.observe(gone, false); r.f.fenced != 1 || r.f.writable || !o.Process.Accepting {
		t.Errorf("fenced %d times, writable %v, %+v", r.f.fenced, r.f.writable, o)
	}
}

func TestNonceIsFresh(t *testing.T) {
	r := newRig(t)
	seen := map[string]bool{}
	for range 20 {
		o, err := r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{})
		if err != nil || o.Nonce == "" || seen[o.Nonce] {
			t.Fatalf("%+v %v", o, err)
		}
		seen[o.Nonce] = true
	}
}

func anyTerm(int64) error { return nil }

// Invariant: noting a newer term ends what runs under an older one, and its
// result is refused although it finished. A job and a short act alike.
func TestNewerTermEndsWhatRuns(t *testing.T) {
	r := newRig(t)
	if err := r.note(4); err != nil {
		t.Fatal(err)
	}
	if _, err := r.do(t, 4, verb.Verify{}); err != nil { // ended before: not touched
		t.Fatal(err)
	}
	for r.jobs.current().State == observation.JobRunning {
		time.Sleep(time.Millisecond)
	}
	stubborn := func(ctx context.Context, _ engine.Progress) (any, error) { <-ctx.Done(); return "rewound", nil }
	if _, busy, err := r.jobs.start("9/rewind", "rewind", 4, r.mayAct, stubborn); busy || err != nil {
		t.Fatal(busy, err)
	}
	r.f.mu.Lock()
	r.f.slow = make(chan struct{})
	r.f.mu.Unlock()
	checkpoint := make(chan error, 1)
	go func() { _, err := r.do(t, 4, verb.Checkpoint{}); checkpoint <- err }()
	<-r.f.slow
	if _, err := r.do(t, 5, verb.Note{}); err != nil {
		t.Fatal(err)
	}
	// Note has answered: nothing of the older term runs any more.
	if c := r.jobs.current(); c.State != observation.JobFailed || c.Result != nil || !strings.Contains(c.Error, "term 4") {
		t.Errorf("the job of the older term: %+v", c)
	}
	if err := <-checkpoint; code(err) != agentapi.CodeStaleTerm {
		t.Errorf("the act of the older term gave %v", err)
	}
	if _, _, err := r.jobs.start("9/rewind", "rewind", 4, r.mayAct, stubborn); err == nil {
		t.Error("a job of an older term was begun")
	}
	// A decision that comes with an observation is a newer term too.
	if _, _, err := r.jobs.start("10/rewind", "rewind", 5, r.mayAct, stubborn); err != nil {
		t.Fatal(err)
	}
	if _, err := r.caller.Observe(t.Context(), r.target, agentapi.ObserveRequest{Term: 6}); err != nil {
		t.Fatal(err)
	}
	if err := r.jobs.settled(t.Context()); err != nil || r.jobs.current().State != observation.JobFailed {
		t.Errorf("%v, %+v", err, r.jobs.current())
	}
}

// What a job found is out of date once new views are opened: the same key begins
// anew, and one that runs is ended first; jobs of another kind stay.
func TestVoid(t *testing.T) {
	var j jobs
	n := 0
	count := func(context.Context, engine.Progress) (any, error) { n++; return n, nil }
	result := func(key string, kind verb.Name, do func(context.Context, engine.Progress) (any, error)) any {
		t.Helper()
		j.start(key, kind, 1, anyTerm, do)
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
			if c := j.current(); c != nil && c.State != observation.JobRunning {
				return c.Result
			}
		}
		t.Fatal("the job does not end")
		return nil
	}
	result("1/sums", "sums", count)
	if got := result("1/sums", "sums", count); got != 1 {
		t.Errorf("the same key gave %v", got)
	}
	if err := j.void(t.Context(), "seed"); err != nil || j.current() == nil {
		t.Errorf("%v: a job of another kind was forgotten", err)
	}
	if err := j.void(t.Context(), "sums"); err != nil {
		t.Fatal(err)
	}
	if got := result("1/sums", "sums", count); got != 2 {
		t.Errorf("after new views it gave %v", got)
	}
	j.start("2/sums", "sums", 1, anyTerm,
		func(ctx context.Context, _ engine.Progress) (any, error) { <-ctx.Done(); return nil, ctx.Err() })
	if err := j.void(t.Context(), "sums"); err != nil || j.current() != nil {
		t.Errorf("%v: it was not ended: %+v", err, j.current())
	}
	stubborn := make(chan bool)
	j.start("3/sums", "sums", 1, anyTerm,
		func(context.Context, engine.Progress) (any, error) { <-stubborn; return nil, nil })
	soon, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if err := j.void(soon, "sums"); err == nil {
		t.Error("a job that goes on was forgotten")
	}
	close(stubborn)
}

// One long job at a time; the same key finds it again; a failed one begins
// anew; it can be stopped.
func TestJobs(t *testing.T) {
	r := newRig(t)
	var j jobs
	work := func(ctx context.Context, p engine.Progress) (any, error) {
		return "done", r.f.Seed(ctx, verb.Seed{}, p)
	}
	first, busy, _ := j.start("1/copy", "seed", 1, anyTerm, work)
	if busy || first.State != observation.JobRunning {
		t.Fatalf("%+v", first)
	}
	if again, busy, _ := j.start("1/copy", "seed", 1, anyTerm, work); busy || again.Key != "1/copy" {
		t.Errorf("%+v", again)
	}
	if _, busy, _ := j.start("2/copy", "seed", 1, anyTerm, work); !busy {
		t.Error("two jobs at once")
	}
	await := func(state string) observation.Job {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
			if c := j.current(); c.State == state {
				return *c
			}
		}
		t.Fatalf("the job is %+v, not %s", j.current(), state)
		return observation.Job{}
	}
	if j.stop("other") || !j.stop("1/copy") {
		t.Error("the wrong job was stopped, or the right one was not")
	}
	if c := await(observation.JobFailed); c.Error == "" || c.TotalBytes != 100 || c.DoneBytes != 50 {
		t.Errorf("%+v", c)
	}
	close(r.f.hold)
	j.start("1/copy", "seed", 1, anyTerm, work)
	if c := await(observation.JobFinished); c.Result != "done" {
		t.Errorf("%+v", c)
	}
	if c, _, _ := j.start("1/copy", "seed", 1, anyTerm, work); c.State != observation.JobFinished {
		t.Error("a finished job was begun again")
	}
}

// A state file that cannot be read stops the agent: without its terms it must
// not act. One that is absent is a new agent.
func TestStateFile(t *testing.T) {
	dir := t.TempDir()
	m, err := openMemory(dir)
	if err != nil || m.get().Guard != (guard.State{}) {
		t.Fatalf("%+v %v", m, err)
	}
	m.SetFingerprint("k", "v")
	m.SetUnfinished("seed")
	m, err = openMemory(dir)
	if err != nil || m.Fingerprint("k") != "v" || m.Unfinished() != "seed" {
		t.Errorf("%v", err)
	}
	m.ForgetFingerprints()
	if m.Fingerprint("k") != "" {
		t.Error("not forgotten")
	}
	// What stands there already is not written again.
	file := filepath.Join(dir, "state.json")
	if err := os.Chmod(file, 0o400); err != nil {
		t.Fatal(err)
	}
	m.SetUnfinished("seed")
	if fi, err := os.Stat(file); err != nil || fi.Mode().Perm() != 0o400 {
		t.Errorf("%v %v", fi, err)
	}
	m.SetUnfinished("rewind")
	if fi, err := os.Stat(file); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	if err := os.WriteFile(filepath.Join(dir, "state.json"), []byte("{half"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := openMemory(dir); err == nil || !strings.Contains(err.Error(), "must not act") {
		t.Error(err)
	}
	// A change that cannot be written does not count.
	m.path = filepath.Join(dir, "no", "such", "place")
	if err := m.change(func(s *state) error { s.Guard.Noted = 9; return nil }); err == nil || m.get().Guard.Noted == 9 {
		t.Errorf("%+v %v", m.get().Guard, err)
	}
}

// An enrolment goes only to the service whose authority the code names.
func TestEnrolChecksTheService(t *testing.T) {
	authority, err := pki.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	pair, err := authority.Pair(pki.ServiceName, "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	ln, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	heard := make(chan string, 4)
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func(c net.Conn) {
				b := make([]byte, 4096)
				n, _ := c.Read(b)
				heard <- string(b[:n])
				c.Close()
			}(c)
		}
	}()
	_, err = Enroll(t.Context(), t.TempDir(), "https://"+ln.Addr().String(), "code.00112233445566778899aabbccddeeff",
		Config{})
	if err == nil || !strings.Contains(err.Error(), "not of the authority that this code names") {
		t.Errorf("%v", err)
	}
	if got := <-heard; strings.Contains(got, "code.0011") {
		t.Error("the code was told to a stranger")
	}
	block, _ := pem.Decode(authority.PEM())
	if _, err = Enroll(t.Context(), t.TempDir(), "https://"+ln.Addr().String(), "code."+pki.Fingerprint(block.Bytes),
		Config{}); err == nil || strings.Contains(err.Error(), "authority") {
		t.Errorf("the right service: %v", err)
	}

	// An agent of the same authority poses as the service.
	impostor, err := authority.Pair(pki.AgentName("bookings", "heron"), "127.0.0.1", "localhost")
	if err != nil {
		t.Fatal(err)
	}
	trap := httptest.NewUnstartedServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		t.Errorf("the code was told to an agent: %s", b)
	}))
	trap.TLS = &tls.Config{Certificates: []tls.Certificate{impostor}}
	trap.StartTLS()
	defer trap.Close()
	if _, err := Enroll(t.Context(), t.TempDir(), trap.URL, "code."+pki.Fingerprint(block.Bytes), Config{}); err == nil {
		t.Error("an agent passed for the service")
	}
	for _, address := range []string{"http://harbour.skerry.example:7710", "http://10.0.0.1:7710",
		"ftp://harbour", "harbour:7710"} {
		if _, err := Enroll(t.Context(), t.TempDir(), address, "code."+pki.Fingerprint(block.Bytes), Config{}); err == nil ||
			!strings.Contains(err.Error(), "not encrypted") && !strings.Contains(err.Error(), "no address of a service") {
			t.Errorf("%s: %v", address, err)
		}
	}
}

// An agent's answer tells an empty list from no result: a cluster without tables is
// compared as well.
func TestEmptyListIsAResult(t *testing.T) {
	_, do := askLong(func(context.Context, verb.Sums, engine.Progress) ([]verb.TableSum, error) { return nil, nil })
	r, err := do(t.Context(), request{call: verb.Sums{}}, nil)
	if b, err2 := json.Marshal(r); err != nil || err2 != nil || string(b) != "[]" {
		t.Errorf("%s %v %v", b, err, err2)
	}
}
