package postgres

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/enginetest"
	"crosstwin/internal/engine/host"
	"crosstwin/internal/freeport"
	"crosstwin/test/workdir"
)

type rig struct {
	*Engine
	t     *testing.T
	notes *enginetest.Notes
	peers enginetest.Peers
}

func TestMain(m *testing.M) { os.Exit(workdir.Main(m)) }

// newRig prepares an engine for a server that does not exist yet.
func newRig(t *testing.T, name string) *rig { return newRigWith(t, name, func(*Config) {}) }

// newRigWith is the same with a change to its place.
func newRigWith(t *testing.T, name string, change func(*Config)) *rig {
	t.Helper()
	dir := workdir.InMemory(t, "cte")
	n, peers := enginetest.NewNotes(), enginetest.Peers{}
	cfg := Config{Name: name, DataDir: filepath.Join(dir, "data"), SocketDir: filepath.Join(dir, "run"),
		Port: freeport.Next(), Host: "127.0.0.1", WorkDir: dir, LogFile: filepath.Join(dir, "log")}
	change(&cfg)
	e, err := New(cfg, n, peers)
	if err != nil {
		t.Fatal(err)
	}
	r := &rig{e, t, n, peers}
	id, err := e.Owner()
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range []string{dir, e.cfg.SocketDir} {
		os.MkdirAll(d, 0o755)
		os.Chown(d, int(id.UID), int(id.GID))
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		e.Fence(ctx, false)
		e.pool.Close()
	})
	return r
}

// primary makes a server and opens it for writes.
func primary(t *testing.T) *rig {
	t.Helper()
	r := newRig(t, "gull")
	if err := workdir.Blank("data", r.cfg.DataDir, func() error {
		_, _, err := r.Run(r.ctx(), "initdb", "-D", r.cfg.DataDir, "-U", "postgres", "-k", "--auth-local=trust",
			"--auth-host=scram-sha-256")
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if err := r.Start(r.ctx(), "primary"); err != nil {
		t.Fatal(err)
	}
	return r
}

// utility runs a program of the server's as its owner.
func (r *rig) utility(program string, args ...string) {
	r.t.Helper()
	if _, _, err := r.Run(r.ctx(), program, args...); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) ctx() context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	r.t.Cleanup(cancel)
	return ctx
}

// somebody opens a session as an administrator would, in which names are looked up
// in the schema public as well.
func (r *rig) somebody(do func(c *pgx.Conn)) {
	r.t.Helper()
	c, err := r.connect(r.ctx(), "postgres", r.cfg.SocketDir, r.cfg.Port)
	if err != nil {
		r.t.Fatal(err)
	}
	defer c.Close(r.ctx())
	if _, err := c.Exec(r.ctx(), "set search_path = public"); err != nil {
		r.t.Fatal(err)
	}
	do(c)
}

func (r *rig) sql(statements ...string) {
	r.t.Helper()
	r.somebody(func(c *pgx.Conn) {
		for _, s := range statements {
			if _, err := c.Exec(r.ctx(), s); err != nil {
				r.t.Fatalf("%s: %v", s, err)
			}
		}
	})
}

func (r *rig) text(q string) string {
	r.t.Helper()
	var s string
	r.somebody(func(c *pgx.Conn) {
		if err := c.QueryRow(r.ctx(), q).Scan(&s); err != nil {
			r.t.Fatalf("%s: %v", q, err)
		}
	})
	return s
}

// replicaOf seeds a replica of p.
func replicaOf(t *testing.T, p *rig) *rig {
	t.Helper()
	r := newRig(t, "tern")
	r.copyFrom(p, account(t, p, r))
	return r
}

// copyFrom seeds a server, and has it follow.
func (r *rig) copyFrom(p *rig, source verb.Peer) {
	t := r.t
	t.Helper()
	total := int64(0)
	see := func(_ string, done, all int64) { total = max(total, all) }
	if err := r.Seed(r.ctx(), verb.Seed{Source: source, Slot: "ct_tern", Line: p.Observe(r.ctx(), false).Log.Line},
		see); err != nil {
		t.Fatal(err)
	}
	if total == 0 {
		t.Error("no progress was seen")
	}
	if err := r.Start(r.ctx(), "replica"); err == nil {
		t.Fatal("a copy that was not verified was started")
	}
	if err := r.Verify(r.ctx(), see); err != nil {
		t.Fatal(err)
	}
	if err := r.Start(r.ctx(), "replica"); err != nil {
		t.Fatal(err)
	}
	r.await("streams", func(o *observation.Server) bool { return o.Links.Upstream != nil && o.Links.Upstream.Connected })
}

func (r *rig) await(what string, ok func(*observation.Server) bool) *observation.Server {
	r.t.Helper()
	var o *observation.Server
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		if o = r.Observe(r.ctx(), false); ok(o) {
			return o
		}
	}
	r.t.Fatalf("%s never %s: %+v", r.cfg.Name, what, o)
	return nil
}

