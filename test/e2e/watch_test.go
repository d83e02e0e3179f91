package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"os/user"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/client"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// What the screen says must be right where the server's own columns mislead:
// an idle primary, a paused replay, a stopped receiver, a stopped replica, an
// agent that is gone.
func TestStatusSaysWhatIs(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	w.settled()
	// Idle: the server's own column grows; here it is in step, for ever.
	time.Sleep(3 * time.Second)
	if own := w.query("tern",
		"select (now() - pg_last_xact_replay_timestamp() > interval '1 second')::text"); own != "true" {
		t.Log("the server's own lag did not grow: the test shows less than it should")
	}
	w.settled()
	// The server's own vacuum may write after a seed: what counts is that it is nothing then.
	if err := w.Await(w.ctx, func(v view.View) bool {
		return !slices.ContainsFunc([]string{"tern", "heron"}, func(n string) bool {
			s := v.Find(n)
			return s.Lag.Seconds != 0 || s.LagBytes != 0 || s.Health != view.InStep
		})
	}); err != nil {
		t.Fatalf("idle: %v", err)
	}
	w.says([]string{"tern and heron are in step", "It can lose 1 more server", "Nothing at risk"}, "status", "bookings")

	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	expect := func(what string, ok func(v view.View) bool, words ...string) {
		t.Helper()
		if err := w.Await(w.ctx, ok); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		w.says(words, "status", "bookings")
	}
	// Replay paused: bytes arrive and are not applied; nothing is at risk.
	w.sql("tern", "select pg_wal_replay_pause()")
	expect("paused", func(v view.View) bool {
		s := v.Find("tern")
		return s.Health == view.Stalled && s.Stages.Worst() == "applied" && s.Lag.Seconds > 1 && v.AtRisk.Bytes < 100_000
	}, "tern is stalled", "replay is paused: ", "wait on its disk", "pg_wal_replay_resume()")
	w.must(3, []string{"tern may not take over: it is stalled: replay is paused on it"}, "switchover", "bookings", "--to",
		"tern", "--yes")
	w.sql("tern", "select pg_wal_replay_resume()")
	w.settled()

	// A receiver that hangs: both sides go on saying "streaming".
	pid := w.databaseProcess("tern", "walreceiver")
	syscall.Kill(pid, syscall.SIGSTOP)
	expect("receiver hangs", func(v view.View) bool {
		s := v.Find("tern")
		return s.Health == view.Behind && s.Lag.Seconds > 3 && s.Stages.NotReceived+s.Stages.NotSafe+s.Stages.NotSent > 0 &&
			v.AtRisk.Bytes > 0
	}, "bookings takes writes on gull; tern is", " behind.", "At risk:")
	if got := w.query("gull",
		"select state from pg_stat_replication where application_name = 'tern'"); got != "streaming" {
		t.Errorf("the server says %s: the case does not mislead", got)
	}
	syscall.Kill(pid, syscall.SIGCONT)
	w.settled()

	// A candidate stopped: nobody else may take over.
	demo.StopDatabase(w.Server("tern"))
	expect("stopped", func(v view.View) bool { return v.Find("tern").Health == view.Stopped && v.CanLose == 0 },
		"tern is stopped", "stopped cleanly", "It cannot lose another server", "crosstwin rejoin bookings tern")
	w.must(0, []string{"tern follows gull"}, "rejoin", "bookings", "tern", "--yes", "--accept-loss", "tern")
	w.settled()

	// An agent gone: its server is unseen, with the reason and the address.
	if err := w.KillAgent("heron"); err != nil {
		t.Fatal(err)
	}
	expect("unseen", func(v view.View) bool { return v.Find("heron").Health == view.Unseen }, "heron is unseen",
		"connection refused", w.Server("heron").AgentAddress)
	if err := w.StartAgent(w.ctx, "heron"); err != nil {
		t.Fatal(err)
	}
	w.settled()

	// Somebody else's slot is not ours to judge; one of ours without a server is.
	w.sql("gull", "select pg_create_physical_replication_slot('ct_puffin', true)")
	expect("slot", func(v view.View) bool { return len(v.Problems) > 0 },
		"slot ct_puffin on gull belongs to no server of bookings")
	w.sql("gull", "select pg_drop_replication_slot('ct_puffin')")
}

