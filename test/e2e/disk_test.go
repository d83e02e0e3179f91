package e2e

import (
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/test/workdir"
)

// diskHangs: a disk that hangs leaves connections, questions and agents as they were, and no
// commit comes back. (A MariaDB server that is caught with the lock of its binary log held
// answers no questions of its log either, and is taken for one that hangs.) The primary takes
// no writes, which is said; another server takes over, though the processes that wait for the
// disk cannot end; and when it comes back the old primary does too.
func diskHangs(t *testing.T, w *world) {
	workdir.NeedDisk(t)
	w.fenced()
	disk := w.onItsOwnDisk("gull")
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "on", "--quiet-seconds", "0", "--rejoin",
		"after saving the tail")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	thaw := disk.Freeze()
	w.await(func(v view.View) bool {
		s := w.find(v, "gull")
		return s.Health == view.TakesNoWrite && s.Cause.Code == cause.DiskHangs || v.Primary == w.as("tern")
	})
	w.await(func(v view.View) bool {
		return v.Primary == w.as("tern") && w.find(v, "tern").Health == view.TakesWrites && v.Operation == nil
	})
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
	if err != nil || len(all) != 1 || all[0].Plan.Decided == nil {
		t.Fatalf("no failover that began by itself: %+v %v", all, err)
	}
	switch why := all[0].Plan.Decided.Why.Code; {
	case why == cause.FailoverDisk, why == cause.FailoverHangs && w.mariadb():
	default:
		t.Fatalf("no failover because of the disk: %s", why)
	}
	lost := w.named(load)
	thaw()
	w.fenced() // gull comes back by itself
	load.Stop()
	w.holdsAll(load, lost, "gull", "tern", "heron")
}

// onItsOwnDisk moves a server's data to a file system of its own, at the same place.
func (w *world) onItsOwnDisk(server string) *workdir.Disk {
	w.t.Helper()
	before := w.find(w.settled(), server).Observation.Process.Identity
	demo.StopDatabase(w.server(server))
	if err := w.KillAgent(w.as(server)); err != nil {
		w.t.Fatal(err)
	}
	disk := workdir.NewDisk(w.t, w.server(server).DataDir, "1G")
	w.t.Cleanup(func() { // before the disk goes: whoever works there is known by its directory
		w.KillAgent(w.as(server))
		demo.KillDatabase(w.server(server))
	})
	if err := w.StartAgent(w.ctx, w.as(server)); err != nil {
		w.t.Fatal(err)
	}
	began := time.Now()
	w.await(func(v view.View) bool {
		s := w.find(v, server)
		return s.Health == view.Stopped && s.LastContactSeconds < time.Since(began).Seconds()
	})
	if err := w.server(server).StartByHand(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool {
		s := w.find(v, server)
		return s.Health == view.TakesWrites && s.Observation.Process.Identity != before
	})
	w.fenced()
	return disk
}