// caughtUp waits until the replica has applied all that the primary wrote.
func (r *rig) caughtUp(p *rig) {
	r.t.Helper()
	at := p.text("select pg_current_wal_flush_lsn()::text")
	r.await("caught up", func(o *observation.Server) bool { return later(o.Log.Applied, at) == o.Log.Applied })
}

// Every state of a server is observed as what it is.
func TestObserve(t *testing.T) {
	t.Parallel()
	r := newRig(t, "gull")
	if o := r.Observe(r.ctx(), false); !o.Data.Empty || o.Process.Running || o.Process.MajorVersion != 15 ||
		o.Data.ClosedByDefault {
		t.Errorf("nothing there: %+v", o)
	}
	p := primary(t)
	o := p.Observe(p.ctx(), true)
	if o.Process.Role != observation.Primary || !o.Process.Writable || !o.Process.Accepting || o.Log.Written == "" ||
		o.Log.Line.Number != 1 || o.Data.System == "" || !strings.HasPrefix(o.Process.Version, "15.") ||
		!o.Data.ClosedByDefault || o.Data.Bytes.Or(0) < 1<<20 || o.Host.DiskFreeBytes.Or(0) == 0 {
		t.Errorf("primary: %+v", o)
	}
	for _, k := range observedSettings[:12] {
		if o.Config.Settings[k] == "" {
			t.Errorf("setting %s was not seen", k)
		}
	}
	p.sql("create unlogged table fast (a int)")
	if o = p.Observe(p.ctx(), true); o.Config.Facts["unlogged_tables"] != 1 || o.Config.Facts["hba_errors"] != 0 {
		t.Errorf("facts %v", o.Config.Facts)
	}
	hba, err := os.OpenFile(p.Path("pg_hba.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	hba.WriteString("host all skerry 10.9.0.0/16 ldap ldapserver=x ldapbasedn=y ldapbindpasswd=sesame\n")
	hba.Close()
	if rules := p.Observe(p.ctx(), true).Config.Settings["access_rules"]; !strings.Contains(rules, "skerry 10.9.0.0") ||
		strings.Contains(rules, "sesame") {
		t.Errorf("access rules %q", rules)
	}
	p.sql("alter system set default_transaction_read_only = on", "select pg_reload_conf()")
	p.await("closed its sessions", func(o *observation.Server) bool { return o.Process.Accepting && !o.Process.Writable })
	p.sql("alter system reset default_transaction_read_only", "select pg_reload_conf()")
	p.await("opened them", func(o *observation.Server) bool { return o.Process.Writable })
	if err := p.Stop(p.ctx()); err != nil {
		t.Fatal(err)
	}
	p.await("ended", func(o *observation.Server) bool { return !o.Process.Running })
	o = p.Observe(p.ctx(), false)
	if o.Log.ShutdownAt == "" || o.Data.State != "shut down" || o.Log.Line.Number != 1 || o.Data.System == "" {
		t.Errorf("stopped: %+v", o)
	}
}

// A replica is seeded, follows, is told from its primary, and its marks are
// found; a mark of somebody else is not.
func TestReplica(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int primary key)", "insert into t select generate_series(1, 1000)")
	r := replicaOf(t, p)
	o := r.Observe(r.ctx(), false)
	if o.Process.Role != observation.Replica || o.Process.Writable || o.Links.Upstream.Port != p.cfg.Port ||
		o.Links.Upstream.Slot != "ct_tern" || o.Log.Line.Compare(p.Observe(p.ctx(), false).Log.Line) != position.Kin {
		t.Errorf("%+v", o)
	}
	if strings.Contains(r.text("show primary_conninfo"), "pass:word") {
		t.Error("the password stands in the settings")
	}
	p.await("sees it", func(o *observation.Server) bool {
		d, ok := o.DownstreamNamed("tern")
		s, has := o.SlotNamed("ct_tern")
		return ok && has && d.State == "streaming" && s.Active && s.Ours
	})
	m, err := p.Mark(p.ctx(), "abc123", 1, "term 1")
	if err != nil {
		t.Fatal(err)
	}
	if err := r.FindMark(r.ctx(), m); err != nil {
		t.Error(err)
	}
	other := m
	other.ID = "somebody-else"
	if err := r.FindMark(r.ctx(), other); err == nil {
		t.Error("a mark that was never written was found")
	}
	p.sql("select pg_switch_wal()", "insert into t values (1001)")
	if m, err = p.Mark(p.ctx(), "next-file", 1, ""); err != nil {
		t.Fatal(err)
	}
	if err := r.FindMark(r.ctx(), m); err != nil {
		t.Errorf("after a forced file border: %v", err)
	}
	// Its probe reaches the primary; with a wrong password it says so.
	if res := r.Probe(r.ctx(), verb.Peer{Host: "127.0.0.1", Port: p.cfg.Port},
		accountOfTest); !res.OK || res.System != o.Data.System {
		t.Errorf("%+v", res)
	}
	if res := r.Probe(r.ctx(), verb.Peer{Host: "127.0.0.1", Port: p.cfg.Port},
		engine.Account{User: accountOfTest.User, Password: "x"}); res.OK ||
		!strings.Contains(res.Problem, "password authentication failed") {
		t.Errorf("%+v", res)
	}
	// Detached, and attached again, without a restart: also while replay is paused,
	// when the server by itself lets the receiver stream on.
	pid, _ := r.running()
	detached := operation.Condition{Kind: operation.IsDetached, Server: "tern"}
	r.sql("select pg_wal_replay_pause()")
	if err := r.Follow(r.ctx(), verb.Follow{}); err != nil {
		t.Fatal(err)
	}
	r.await("let go", func(o *observation.Server) bool {
		ok, _ := detached.Holds(position.EnginePostgres, map[string]*observation.Server{"tern": o})
		return ok
	})
	stood := r.Observe(r.ctx(), false).Log.Received
	p.sql("insert into t values (1002)")
	time.Sleep(time.Second)
	if now := r.Observe(r.ctx(), false).Log.Received; now != stood {
		t.Errorf("detached, and its received position went from %s to %s", stood, now)
	}
	r.sql("select pg_wal_replay_resume()")
	if err := r.Follow(r.ctx(), verb.Follow{Upstream: verb.Peer{Host: "127.0.0.1", Port: p.cfg.Port},
		Slot: "ct_tern"}); err != nil {
		t.Fatal(err)
	}
	r.await("follows again", func(o *observation.Server) bool {
		return o.Links.Upstream != nil &&
			o.Links.Upstream.Connected
	})
	if again, _ := r.running(); again.pid != pid.pid {
		t.Error("it was restarted")
	}
	// Promoted: writable, on timeline 2, closed by default; asked again, the same.
	for range 2 {
		if err := r.Promote(r.ctx()); err != nil {
			t.Fatal(err)
		}
	}
	o = r.Observe(r.ctx(), false)
	if !o.Process.Writable || o.Log.Line.Number != 2 || o.Log.Line.Fingerprint == "" || !o.Data.ClosedByDefault ||
		len(o.Log.Past) != 1 {
		t.Errorf("%+v", o)
	}
	if err := p.Slots(p.ctx(), verb.Slots{Drop: []string{"ct_tern", "ct_never_was"}}); err != nil {
		t.Error(err)
	}
}

// Whatever state a server is in, after a fence nothing of it is left, and the
// next start by anybody is read-only.
func TestFence(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int)")
	// Somebody's shell in the data directory is not the server's.
	shell := exec.Command("sleep", "600")
	shell.Dir = p.cfg.DataDir
	if err := shell.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if syscall.Kill(shell.Process.Pid, 0) != nil || !host.Alive(shell.Process.Pid) {
			t.Error("a fence killed a process that is not the server's")
		}
		shell.Process.Kill()
		shell.Wait()
	}()
	for _, c := range []struct {
		name   string
		gently bool
		before func(pid int)
	}{
		{"running", true, func(int) {}},
		{"running, at once", false, func(int) {}},
		{"frozen", false, func(pid int) { syscall.Kill(pid, syscall.SIGSTOP) }},
		{"the server killed, its children alive", false, func(pid int) {
			// A session in a loop that goes on committing without its server.
			go func() {
				if c, err := p.connect(context.Background(), "postgres", p.cfg.SocketDir, p.cfg.Port); err == nil {
					c.Exec(context.Background(), "do $$ begin loop insert into public.t values (1); commit; end loop; end $$")
				}
			}()
			time.Sleep(300 * time.Millisecond)
			syscall.Kill(pid, syscall.SIGKILL)
			p.await("was seen to go on without its server", func(o *observation.Server) bool {
				return o.Process.Running && o.Process.Role == observation.Primary && o.Process.Writable &&
					strings.Contains(o.Process.Problem, "children go on")
			})
		}},
		{"not running", true, func(pid int) {
			if err := p.Stop(p.ctx()); err != nil {
				t.Error(err)
			}
		}},
	} {
		proc, ok := p.running()
		if !ok {
			t.Fatalf("%s: the server does not run", c.name)
		}
		c.before(proc.pid)
		if err := p.Fence(p.ctx(), c.gently); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if left := p.Processes(); len(left) != 0 {
			t.Errorf("%s: processes %v are left", c.name, left)
		}
		if err := p.Start(p.ctx(), "replica"); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		err := p.exec(p.ctx(), "insert into public.t values (2)")
		if err == nil || !strings.Contains(err.Error(), "read-only") {
			t.Errorf("%s: a write after the fence: %v", c.name, err)
		}
		if err := p.Start(p.ctx(), "primary"); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		p.sql("insert into t values (3)")
		if _, err := os.Stat(p.Path("standby.signal")); err != nil {
			t.Errorf("%s: the data is not closed: %v", c.name, err)
		}
	}
}

