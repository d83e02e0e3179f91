package e2e

import (
	"encoding/json"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Each thing that is wrong on a server is found by the check, with what was
// seen and how to mend it; and put right, the check is content again.
func TestMariaDBChecks(t *testing.T) {
	t.Parallel()
	w := newWorldOf(t, demo.Cargo, true)
	w.settled()
	// Its primary has not been restarted since there are certificates.
	w.must(0, []string{"2 warn, 0 fail", "tern follows gull without insisting on encryption"}, "check", "bookings")
	for _, c := range []struct {
		server     string
		wrong      []string
		code       int
		words      []string
		right      []string
		background string
	}{
		{server: "gull", wrong: []string{"set global binlog_format = 'MIXED'"},
			words: []string{"binlog_format is MIXED on gull", "cannot be undone", "binlog_format = ROW"},
			right: []string{"set global binlog_format = 'ROW'"}},
		{server: "gull", wrong: []string{"set global binlog_row_image = 'MINIMAL'"},
			words: []string{"binlog_row_image is MINIMAL on gull"}, right: []string{"set global binlog_row_image = 'FULL'"}},
		{server: "tern", wrong: []string{"set global sync_binlog = 0", "set global innodb_flush_log_at_trx_commit = 2"},
			code: 3, words: []string{"FAIL", "sync_binlog is 0 on tern", "innodb_flush_log_at_trx_commit is 2 on tern"},
			right: []string{"set global sync_binlog = 1", "set global innodb_flush_log_at_trx_commit = 1"}},
		{server: "tern", wrong: []string{"set global gtid_strict_mode = 0"}, code: 3,
			words: []string{"FAIL", "gtid_strict_mode is OFF on tern"}, right: []string{"set global gtid_strict_mode = 1"}},
		{server: "tern", wrong: []string{"change master 'elsewhere' to master_host = '127.0.0.1', master_port = 1"}, code: 3,
			words: []string{"FAIL", "tern replicates by the named connection elsewhere", "reset slave 'elsewhere' all"},
			right: []string{"reset slave 'elsewhere' all"}},
		{server: "tern", wrong: []string{"set global max_connections = 55"},
			words: []string{"max_connections is 55 on tern, 60 on gull"}, right: []string{"set global max_connections = 60"}},
		{server: "tern", wrong: []string{"set sql_log_bin = 0", "create user only_here@localhost"},
			words: []string{"accounts or passwords differ between tern and gull"},
			right: []string{"set sql_log_bin = 0", "drop user only_here@localhost"}},
		{server: "tern", wrong: []string{"set sql_log_bin = 0", "create event cargo.e on schedule every 1 day do select 1"},
			words: []string{"1 enabled events on tern"}, right: []string{"set sql_log_bin = 0", "drop event cargo.e"}},
		{server: "tern", wrong: []string{"set global rpl_semi_sync_master_enabled = 1"}, code: 3,
			words: []string{"FAIL", "rpl_semi_sync_master_enabled is \"ON\" on tern"},
			right: []string{"set global rpl_semi_sync_master_enabled = 0"}},
		{server: "gull", wrong: []string{"create table cargo.keyless (a int)"},
			words: []string{"1 tables without a primary key on gull"}, right: []string{"drop table cargo.keyless"}},
		{server: "gull", wrong: []string{"create table cargo.old (a int primary key) engine = MyISAM"},
			words: []string{"1 tables of an engine without transactions on gull"}, right: []string{"drop table cargo.old"}},
		{server: "gull", wrong: []string{"create user boss@localhost", "grant all on *.* to boss@localhost"},
			words: []string{"1 accounts beside the administrator's that may write despite read_only on gull",
				"revoke READ ONLY ADMIN"}, right: []string{"drop user boss@localhost"}},
		{server: "gull", background: "select sleep(60)", words: []string{"1 statements at work for more than 5 s on gull"}},
		{server: "tern", wrong: []string{"stop slave", "set global replicate_ignore_db = 'cellar'", "start slave"}, code: 3,
			words: []string{"FAIL", "replicate_ignore_db = cellar"},
			right: []string{"stop slave", "set global replicate_ignore_db = ''", "start slave"}},
		{server: "tern", wrong: []string{"stop slave", "change master to ignore_domain_ids = (7)", "start slave"}, code: 3,
			words: []string{"FAIL", "replicate_ignore_domain_ids = 7"},
			right: []string{"stop slave", "change master to ignore_domain_ids = ()", "start slave"}},
	} {
		stop := func() {}
		if c.background != "" {
			stop = w.inBackground(c.server, c.background)
			time.Sleep(5500 * time.Millisecond) // it counts from 5 s on
		}
		w.sql(c.server, c.wrong...)
		w.must(c.code, c.words, "check", "bookings")
		stop()
		w.sql(c.server, c.right...)
	}
	// What a filter left out is missing also when the filter is gone.
	w.settled()
	w.must(3, []string{"it left writes out while replicate_ignore_db = cellar"}, "switchover", "bookings", "--yes")
	w.must(3, []string{"they are missing still"}, "rejoin", "bookings", "tern", "--way", "follow", "--yes")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "tern"})
	w.settled()
	w.must(0, []string{"2 warn, 0 fail"}, "check", "bookings")
}

