package e2e

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Kin or nothing: a replica that was restarted is no candidate until it is proven
// anew to share the primary's history. The service proves it by itself while the
// primary takes writes. One that comes back after the primary has died is not
// chosen, whatever its number says: a person may choose it by name, and is told
// that what would be lost is not known.
func TestKinOrNothing(t *testing.T) { anEngine(t, true, kinOrNothing) }

func kinOrNothing(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	proven := func(v view.View) bool { s := w.find(v, "tern"); return s.MayTakeOver && s.Health == view.InStep }
	if err := w.Await(w.ctx, proven); err != nil {
		t.Fatal(err)
	}
	before := w.find(w.settled(), "tern").Observation.Process.Identity
	restart := func() {
		demo.KillDatabase(w.server("tern"))
		w.startByHand("tern")
	}
	restart()
	err := w.Await(w.ctx, func(v view.View) bool {
		return proven(v) && w.find(v, "tern").Observation.Process.Identity != before
	})
	if err != nil {
		t.Fatal(err)
	}

	load.Stop()
	w.holdsAll(load, nil, "tern") // what it never got is another matter
	w.crash(load, "gull", false)
	restart()
	err = w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Observation.Process.Accepting && s.Observation.Log.ProvenTerm == 0
	})
	if err != nil {
		t.Fatal(err)
	}
	if v, err := w.Client.Cluster(w.ctx, w.Name); err != nil || w.find(v, "tern").MayTakeOver || v.CanLose != 0 {
		t.Fatalf("%+v %v", v.Servers, err)
	}
	w.must(3, []string{"no server of bookings may take over", "it has not been proven to share gull's history",
		"--to tern"}, "failover", "bookings", "--yes")
	w.must(3, []string{"What would be lost is not known", "--accept-loss bookings"}, "failover", "bookings", "--to",
		"tern", "--yes")
	w.must(0, []string{"tern is primary of bookings"}, "failover", "bookings", "--to", "tern", "--yes", "--accept-loss",
		"bookings")
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull", Compare: true})
	w.settled()
	w.holdsAll(load, nil, "tern", "gull")
}

// A transaction of its own voids a replica's proof, also when its number is the
// one that the primary gives next (MariaDB; PostgreSQL's replicas take none).
func TestErrantTransactionIsNoKin(t *testing.T) {
	t.Parallel()
	w := newWorldOf(t, demo.Cargo, true)
	w.settled()
	w.sql("tern", "create table cargo.errant (n int)")
	w.crash(nil, "gull", false)
	err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Observation.Log.ProvenTerm == 0 && !s.MayTakeOver
	})
	if err != nil {
		t.Fatal(err)
	}
	w.must(3, []string{"no server of bookings may take over"}, "failover", "bookings", "--yes")
}

// A replica that somebody opened in place, on the history that the primary goes on
// writing, streams again afterwards as if nothing had happened: its positions fit,
// and its data does not. It is adrift until it is rebuilt, and never a candidate
// (PostgreSQL; MariaDB's logs are compared by content).
func TestStrayedReplicaIsNoKin(t *testing.T) {
	t.Parallel()
	w := newWorldOf(t, demo.Bookings, true)
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.settled()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	load.Stop() // else its replay may meet a page that lacks a row, and PostgreSQL ends itself
	tern := w.server("tern")
	signal := filepath.Join(tern.DataDir, "standby.signal")
	for !w.now("tern").Observation.Data.Strayed {
		demo.StopDatabase(tern)
		if err := os.Remove(signal); err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Fatal(err)
		}
		w.startByHand("tern") // open, unless its agent was faster and closed it
		time.Sleep(3 * time.Second)
	}
	w.startByHand("tern")
	err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Health == view.Adrift && s.Cause.Code == cause.Strayed && s.Observation.Process.Accepting
	})
	if err != nil {
		t.Fatal(err)
	}
	w.says([]string{"it was open for writes without right", "crosstwin rejoin bookings tern"}, "status", "bookings")
	w.must(3, []string{"tern may not take over"}, "failover", "bookings", "--to", "tern", "--yes", "--accept-loss",
		"bookings")
	w.must(3, []string{"it was open for writes without right"}, "rejoin", "bookings", "tern", "--way", "follow", "--yes")
	op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "tern", Compare: true})
	for _, way := range op.Plan.Ways {
		if way.Chosen != (way.Name == plan.WayRebuild) {
			t.Errorf("%+v", way)
		}
	}
	w.holdsAll(load, nil, "gull", "tern")
	if v := w.settled(); !w.find(v, "tern").MayTakeOver {
		t.Errorf("rebuilt, and still no candidate: %+v", w.find(v, "tern"))
	}
}

// now returns a server as it is judged now.
func (w *world) now(server string) *view.Server {
	w.t.Helper()
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil {
		w.t.Fatal(err)
	}
	return w.find(v, server)
}