// A start that fails says why, in the server's own words.
func TestStartFails(t *testing.T) {
	t.Parallel()
	p := primary(t)
	if err := p.Stop(p.ctx()); err != nil {
		t.Fatal(err)
	}
	conf := p.Path("postgresql.conf")
	good, _ := os.ReadFile(conf)
	os.WriteFile(conf, append(good, "\nmax_connections = none\n"...), 0o600)
	if err := p.Start(p.ctx(), "replica"); err == nil || !strings.Contains(err.Error(), "max_connections") {
		t.Errorf("%v", err)
	}
	os.WriteFile(conf, good, 0o600)
	p.notes.Left = "rewind"
	if err := p.Start(p.ctx(), "replica"); err == nil || !strings.Contains(err.Error(), "a rewind was interrupted") {
		t.Errorf("%v", err)
	}
	p.notes.Left = ""
	if err := p.Start(p.ctx(), "replica"); err != nil {
		t.Error(err)
	}
	if os.Geteuid() == 0 {
		os.Chown(p.cfg.DataDir, 0, 0)
		if _, err := p.Owner(); err == nil || !strings.Contains(err.Error(), "never runs as root") {
			t.Errorf("data that belongs to root: %v", err)
		}
		fi, _ := os.Stat(conf)
		os.Chown(p.cfg.DataDir, int(fi.Sys().(*syscall.Stat_t).Uid), int(fi.Sys().(*syscall.Stat_t).Gid))
	}
}