// The stream of events: a view of every cluster each second, resumable after
// the service was restarted (then with a reset), and watch shows it.
func TestEventsAndWatch(t *testing.T) {
	t.Parallel()
	w := newWorld(t, false)
	enough := errors.New("enough")
	listen := func(after int64, n int) (events []client.Event) {
		t.Helper()
		ctx, cancel := context.WithTimeout(w.ctx, 30*time.Second)
		defer cancel()
		err := w.Client.Events(ctx, url.Values{"cluster": {w.Name}}, after, func(e client.Event) error {
			if events = append(events, e); len(events) == n {
				return enough
			}
			return nil
		})
		if !errors.Is(err, enough) {
			t.Fatalf("%d events, then %v", len(events), err)
		}
		return events
	}
	first := listen(0, 3)
	if first[0].Kind != "hello" || first[1].Kind != "cluster" {
		t.Errorf("%s, %s", first[0].Kind, first[1].Kind)
	}
	var v view.View
	if err := json.Unmarshal(first[2].Data, &v); err != nil || v.Primary != "gull" || v.Servers[0].Observation != nil {
		t.Errorf("%+v %v", v, err)
	}
	time.Sleep(2500 * time.Millisecond)
	again := listen(first[2].ID, 2)
	if again[0].ID <= first[2].ID || again[0].Kind != "cluster" {
		t.Errorf("resumed with %+v after %d", again[0], first[2].ID)
	}
	w.restartService()
	if after := listen(again[1].ID, 1); after[0].Kind != "reset" || after[0].ID <= again[1].ID {
		t.Errorf("after a restart: %+v", after[0])
	}
	// watch prints a view each second until it is interrupted.
	ctx, cancel := context.WithTimeout(w.ctx, 4*time.Second)
	defer cancel()
	short := &world{w.Cluster, t, ctx, w.names}
	out, _, _ := short.run("watch", "bookings")
	if n := strings.Count(out, "gull     primary"); n < 2 {
		t.Errorf("watch printed %d views:\n%s", n, out)
	}
	w.must(2, []string{`there is no cluster "post"`}, "watch", "post")
}

// The same on MariaDB: its own columns say 0 or nothing; here a stopped
// receiver, a stopped applier, an error with its number, a delay and a local
// write show as what they are, with what to do.
func TestMariaDBStatusSaysWhatIs(t *testing.T) {
	t.Parallel()
	w := newWorldOf(t, demo.Cargo, true)
	w.settled()
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	expect := func(what string, ok func(s *view.Server, v view.View) bool, words ...string) {
		t.Helper()
		if err := w.Await(w.ctx, func(v view.View) bool { return ok(w.find(v, "tern"), v) }); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		w.says(words, "status", "bookings")
	}
	stalled := func(s *view.Server, _ view.View) bool { return s.Health == view.Stalled }

	w.sql("tern", "stop slave io_thread")
	expect("receiver stopped", func(s *view.Server, v view.View) bool {
		return s.Health == view.Stalled && s.Lag.Seconds > 1 && s.Stages.Worst() == "sent" && s.LagBytes > 0 &&
			v.AtRisk.Bytes > 0
	}, "tern is stalled", "the receiver is stopped", "At risk:", "crosstwin rejoin bookings tern")
	w.must(0, []string{"tern follows gull"}, "rejoin", "bookings", "tern", "--yes", "--accept-loss", "tern")
	w.settled()

	w.sql("tern", "stop slave sql_thread")
	expect("applier stopped", func(s *view.Server, v view.View) bool {
		return s.Health == view.Stalled && s.Stages.Worst() == "applied" && v.AtRisk.Bytes < 100_000
	}, "replay is paused: ", "wait on its disk", "resume replay on tern: start slave sql_thread")
	w.sql("tern", "start slave sql_thread")
	w.settled()

	w.sql("tern", "stop slave", "change master to master_delay = 2", "start slave")
	expect("delayed", func(s *view.Server, _ view.View) bool { return s.Health == view.InStep && s.Lag.Seconds > 1 },
		"delayed by 2.0 s")
	w.sql("tern", "stop slave", "change master to master_delay = 0", "start slave")
	w.settled()

	// A row is missing on the replica: the server's own number and words.
	w.sql("tern", "set sql_log_bin = 0", "delete from cargo.ports where id = 4 and 1 = 0",
		"insert into cargo.ports values (77, 'only here')")
	w.sql("gull", "insert into cargo.ports values (77, 'everywhere')")
	expect("error", stalled, "applying stopped: error 1062", "Duplicate entry '77'", "--way rebuild")
	w.must(3, []string{"tern may not take over: it is stalled"}, "switchover", "bookings", "--to", "tern", "--yes")
	w.must(0, []string{"tern follows gull"}, "rejoin", "bookings", "tern", "--way", "rebuild", "--yes", "--accept-loss",
		"tern")
	w.settled()

	// A write of its own: adrift, although the server itself says nothing.
	w.sql("tern", "insert into cargo.ports values (88, 'by hand')")
	expect("local write", func(s *view.Server, _ view.View) bool { return s.Health == view.Adrift }, "tern is adrift",
		"it holds transactions up to 1-12-")
	w.must(0, []string{"1 inserts", "id=88, name='by hand'"}, "tail", "bookings", "tern")
	operator := w.token("operate")
	preview := operator.get("POST", "/clusters/cargo/plan", `{"kind":"rejoin","server":"plover"}`)
	if !strings.Contains(preview, "1-12-") || strings.Contains(preview, "by hand") {
		t.Errorf("a token without read-data is shown:\n%s", preview)
	}
	refused := operator.refused("POST", "/clusters/cargo/operations",
		`{"kind":"rejoin","server":"plover","plan":"another"}`)
	if !strings.Contains(refused, "1-12-") || strings.Contains(refused, "by hand") {
		t.Errorf("a token without read-data is shown:\n%s", refused)
	}
	w.must(0, []string{"tern follows gull", "Undo what tern wrote"}, "rejoin", "bookings", "tern", "--yes",
		"--accept-loss", "tern")
	for _, path := range []string{"/operations", "/operations?kind=rejoin&limit=1"} {
		if list := operator.get("GET", path, ""); !strings.Contains(list, "rejoin") || strings.Contains(list, "by hand") {
			t.Errorf("a token without read-data is shown:\n%s", list)
		}
	}
	ops, err := w.Client.Operations(w.ctx, w.as("bookings"), "", "rejoin", 1)
	if err != nil || len(ops) != 1 {
		t.Fatal(err)
	}
	if op := operator.get("GET", "/operations/"+itoa(int(ops[0].ID)), ""); strings.Contains(op, "by hand") {
		t.Errorf("a token without read-data is shown:\n%s", op)
	}
	w.settled()
	if n := w.query("tern", "select count(*) from cargo.ports where id = 88"); n != "0" {
		t.Error("the row is still there")
	}
}

