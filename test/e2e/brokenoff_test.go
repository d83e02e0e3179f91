package e2e

import (
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// A crash leaves half a record at the end of the logs of the primary and of its
// replicas. Nobody's write is in it: no disk has lost anything, and no server
// has gone past the fork.
func TestLogBreaksOffInsideARecord(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	w.breakOff("gull", false)
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover, To: "gull"})
	w.settled()

	w.breakOff("gull", true)
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover, To: "tern"})
	if err := w.Await(w.ctx, func(v view.View) bool {
		if s := w.find(v, "heron"); s.Health == view.Adrift {
			w.t.Fatalf("heron: %+v", s.Cause)
		}
		return w.find(v, "heron").Health == view.InStep
	}); err != nil {
		t.Fatal(err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull"})
	w.settled()
}

// breakOff kills a PostgreSQL primary in the middle of a record of which its
// replicas have received a part. That part ends with a log file: each one that is full
// is flushed and sent, also when the record goes on in the next, and nothing else is
// while the log writer stands still. The record can begin with a file too.
func (w *world) breakOff(primary string, beginsWithFile bool) {
	w.t.Helper()
	w.sql(primary, "checkpoint")
	if beginsWithFile {
		w.sql(primary, "select pg_switch_wal()")
	}
	w.stopLogWriter(primary)
	for !w.stoppedInsideARecord(primary) {
		w.t.Log("the record was complete before its writer could be stopped: another one is written")
	}
	demo.KillDatabase(w.server(primary))
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, primary).Health == view.Stopped }); err != nil {
		w.t.Fatal(err)
	}
}

// stopLogWriter stops a primary's log writer while it sleeps: it holds no lock.
func (w *world) stopLogWriter(primary string) {
	w.t.Helper()
	for asleep := false; !asleep; time.Sleep(10 * time.Millisecond) {
		pid := w.query(primary, "select pid::text from pg_stat_activity where backend_type = 'walwriter'")
		signal(w, pid, syscall.SIGSTOP)
		asleep = w.query(primary, "select coalesce(wait_event, '') from pg_stat_activity where pid = "+pid) == "WalWriterMain"
		if !asleep {
			signal(w, pid, syscall.SIGCONT)
		}
	}
}

// recordBytes is the size of the record that is never completed.
const recordBytes = 150_000_000

// stoppedInsideARecord has a large record written, stops its writer, and has the
// replicas receive the part that is on the primary's disk. It is false where that was
// the whole record already.
func (w *world) stoppedInsideARecord(primary string) bool {
	w.t.Helper()
	db, err := w.server(primary).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { db.Close() })
	writer, err := db.Conn(w.ctx)
	if err != nil {
		w.t.Fatal(err)
	}
	var pid, began string
	row := writer.QueryRowContext(w.ctx, "select pg_backend_pid(), pg_current_wal_insert_lsn()::text")
	if err := row.Scan(&pid, &began); err != nil {
		w.t.Fatal(err)
	}
	go func() {
		_, _ = writer.ExecContext(w.ctx, "select pg_logical_emit_message(false, 'break off', repeat('x', $1))", recordBytes)
	}()
	flushed := func() (at string, bytes int) {
		row := db.QueryRowContext(w.ctx, "select f::text, f - $1::pg_lsn from pg_current_wal_flush_lsn() f", began)
		if err := row.Scan(&at, &bytes); err != nil {
			w.t.Fatal(err)
		}
		return at, bytes
	}
	for bytes := 0; bytes < 1000000; _, bytes = flushed() {
	}
	signal(w, pid, syscall.SIGSTOP)
	end, bytes := flushed()
	for was := ""; was != end; time.Sleep(500 * time.Millisecond) {
		was = end
		end, bytes = flushed()
	}
	if bytes >= recordBytes {
		return false
	}
	w.receive(primary, end)
	return true
}

// receive waits until the replicas have received a primary's log up to a position. Its
// log senders are woken: a server process that has filled a file does not do so itself.
func (w *world) receive(primary, position string) {
	w.t.Helper()
	for _, name := range []string{"tern", "heron"} {
		for w.query(name, "select pg_last_wal_receive_lsn()::text") != position {
			senders := w.query(primary, "select string_agg(pid::text, ' ') from pg_stat_replication")
			for _, pid := range strings.Fields(senders) {
				signal(w, pid, syscall.SIGUSR1)
			}
		}
	}
}

// signal sends a signal to a server process of a test.
func signal(w *world, pid string, s syscall.Signal) {
	w.t.Helper()
	n, err := strconv.Atoi(pid)
	if err == nil {
		err = syscall.Kill(n, s)
	}
	if err != nil {
		w.t.Fatalf("process %s: %v", pid, err)
	}
}