// A tail with everything in it: the listing counts what statements did, the
// salvage holds the rows that were left, and opening the data for it wrote
// nothing: the end of the log is where it was.
func TestTail(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int primary key, s text, b bytea, j jsonb, at timestamptz, n numeric)",
		`create table "Odd name" (a int, b int[])`,
		"insert into t select g, 'old', null, null, now(), g from generate_series(1, 50) g", "checkpoint")
	fork := p.text("select pg_current_wal_insert_lsn()::text")
	before := p.Observe(p.ctx(), false)
	p.sql("insert into t values (101, 'it''s new', '\\x00ff', '{\"k\": [1, null]}', '2027-01-01 06:00+00', 1.50)",
		"update t set s = 'changed' where a <= 3",
		"delete from t where a in (40, 41)",
		`insert into "Odd name" values (1, '{1,2}'), (2, null)`,
		"insert into t (a, s) values (102, repeat('long ', 20000))",
		"begin; savepoint x; insert into t (a) values (103); release x; insert into t (a) values (104); commit",
		"begin; insert into t (a) values (105); rollback",
		"create table made_later (a int)",
		"vacuum t")
	p.sql("insert into t select g from generate_series(200, 299) g")
	if err := p.Fence(p.ctx(), false); err != nil { // a crash
		t.Fatal(err)
	}
	p.peers["tern"] = p.Engine // whose log of before the fork is the same
	x, err := p.Examine(p.ctx(), verb.Examine{Line: position.Line{System: before.Data.System, Number: 2,
		Began: mustLSN(t, fork), Fingerprint: "f"}, Past: []position.Branch{{Timeline: 1, End: mustLSN(t, fork)}},
		Primary: verb.Peer{Name: "tern"}})
	if err != nil {
		t.Fatal(err)
	}
	if x.Fork != fork || x.Kinship != string(position.Kin) || x.TailBytes <= 0 || !x.Rewindable || x.Tail == nil ||
		x.Clean {
		t.Fatalf("%+v", x)
	}
	committed, inserts, updates, deletes := x.Tail.Counts()
	if inserts < 1+2+1+2+100 || updates != 3 || deletes != 2 || committed != 8 {
		t.Errorf("%d committed: %d inserts, %d updates, %d deletes: %+v", committed, inserts, updates, deletes,
			x.Tail.Transactions)
	}
	outcomes := map[string]int{}
	schema := 0
	for _, tx := range x.Tail.Transactions {
		outcomes[tx.Outcome]++
		if tx.Schema {
			schema++
		}
		if tx.Outcome == "committed" && time.Since(tx.At) > time.Hour {
			t.Errorf("time %s", tx.At)
		}
	}
	if outcomes["aborted"] != 1 || schema != 1 {
		t.Errorf("%v, %d with definitions", outcomes, schema)
	}
	tail, err := p.Salvage(p.ctx(), verb.Salvage{Fork: x.Fork, Timeline: x.ForkLine, Name: "bookings-gull"},
		filepath.Join(p.cfg.WorkDir, "salvage"), func(string, int64, int64) {})
	if err != nil {
		t.Fatal(err)
	}
	again, err := p.Examine(p.ctx(), verb.Examine{Line: before.Log.Line, Primary: verb.Peer{Name: "tern"}})
	if err != nil || again.End != x.End || !again.Clean {
		t.Errorf("the salvage moved the end of the log from %s to %s (%v)", x.End, again.End, err)
	}
	names := map[string]bool{}
	for _, tx := range tail.Transactions {
		for _, c := range tx.Changes {
			names[c.Table] = true
		}
	}
	if !names["postgres.public.t"] || !names[`postgres.public."Odd name"`] || len(names) != 2 {
		t.Errorf("tables %v", names)
	}
	// The saved tail is listed with its rows as it left them, under the
	// transaction that did.
	left := map[string]string{}
	for _, tx := range tail.Transactions {
		for _, r := range tx.Rows {
			left[r.Table] += fmt.Sprint(tx.Outcome, " ", r.Words(), "\n")
		}
	}
	for table, words := range map[string][]string{"postgres.public.t": {`a=101`, `s="it's new"`, `s="changed"`, `a=104`},
		`postgres.public."Odd name"`: {"a=1, b=[1, 2]"}} {
		for _, x := range words {
			if !strings.Contains(left[table], x) {
				t.Errorf("%s does not list %s:\n%.2000s", table, x, left[table])
			}
		}
	}
	if strings.Contains(left["postgres.public.t"], "a=105") || strings.Contains(left["postgres.public.t"], `s="old"`) {
		t.Errorf("rows of an aborted transaction, or of before the fork, are listed:\n%.2000s", left["postgres.public.t"])
	}
	p.loadSalvage(tail.Saved, tail.Into)
}