// A database that does not let its agent in goes on for everybody else: what it
// does is not known, and that is no reason to make another server primary.
func TestAgentNotLetIn(t *testing.T) { anEngine(t, false, agentNotLetIn) }

func agentNotLetIn(t *testing.T, w *world) {
	lock, unlock := "alter role postgres nologin", "alter role postgres login"
	if w.mariadb() {
		u, err := user.Current()
		if err != nil {
			t.Fatal(err)
		}
		lock, unlock = "alter user '"+u.Username+"'@localhost account lock",
			"alter user '"+u.Username+"'@localhost account unlock"
	}
	db, err := w.server("gull").Open()
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	c, err := db.Conn(w.ctx) // it stays, to undo this
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.ExecContext(w.ctx, lock); err != nil {
		t.Fatal(err)
	}
	if err := w.KillAgent(w.as("gull")); err != nil {
		t.Fatal(err)
	}
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "gull")
		return s.Health == view.Unseen && s.Cause.Code == cause.NotLetIn && s.LastContactSeconds < 2
	}); err != nil {
		t.Fatal(err)
	}
	said := w.says([]string{"Whether bookings takes writes is not known", "may not log in",
		"let the agent's account log in"}, "status", "bookings")
	if strings.Contains(said, "failover") {
		t.Errorf("a failover is advised:\n%s", said)
	}
	if _, err := c.ExecContext(w.ctx, unlock); err != nil {
		t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "gull").Health == view.TakesWrites }); err != nil {
		t.Fatal(err)
	}
}

// A primary whose commits hang takes no writes, though the server itself answers
// and calls itself writable; another primary would not be the remedy.
func TestCommitsThatHang(t *testing.T) { anEngine(t, true, commitsThatHang) }

func commitsThatHang(t *testing.T, w *world) {
	w.settled()
	hang, release, setting := []string{"alter system set synchronous_standby_names = 'nobody'", "select pg_reload_conf()"},
		[]string{"alter system reset synchronous_standby_names", "select pg_reload_conf()"}, "synchronous_standby_names"
	if w.mariadb() {
		hang, release, setting = []string{"set global rpl_semi_sync_master_timeout = 600000",
			"set global rpl_semi_sync_master_enabled = 1"}, []string{"set global rpl_semi_sync_master_enabled = 0"},
			"rpl_semi_sync_master_enabled"
	}
	w.sql("gull", hang...)
	if w.mariadb() {
		w.sql("tern", "stop slave io_thread")
		w.sql("heron", "stop slave io_thread")
	}
	db, err := w.server("gull").Open()
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	done := make(chan error, 1)
	go func() {
		_, err := db.ExecContext(w.ctx, "create table hung (a int primary key)")
		done <- err
	}()
	err = w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "gull")
		return s.Health == view.TakesNoWrite && s.Cause.Code == cause.CommitsWait
	})
	if err != nil {
		t.Fatal(err)
	}
	said := w.says([]string{"bookings takes no writes. Primary gull: a commit has been waiting for",
		"change " + setting + " there"}, "status", "bookings")
	if strings.Contains(said, "crosstwin failover") {
		t.Errorf("a failover is advised:\n%s", said)
	}
	w.sql("gull", release...)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if w.mariadb() {
		w.sql("tern", "start slave io_thread")
		w.sql("heron", "start slave io_thread")
	}
	w.settled()

	// Who leaves is told what stays, and a name that comes back begins anew.
	removed := []string{"heron removed from bookings", "Undone", "the account crosstwin_follow_heron was dropped"}
	if !w.mariadb() {
		removed = append(removed, "slot ct_heron on gull was dropped")
	}
	w.must(0, removed, "server", "remove", "bookings", "heron", "--yes")
	said = w.must(0, []string{"cluster bookings removed", "gull starts open for writes again"},
		"cluster", "remove", "bookings", "--yes")
	if !w.mariadb() && !strings.Contains(said, "slot ct_tern on gull keeps log for tern, which reads through it now") {
		t.Errorf("the slot that stays is not named:\n%s", said)
	}
}
