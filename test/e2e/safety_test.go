package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

func (w *world) startByHand(name string) {
	w.t.Helper()
	if err := w.server(name).StartByHand(w.ctx); err != nil {
		w.t.Fatal(err)
	}
}

// confirmed fails over from a server that a person has confirmed to be off, once
// no replica's link counts as proof of the opposite any more.
func (w *world) confirmed(off, to string) {
	w.t.Helper()
	args := []string{"failover", "bookings", "--confirm-stopped", off, "--yes", "--accept-loss", "bookings"}
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(time.Second) {
		if _, said, code := w.run(args...); code != 3 || !strings.Contains(said, w.as("received from "+off)) {
			break
		}
	}
	if v, err := w.Client.Cluster(w.ctx, w.Name); err == nil && v.Primary == w.as(to) {
		return
	}
	w.must(0, []string{to + " is primary of bookings"}, args...)
}

// kept reports whether a server is kept from writing by its own agent: what was
// written before shows at once on MariaDB, whose logs are read.
func (w *world) kept(v view.View, name string) bool {
	s := w.find(v, name)
	return s.Health == view.Fenced || s.Health == view.Adrift && s.Observation != nil && !s.Observation.Process.Running &&
		s.Observation.Process.Fenced
}

// Closed by default: whoever starts a primary's data without permission gets a
// server in which nobody can write; with permission it is primary again and
// has lost nothing.
func TestClosedByDefault(t *testing.T) { anEngine(t, false, closedByDefault) }

func closedByDefault(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	if err := load.AwaitAcks(w.ctx, 50); err != nil {
		t.Fatal(err)
	}
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil {
		t.Fatal(err)
	}
	before := w.find(v, "gull").Observation.Process.Identity
	if err := w.KillAgent(w.as("gull")); err != nil {
		t.Fatal(err)
	}
	demo.KillDatabase(w.server("gull"))
	load.Stop()
	w.startByHand("gull")
	if err := w.tryWrite(w.server("gull")); err == nil || !strings.Contains(err.Error(), "read-only") &&
		!strings.Contains(err.Error(), "read_only") {
		t.Fatalf("a write to a server that nobody gave permission: %v", err)
	}
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		t.Fatal(err)
	}
	// A restart is no incident: its agent hears that the term is still its own.
	err = w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "gull")
		return s.Health == view.TakesWrites && s.Observation.Process.Identity != before && v.Term == 1
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := w.tryWrite(w.server("gull")); err != nil {
		t.Fatal(err)
	}
	w.holdsAll(load, nil, "gull")
}

// A restart is no incident: the primary comes back closed, and its agent opens it
// again in its own term; the replicas go on, proven, and nothing is lost. What a
// person sets is another matter: it stays.
func TestRestartIsNoIncident(t *testing.T) { anEngine(t, true, restartIsNoIncident) }

func restartIsNoIncident(t *testing.T, w *world) {
	load := w.Load(2, 50*time.Millisecond)
	defer load.Stop()
	w.settled()
	byHand := func(end func(*demo.Server)) func() {
		return func() { end(w.server("gull")); w.startByHand("gull") }
	}
	ways := []func(){byHand(demo.KillDatabase), byHand(demo.StopDatabase)}
	if !w.mariadb() {
		// One process of the server dies, and the server recovers by itself.
		ways = append(ways, func() { syscall.Kill(w.databaseProcess("gull", "walwriter"), syscall.SIGKILL) })
	}
	for _, restart := range ways {
		if err := load.AwaitAcks(w.ctx, 20); err != nil {
			t.Fatal(err)
		}
		before := w.find(w.settled(), "gull").Observation.Process.Identity
		restart()
		err := w.Await(w.ctx, func(v view.View) bool {
			s := w.find(v, "gull")
			return s.Health == view.TakesWrites && s.Observation.Process.Identity != before && v.Term == 1 && v.OwnerTerm == 1 &&
				w.find(v, "tern").MayTakeOver && w.find(v, "tern").Health == view.InStep
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	// With a plan it is the same, and the pause is told.
	w.must(0, []string{"gull was restarted and is primary of bookings in term", "still; writes paused for"}, "restart",
		"bookings", "gull", "--yes")
	w.must(0, []string{"tern was restarted and follows gull"}, "restart", "bookings", "tern", "--yes")
	load.Stop()
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron")
	// So it is with one that was a copy before.
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern"})
	before := w.find(w.settled(), "tern").Observation.Process.Identity
	demo.KillDatabase(w.server("tern"))
	w.startByHand("tern")
	if err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Health == view.TakesWrites && s.Observation.Process.Identity != before && v.Term == 2
	}); err != nil {
		t.Fatal(err)
	}
	w.settled()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "gull"})
	w.settled()
	w.leftInMaintenance()
	if !w.mariadb() {
		return
	}
	w.sql("gull", "set global read_only = 1")
	seen := map[time.Time]bool{}
	err := w.Await(w.ctx, func(v view.View) bool {
		if s := w.find(v, "gull"); s.Health == view.TakesNoWrite {
			seen[s.Observation.At] = true
		}
		return len(seen) > 4
	})
	if err != nil {
		t.Fatalf("gull did not stay read-only: %v", err)
	}
}