// loadSalvage opens the data again and loads the file beside the live tables.
func (r *rig) loadSalvage(file, into string) {
	r.t.Helper()
	if err := r.Start(r.ctx(), "primary"); err != nil {
		r.t.Fatal(err)
	}
	out, err := exec.Command("psql", "-v", "ON_ERROR_STOP=1", "-qf", file, "-h", r.cfg.SocketDir, "-p",
		strconv.Itoa(r.cfg.Port), "-U", "postgres").CombinedOutput()
	if err != nil {
		b, _ := os.ReadFile(file)
		r.t.Fatalf("%v %s\n%.3000s", err, out, b)
	}
	columns := "select s || encode(b, 'hex') || j::text || n::text || (at at time zone 'UTC')::text from %s "
	for q, want := range map[string]string{
		"select string_agg(a::text, ',' order by a) from %s where a < 200": "1,2,3,101,102,103,104",
		columns + "where a = 101": `it's new00ff{"k": [1, null]}1.502027-01-01 06:00:00`,
		"select count(*)::text || min(length(s))::text from %s where a = 102": "1100000",
		"select count(*)::text from %s where a between 200 and 299":           "100",
		"select count(distinct tail_transaction)::text from %s " +
			"where tail_time > now() - interval '1 hour'": "5",
	} {
		if got := r.text(fmt.Sprintf(q, into+`."public.t"`)); got != want {
			r.t.Errorf("%s: %s, want %s", q, got, want)
		}
	}
	if got := r.text(`select string_agg(b::text, ';') from ` + into + `."public.""Odd name"""`); got != "{1,2}" {
		r.t.Error(got)
	}
}