// inBackground runs a statement in a session of its own until stopped.
func (w *world) inBackground(server, statement string) (stop func()) {
	w.t.Helper()
	db, err := w.server(server).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	c, err := db.Conn(w.ctx)
	if err != nil {
		w.t.Fatal(err)
	}
	var id string
	if err := c.QueryRowContext(w.ctx, "select connection_id()").Scan(&id); err != nil {
		w.t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.ExecContext(w.ctx, statement)
	}()
	return func() {
		w.sql(server, "kill "+id)
		<-done
		c.Close()
		db.Close()
	}
}

// Scheduled events run where the primary is, and nowhere else, after each
// change of role, also on a server that was copied with its events.
func TestEventsFollowThePrimary(t *testing.T) {
	t.Parallel()
	w := newWorldOf(t, demo.Cargo, true)
	events := func(primary string) {
		t.Helper()
		w.settled()
		for _, s := range w.Servers {
			want := "SLAVESIDE_DISABLED"
			if s.Name == w.as(primary) {
				want = "ENABLED"
			}
			if got := w.query(s.Name,
				"select status from information_schema.events where event_name = 'nightly_sweep'"); got != want {
				t.Errorf("%s is primary: the event is %s on %s, want %s", primary, got, s.Name, want)
			}
		}
		if got := w.query(primary, "select @@global.event_scheduler"); got != "ON" {
			t.Errorf("the scheduler of %s is %s", primary, got)
		}
	}
	events("gull")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
	events("tern")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
	events("gull")
	demo.KillDatabase(w.server("gull"))
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "gull").Health == view.Stopped }); err != nil {
		t.Fatal(err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover})
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull"})
	events("tern")
}

// A dump, asked for on the command line, makes a replica like any other; and
// the way that is not for an engine is refused by name.
func TestSeedByDump(t *testing.T) {
	t.Parallel()
	w := newWorldOf(t, demo.Cargo, false)
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.must(0, []string{"Load a dump of gull", "tern follows gull", "finished"}, "seed", "bookings", "tern", "--way",
		"dump", "--yes", "--compare")
	w.must(2, []string{`no way "stream"`}, "seed", "bookings", "heron", "--way", "stream", "--yes")
	w.must(0, []string{"heron follows gull"}, "seed", "bookings", "heron", "--yes")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
	w.holdsAll(load, nil, "gull", "tern", "heron")
	var v view.View
	out, _, _ := w.run("status", "bookings", "-o", "json")
	if err := json.Unmarshal([]byte(out), &v); err != nil || v.Engine != "mariadb" || v.Servers[1].History != "term 2" {
		t.Errorf("%v %.300s", err, out)
	}
}