// leftInMaintenance restarts the primary while people are at work: it stays closed until the
// maintenance is over.
func (w *world) leftInMaintenance() {
	w.t.Helper()
	w.must(2, []string{"a maintenance says why"}, "cluster", "set", "bookings", "--maintenance", "1h")
	w.must(2, []string{"lasts 7 days at most"}, "cluster", "set", "bookings", "--maintenance", "1000h", "--why",
		"new disks")
	w.must(0, nil, "cluster", "set", "bookings", "--maintenance", "1h", "--why", "new disks")
	w.must(0, []string{"Maintenance until", "(new disks)"}, "status", "bookings")
	demo.StopDatabase(w.server("gull"))
	w.startByHand("gull")
	closed := map[time.Time]bool{}
	if err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "gull")
		if s.Observation != nil && s.Observation.Process.Accepting && !s.Observation.Process.Writable {
			closed[s.Observation.At] = true
		}
		return len(closed) > 4
	}); err != nil {
		w.t.Fatalf("gull was opened again: %v", err)
	}
	w.must(0, nil, "cluster", "set", "bookings", "--maintenance", "0")
	if out := w.must(0, nil, "status", "bookings"); strings.Contains(out, "Maintenance") {
		w.t.Error(out)
	}
	w.settled()
}

// The old primary was alive all along, and only its agent could not be
// reached: it is fenced by its own agent as soon as that hears of the new term.
func TestOldPrimaryAliveAllAlong(t *testing.T) { anEngine(t, true, oldPrimaryAliveAllAlong) }

func oldPrimaryAliveAllAlong(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	pid := w.AgentPID(w.as("gull"))
	syscall.Kill(pid, syscall.SIGSTOP)
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "gull").Health == view.Unseen }); err != nil {
		t.Fatal(err)
	}
	w.must(3, []string{"refused, nothing was changed", "--confirm-stopped gull"}, "failover", "bookings", "--yes")
	// It still answers: evidence beats a person's word.
	w.must(3, []string{"refused, nothing was changed", "gull answers a login"}, "failover", "bookings",
		"--confirm-stopped", "gull", "--yes", "--accept-loss", "bookings")
	frozen := processesIn(w.server("gull").DataDir)
	for _, p := range frozen {
		syscall.Kill(p, syscall.SIGSTOP)
	}
	w.confirmed("gull", "tern")
	for _, p := range frozen {
		syscall.Kill(p, syscall.SIGCONT)
	}
	if w.tryWrite(w.server("gull")) != nil {
		t.Fatal("gull was to be alive: the test shows nothing")
	}
	w.writeLocally("gull") // whether or not the workload comes to it in this moment
	syscall.Kill(pid, syscall.SIGCONT)
	if err := w.Await(w.ctx, func(v view.View) bool { return w.kept(v, "gull") }); err != nil {
		t.Fatal(err)
	}
	if n := w.writable(); n != 1 {
		t.Fatalf("%d servers take writes", n)
	}
	// Nobody opens it again by asking its agent in the old term, or by hand.
	w.startByHand("gull")
	if err := w.tryWrite(w.server("gull")); err == nil {
		t.Fatal("gull takes writes again")
	}
	op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull", Compare: true})
	if x := op.Plan.Examination; x.TailBytes == 0 || x.Tail == nil {
		t.Errorf("gull wrote after the fork, and no tail was found: %+v", x)
	}
	w.settled()
}