func mustLSN(t *testing.T, s string) position.LSN {
	t.Helper()
	l, err := position.ParseLSN(s)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// A hold lets every server open a view at one position, ends by itself, and
// gives way to a writer that does not end.
func TestHold(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int primary key, s text)", "insert into t select g, g::text from generate_series(1, 500) g")
	r := replicaOf(t, p)
	c, err := p.connect(p.ctx(), "postgres", p.cfg.SocketDir, p.cfg.Port)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(p.ctx())
	held, err := p.Hold(p.ctx(), 5)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(p.ctx(), "set lock_timeout = '200ms'; insert into public.t values (1000, 'x')"); err == nil {
		t.Error("a write went through a hold")
	}
	if err := r.Snapshot(r.ctx(), verb.Snapshot{Hold: held, Seconds: 5}); err != nil {
		t.Fatal(err)
	}
	if err := p.Release(p.ctx()); err != nil {
		t.Error(err)
	}
	p.sql("insert into t values (1001, 'after')", "update t set s = 'after' where a = 1")
	r.caughtUp(p)
	quiet := func(string, int64, int64) {}
	mine, err := p.Sums(p.ctx(), quiet)
	theirs, err2 := r.Sums(r.ctx(), quiet)
	if err != nil || err2 != nil || len(mine) != 1 || mine[0].Rows != 500 || mine[0].Sum != theirs[0].Sum {
		t.Errorf("%v %v %v %v", mine, theirs, err, err2)
	}
	rows, err := r.Rows(r.ctx(), verb.Rows{Table: "postgres.public.t"})
	if err != nil || len(rows.Buckets) < 100 {
		t.Errorf("%d buckets, %v", len(rows.Buckets), err)
	}
	p.Forget(p.ctx())
	r.Forget(r.ctx())
	if _, err := p.Sums(p.ctx(), quiet); err == nil {
		t.Error("a view that was closed was summed")
	}
	// The deadline: writes go on by themselves, and the release says so.
	if _, err := p.Hold(p.ctx(), 0.2); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(p.ctx(), "set lock_timeout = '20s'; insert into public.t values (1002, 'x')"); err != nil {
		t.Error(err)
	}
	if err := p.Release(p.ctx()); err == nil || !strings.Contains(err.Error(), "ended before") {
		t.Error(err)
	}
	// A writer that does not end: the hold gives way to others again and again.
	if _, err := c.Exec(p.ctx(), "begin; insert into public.t values (1003, 'x')"); err != nil {
		t.Fatal(err)
	}
	short, cancel := context.WithTimeout(p.ctx(), 2*time.Second)
	defer cancel()
	if _, err := p.Hold(short, 1); err == nil {
		t.Error("writes were held although one was under way")
	}
	done := make(chan error, 1)
	go func() { done <- p.exec(context.Background(), "insert into public.t values (1004, 'y')") }()
	select {
	case err := <-done:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(20 * time.Second):
		t.Error("a writer waits behind a hold that was given up")
	}
}

