package e2e

import (
	"fmt"
	"strconv"
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
// replicas have received a part; with its file, when that part ends where a log file
// does. Each log file that is full is flushed and sent, also when the record goes on in
// the next.
func (w *world) breakOff(primary string, withFile bool) {
	w.t.Helper()
	w.sql(primary, "checkpoint")
	began := w.query(primary, "select pg_current_wal_flush_lsn()::text")
	db, err := w.server(primary).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _ = db.ExecContext(w.ctx, "select pg_logical_emit_message(false, 'break off', repeat('x', 200000000))")
	}()
	pid := 0
	for pid == 0 {
		select {
		case <-ended:
			w.t.Fatal("the record was complete before anybody looked")
		default:
		}
		pid, _ = strconv.Atoi(w.query(primary, "select coalesce(max(pid), 0)::text from pg_stat_activity "+
			"where state = 'active' and query like '%break off%' and pid <> pg_backend_pid() and "+
			fmt.Sprintf("pg_current_wal_flush_lsn() - '%s'::pg_lsn > 1000", began)))
	}
	// Stopped where the record's first part ends with a log file, if need be.
	for whole, end := false, time.Now().Add(waitLimit); !whole; {
		if time.Now().After(end) {
			w.t.Fatal("the replicas did not receive a part of the record that ends with a log file")
		}
		syscall.Kill(pid, syscall.SIGCONT)
		time.Sleep(3 * time.Millisecond)
		syscall.Kill(pid, syscall.SIGSTOP)
		for sent := ""; ; time.Sleep(100 * time.Millisecond) {
			was := sent
			if sent = w.query("heron", "select pg_last_wal_receive_lsn()::text"); sent == was {
				whole = w.query("heron", fmt.Sprintf("select ('%s'::pg_lsn - '%s' > 1000000 and "+
					"(not %t or ('%s'::pg_lsn - '0/0') %% (16 * 1024 * 1024) = 0))::text", sent, began, withFile, sent)) == "true"
				break
			}
		}
	}
	demo.KillDatabase(w.server(primary))
	<-ended
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, primary).Health == view.Stopped }); err != nil {
		w.t.Fatal(err)
	}
}