// The old primary's whole host froze and thaws after the failover: its agent
// kills the database before it can answer anybody.
func TestFrozenOldPrimary(t *testing.T) { anEngine(t, true, frozenOldPrimary) }

func frozenOldPrimary(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.settled()
	agent := w.AgentPID(w.as("gull"))
	syscall.Kill(agent, syscall.SIGSTOP)
	for _, pid := range processesIn(w.server("gull").DataDir) {
		syscall.Kill(pid, syscall.SIGSTOP)
	}
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "gull").Health == view.Unseen }); err != nil {
		t.Fatal(err)
	}
	w.confirmed("gull", "tern")
	// A write that was acknowledged right before, and not sent yet, is lost: that was accepted.
	lost := w.lost(load)
	// Only the agent thaws: the database still hangs, and is open for writes.
	syscall.Kill(agent, syscall.SIGCONT)
	if err := w.Await(w.ctx, func(v view.View) bool { return w.kept(v, "gull") }); err != nil {
		t.Fatal(err)
	}
	if left := processesIn(w.server("gull").DataDir); len(left) != 0 {
		t.Fatalf("processes %v of the old primary are left", left)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull", Compare: true})
	load.Stop()
	w.settled()

	// Now only a database hangs: its own agent sees to it, and nobody has to
	// confirm anything.
	for _, pid := range processesIn(w.server("tern").DataDir) {
		syscall.Kill(pid, syscall.SIGSTOP)
	}
	w.says([]string{"bookings takes no writes. Primary tern: it has not answered within 3 s.",
		"! tern takes no writes: it has not", "make another server primary: crosstwin failover bookings"}, "status",
		"bookings")
	w.must(0, []string{"gull is primary of bookings"}, "failover", "bookings", "--yes", "--accept-loss", "bookings")
	if left := processesIn(w.server("tern").DataDir); len(left) != 0 {
		t.Fatalf("processes %v of the hung primary are left", left)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "tern", Compare: true})
	w.settled()
	w.holdsAll(load, lost, "gull", "tern", "heron")
}

// Two servers promoted from one point call their history "timeline 2" both.
// The server itself would stream from one to the other without a word; here
// they are told apart and the second one is rebuilt.
func TestSameNumberIsNoKinship(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	w.must(0, nil, "server", "set", "bookings", "heron", "--rank", "3")
	load := w.Load(1, 30*time.Millisecond)
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	load.Stop()
	w.settled()
	demo.KillDatabase(w.server("gull"))
	if err := w.KillAgent(w.as("tern")); err != nil {
		t.Fatal(err)
	}
	w.sql("tern", "alter system set primary_conninfo = ''")
	w.sql("tern", "select pg_reload_conf()")
	w.sql("tern", "select pg_promote(true)")
	w.must(0, []string{"heron is primary"}, "failover", "bookings", "--to", "heron", "--yes", "--accept-loss", "bookings")
	for _, n := range []string{"tern", "heron"} {
		if got := w.query(n, "select substr(pg_walfile_name(pg_current_wal_insert_lsn()), 1, 8)"); got != "00000002" {
			t.Fatalf("%s is on timeline %s: the test shows nothing", n, got)
		}
		w.sql(n, "insert into passengers (name, email) values ('"+(n + "     ")[:5]+"', 'x')")
	}
	if err := w.StartAgent(w.ctx, w.as("tern")); err != nil {
		t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		h := w.find(v, "tern").Health
		return h == view.Adrift ||
			h == view.Fenced
	}); err != nil {
		t.Fatal(err)
	}
	if n := w.writable(); n != 1 {
		t.Fatalf("%d servers take writes", n)
	}
	text := w.must(3, []string{"although both report timeline 2", "follow is not possible"}, "rejoin", "bookings", "tern",
		"--way", "follow", "--yes")
	if !strings.Contains(text, "a rewind cannot see a fork between") {
		t.Errorf("it does not say why a rewind is no way:\n%s", text)
	}
	op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "tern", Compare: true})
	for _, way := range op.Plan.Ways {
		if way.Chosen != (way.Name == plan.WayRebuild) {
			t.Errorf("way %s: chosen %t", way.Name, way.Chosen)
		}
	}
	if tail := op.Plan.Examination.Tail; tail == nil || len(tail.Transactions) == 0 {
		t.Error("the insert that only tern has is not in its tail")
	}
	if got := w.query("tern",
		"select string_agg(distinct trim(name), ',') from passengers where email = 'x'"); got != "heron" {
		t.Errorf("tern holds the rows of %s", got)
	}
}

