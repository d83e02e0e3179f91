package e2e

import (
	"os"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Mode most on five servers: each commit waits for two of four replicas, so that writes go on
// while two are away, and a failover needs the answers of three. "make chaos" runs it.
func TestMostOfFive(t *testing.T) {
	if os.Getenv("CROSSTWIN_EVERY_STEP") == "" {
		t.Skip("part of make chaos")
	}
	t.Parallel()
	w := newWorldOf(t, demo.Bookings, true, func(o *demo.Options) {
		o.Fencing, o.More = true, []string{"petrel", "skua"}
	})
	w.must(0, nil, "server", "set", "bookings", "heron", "--rank", "5")
	w.must(0, nil, "cluster", "set", "bookings", "--fencing", "on")
	w.await(func(v view.View) bool { return v.Permission != nil && len(v.Permission.Set) == 4 })
	load := w.Load(4, 5*time.Millisecond)
	defer load.Stop()
	goesOn := func() {
		t.Helper()
		load.Reset()
		if err := load.AwaitAcks(w.ctx, 40); err != nil {
			t.Fatal(err)
		}
	}
	goesOn()
	w.must(0, []string{"waits until 2 of heron, petrel, skua and tern hold it"}, "cluster", "set", "bookings",
		"--synchronous", "most", "--yes")
	w.safe()
	goesOn()

	wake := w.sleepy("petrel", "skua")
	goesOn()
	wakeThird := w.sleepy("tern")
	w.says([]string{"bookings takes no writes. Primary gull: commits wait for petrel, skua and tern"}, "status",
		"bookings")
	wakeThird()
	goesOn()

	// Two of four cannot tell what was acknowledged; three can.
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "on", "--quiet-seconds", "0", "--rejoin",
		"after saving the tail")
	w.await(func(v view.View) bool {
		return v.Find("petrel").Health == view.Stalled && v.Find("skua").Health == view.Stalled
	})
	demo.KillDatabase(w.server("gull"))
	w.says([]string{"no failover of bookings begins by itself", "it takes an answer of 1 of petrel and skua"}, "status",
		"bookings")
	for _, pid := range processesIn(w.server("skua").DataDir) {
		syscall.Kill(pid, syscall.SIGCONT)
	}
	w.await(func(v view.View) bool {
		return v.Primary != "gull" && v.Find(v.Primary).Health == view.TakesWrites && v.Operation == nil
	})
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
	if err != nil || len(all) != 1 || all[0].Plan.Loss != nil {
		t.Fatalf("%+v %v", all, err)
	}
	goesOn()
	wake()
	w.safe()
	w.must(0, []string{"is primary of bookings"}, "switchover", "bookings", "--to", "gull", "--yes")
	w.safe()
	load.Stop()
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron", "petrel", "skua")
}