func TestRulesAndNames(t *testing.T) {
	t.Parallel()
	peers := []verb.Peer{{Name: "gull", Host: "10.0.0.1"}, {Name: "tern", Host: "10.0.0.1"},
		{Name: "auk", Host: "fd00::1"},
		{Name: "heron", Host: "harbour.skerry.example"}, {}, {Name: "skua", Host: "all"}, {Name: "a b", Host: "10.0.0.9"}}
	once := hbaRules("local all all peer\n", encryptedOnly, peers, false)
	if twice := hbaRules(once, encryptedOnly, peers, false); twice != once {
		t.Errorf("written again it changed:\n%s\n%s", once, twice)
	}
	for _, want := range []string{"hostssl replication crosstwin_follow_tern 10.0.0.1/32 scram-sha-256",
		"hostssl postgres crosstwin_follow_auk fd00::1/128 scram-sha-256", "host all crosstwin_follow_auk all reject",
		"hostssl replication crosstwin_follow_heron harbour.skerry.example scram-sha-256",
		"hostnossl all crosstwin_follow_heron all reject", "local all all peer"} {
		if !strings.Contains(once, want) {
			t.Errorf("%q is missing in\n%s", want, once)
		}
	}
	for _, not := range []string{"skua", "10.0.0.9", verb.SharedUser, "host all crosstwin_follow_heron all reject"} {
		if strings.Contains(once, not) {
			t.Errorf("%q stands in\n%s", not, once)
		}
	}
	all := "host postgres " + verb.SharedUser + " 10.0.0.1/32"
	if got := hbaRules(once, "host", peers, true); !strings.Contains(got, all) {
		t.Errorf("the account of all:\n%s", got)
	}
	if got := withoutUser(once, "crosstwin_follow_tern"); strings.Contains(got, "tern") ||
		!strings.Contains(got, "crosstwin_follow_gull 10.0.0.1/32") ||
		!strings.HasSuffix(got, hbaEnd+"\nlocal all all peer\n") {
		t.Errorf("without tern:\n%s", got)
	}
	if got := withoutRules(once); got != "local all all peer\n" {
		t.Errorf("emptied:\n%s", got)
	}
	for in, want := range map[string][2]int64{"  23456/1537890 kB (1%), 0/1 tablespace": {23456 << 10, 1537890 << 10},
		"38292/38292 kB (100%) copied": {38292 << 10, 38292 << 10}} {
		if d, n, ok := parseProgress(in); !ok || d != want[0] || n != want[1] {
			t.Errorf("%s: %d %d", in, d, n)
		}
	}
	if _, _, ok := parseProgress("pg_rewind: connected to server"); ok {
		t.Error("words pass for progress")
	}
	if _, err := New(Config{Name: "x", Host: "h"}, enginetest.NewNotes(), nil); err == nil {
		t.Error("an engine without a data directory")
	}
	debian := t.TempDir()
	os.WriteFile(filepath.Join(debian, "PG_VERSION"), []byte("15\n"), 0o600)
	if _, err := New(Config{Name: "x", Host: "h", DataDir: debian}, enginetest.NewNotes(), nil); err == nil ||
		!strings.Contains(err.Error(), "say where its configuration is") {
		t.Errorf("configuration elsewhere: %v", err)
	}
}