// stopApplying has a replica receive and apply nothing, so that nobody knows.
func (w *world) stopApplying(name string) (goOn func()) {
	w.t.Helper()
	if !w.mariadb() {
		pid := w.databaseProcess(name, "startup")
		syscall.Kill(pid, syscall.SIGSTOP)
		return func() { syscall.Kill(pid, syscall.SIGCONT) }
	}
	// A lock that the applier needs, in a session that reads.
	db, err := w.server(name).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	c, err := db.Conn(w.ctx)
	if err != nil {
		w.t.Fatal(err)
	}
	if _, err := c.ExecContext(w.ctx, "flush tables with read lock"); err != nil {
		w.t.Fatal(err)
	}
	return func() { c.Close(); db.Close() }
}

// stopReceiving has a replica receive nothing more and apply what it has.
func (w *world) stopReceiving(name string) {
	w.t.Helper()
	if w.mariadb() {
		w.sql(name, "stop slave io_thread")
		return
	}
	w.sql(name, "alter system set primary_conninfo = ''", "select pg_reload_conf()")
}

// A failure before the point of no return: the old primary is primary again,
// by itself, and says why.
func TestSwitchoverUndoesItself(t *testing.T) { anEngine(t, true, switchoverUndoesItself) }

func switchoverUndoesItself(t *testing.T, w *world) {
	load := w.Load(1, 50*time.Millisecond)
	defer load.Stop()
	if err := load.AwaitAcks(w.ctx, 10); err != nil {
		t.Fatal(err)
	}
	if !w.mariadb() {
		// More writes than fit into the last moment would end it before the pause: nobody
		// writes, nor does the server by itself.
		load.Stop()
		w.sql("gull", "alter system set autovacuum = off", "select pg_reload_conf()")
		const workers = "select count(*)::text from pg_stat_activity where backend_type = 'autovacuum worker'"
		for end := time.Now().Add(time.Minute); w.query("gull", workers) != "0"; time.Sleep(100 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatal("the server's own vacuum does not end")
			}
		}
	}
	w.settled()
	goOn := w.stopApplying("tern")
	said := w.must(4, []string{"failed and undone"}, "switchover", "bookings", "--to", "tern", "--yes")
	goOn()
	// Whether the pause had begun by then is a matter of a few transactions.
	term := int64(2)
	if strings.Contains(said, w.as("Open gull for writes again")) {
		term = 3
	} else if !w.mariadb() {
		t.Errorf("gull was not stopped: the test shows nothing:\n%s", said)
	}
	v := w.settled()
	if v.Primary != w.as("gull") || v.Term != term {
		t.Errorf("primary %s in term %d, want gull in term %d", v.Primary, v.Term, term)
	}
	for _, s := range []string{w.as("gull"), w.as("tern")} {
		for _, x := range v.Find(s).Observation.Links.Slots {
			if s == w.as("tern") {
				t.Errorf("slot %s was left on %s", x.Name, s)
			}
		}
	}
	w.holdsAll(load, nil, "gull", "tern", "heron")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern"})
}

// A living primary whose replicas get nothing from it is stopped, and they turn out to lack
// writes that the plan had not named: everything goes back, by itself, and nothing is lost.
func TestFailoverUndoesItself(t *testing.T) { anEngine(t, true, failoverUndoesItself) }

func failoverUndoesItself(t *testing.T, w *world) {
	load := w.Load(1, 20*time.Millisecond)
	defer load.Stop()
	if err := w.server("gull").Starve(w.ctx); err != nil {
		t.Fatal(err)
	}
	w.await(func(v view.View) bool { return v.AtRisk.Bytes > 0 })
	w.must(4, []string{"failed and undone", "Open gull for writes again"}, "failover", "bookings", "--yes")
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	w.await(func(v view.View) bool { return v.Primary == w.as("gull") && v.CanLose > 0 })
	w.settled()
	load.Stop()
	w.holdsAll(load, nil, "gull", "tern", "heron")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
}

// An agent refuses every act of an older term: a service put back from an
// older copy of its records can do no harm, and learns the newer term.
func TestRecordsPutBack(t *testing.T) { anEngine(t, true, recordsPutBack) }

func recordsPutBack(t *testing.T, w *world) {
	w.StopService()
	if err := w.WaitServiceGone(w.ctx); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(w.Dir, "service")
	old, err := os.ReadFile(filepath.Join(dir, "crosstwin.db"))
	if err != nil {
		t.Fatal(err)
	}
	if err := w.StartService(w.ctx); err != nil {
		t.Fatal(err)
	}
	w.settled()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern"})
	w.StopService()
	if err := w.WaitServiceGone(w.ctx); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"crosstwin.db-wal", "crosstwin.db-shm"} {
		os.Remove(filepath.Join(dir, f))
	}
	if err := os.WriteFile(filepath.Join(dir, "crosstwin.db"), old, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := w.StartService(w.ctx); err != nil {
		t.Fatal(err)
	}
	// The records say gull in term 1; tern owns term 2 and knows it.
	if err := w.Await(w.ctx, func(v view.View) bool { return v.Primary == w.as("tern") && v.Term == 2 }); err != nil {
		t.Fatal(err)
	}
	w.settled()
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "gull"})
}

// The primary is gone for good and the only candidate does not run: it can be
// asked for by name, and is started read-only before it is promoted.
func TestFailoverToAStoppedServer(t *testing.T) { anEngine(t, true, failoverToAStoppedServer) }

func failoverToAStoppedServer(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	load.Stop()
	w.settled()
	demo.StopDatabase(w.server("tern"))
	if err := w.KillAgent(w.as("gull")); err != nil {
		t.Fatal(err)
	}
	demo.KillDatabase(w.server("gull"))
	if err := w.Await(w.ctx, func(v view.View) bool {
		return w.find(v, "gull").Health == view.Unseen && w.find(v, "tern").Health == view.Stopped
	}); err != nil {
		t.Fatal(err)
	}
	w.must(3, []string{"no server of bookings may take over", "--to tern"}, "failover", "bookings", "--confirm-stopped",
		"gull", "--yes")
	w.must(0, []string{"What would be lost is not known", "Start tern read-only", "tern is primary of bookings"},
		"failover", "bookings", "--to", "tern", "--confirm-stopped", "gull", "--yes", "--accept-loss", "bookings")
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "gull").Health == view.Stopped }); err != nil {
		t.Fatal(err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull", Compare: true})
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron")
}

// A candidate that holds less than a replica which may not take over fetches
// the rest from it first: nothing acknowledged is lost.
func TestFailoverFetchesFromAnIneligibleReplica(t *testing.T) {
	anEngine(t, true, failoverFetchesFromAnIneligibleReplica)
}

func failoverFetchesFromAnIneligibleReplica(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	w.settled()
	// tern gets nothing more, heron does.
	w.stopReceiving("tern")
	if err := load.AwaitAcks(w.ctx, 30); err != nil {
		t.Fatal(err)
	}
	load.Stop()
	w.holdsAll(load, nil, "heron")
	demo.KillDatabase(w.server("gull"))
	if missing, err := w.server("tern").Missing(w.ctx, load.Acked()); err != nil || len(missing) == 0 {
		t.Fatalf("tern holds everything: the test shows nothing (%v)", err)
	}
	op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover})
	if op.Plan.Candidate != w.as("tern") {
		t.Fatalf("%s was chosen", op.Plan.Candidate)
	}
	w.holdsAll(load, nil, "tern", "heron")
	if !strings.Contains(op.Plan.Summary, "Nothing is lost") {
		t.Errorf("the plan did not say that nothing is lost: %s", op.Plan.Summary)
	}
}
