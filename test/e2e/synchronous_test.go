package e2e

import (
	"fmt"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// synchronousMode: commits wait for a replica from one moment on, also over changes of the
// primary, and nothing is called safe that is not. A failover begins only when nothing that was
// acknowledged can be missing.
func synchronousMode(t *testing.T, w *world) {
	w.fenced()
	w.must(0, nil, "server", "set", "bookings", "heron", "--rank", "3")
	w.await(func(v view.View) bool { return v.Permission != nil && len(v.Permission.Set) == 2 })
	load := w.Load(2, 5*time.Millisecond)
	defer load.Stop()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	w.modes(load)
	w.releasedByHand(load)
	w.waitsAndSaysSo(load)
	w.must(0, []string{"tern is primary of bookings", "Have commits on tern wait for 1 of"}, "switchover",
		"bookings", "--to", "tern", "--yes")
	w.safe()
	w.goesOnAlone(load)
	w.failsOverCovered(load)
	w.lastOne(load)
	load.Stop()
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron")
}

// safe waits until every acknowledged write is on a second server, and all is well.
func (w *world) safe() {
	w.t.Helper()
	w.await(func(v view.View) bool {
		well := v.Synchronous != nil && v.Synchronous.Safe && v.Operation == nil
		for _, s := range v.Servers {
			well = well && (s.Name == v.Primary && s.Health == view.TakesWrites || s.Health == view.InStep)
		}
		return well
	})
}

// modes switches the mode on, over and off under load: no write fails, and each change says what
// a commit costs.
func (w *world) modes(load *demo.Workload) {
	t := w.t
	t.Helper()
	w.must(2, []string{"a synchronous mode is none, one or most"}, "cluster", "set", "bookings", "--synchronous", "two")
	w.must(2, []string{"shows its plan first"}, "cluster", "set", "bookings", "--synchronous", "one", "--fencing", "on")
	w.must(2, []string{"for the modes one and most"}, "cluster", "set", "bookings", "--away", "10s")
	w.must(2, []string{"2 s at least"}, "cluster", "set", "bookings", "--synchronous", "one", "--away", "1s")
	for _, c := range []struct{ mode, says string }{
		{"one", "each commit of bookings waits until 1 of heron and tern holds it; a small commit takes"},
		{"most", "each commit of bookings waits until 1 of heron and tern holds it; a small commit takes"},
		{"none", "commits of bookings wait for nobody; a small commit takes"},
		{"one", "each commit of bookings waits until 1 of heron and tern holds it; a small commit takes"},
	} {
		w.must(0, []string{c.says}, "cluster", "set", "bookings", "--synchronous", c.mode, "--yes")
		if err := load.AwaitAcks(w.ctx, 20); err != nil {
			t.Fatal(err)
		}
	}
	w.must(3, []string{"the mode is one"}, "cluster", "set", "bookings", "--synchronous", "one", "--yes")
	if n := load.Failed(); n != 0 {
		t.Errorf("%d writes failed while the mode was changed", n)
	}
	w.safe()
	w.must(0, []string{"Synchronous: each commit on gull waits until 1 of heron and tern holds it"}, "status", "bookings")
	w.must(0, []string{"synchronous mode one"}, "cluster", "show", "bookings")
	w.must(2, []string{"commits of bookings wait for replicas"}, "cluster", "remove", "bookings", "--yes")
}

// sleepy freezes the databases of some servers until it is told to wake them.
func (w *world) sleepy(servers ...string) (wake func()) {
	w.t.Helper()
	var frozen []int
	for _, s := range servers {
		for _, pid := range processesIn(w.server(s).DataDir) {
			syscall.Kill(pid, syscall.SIGSTOP)
			frozen = append(frozen, pid)
		}
	}
	return func() {
		for _, pid := range frozen {
			syscall.Kill(pid, syscall.SIGCONT)
		}
	}
}

// waitsAndSaysSo: with both replicas frozen the primary takes no writes, and that is said with
// whom its commits wait for. A commit whose wait is cancelled is acknowledged alone: that is
// counted, and nothing is called safe until a replica holds it.
func (w *world) waitsAndSaysSo(load *demo.Workload) {
	w.t.Helper()
	wake := w.sleepy("tern", "heron")
	defer wake()
	w.says([]string{"bookings takes no writes. Primary gull: commits wait for heron and tern",
		"bring heron and tern back"}, "status", "bookings")
	acked := len(load.Acked())
	w.cancelledWait()
	w.await(func(v view.View) bool { return v.Synchronous.Alone > 0 && !v.Synchronous.Safe })
	w.says([]string{"acknowledged without a replica on gull", "too few of heron and tern hold them yet"}, "status",
		"bookings")
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil || v.Find(v.Primary).Health != view.TakesNoWrite {
		w.t.Errorf("%s %v: its commits still wait", v.Sentence, err)
	}
	if n := len(load.Acked()) - acked; n > 1 { // the one whose wait was cancelled
		w.t.Errorf("%d writes were acknowledged while no replica had them", n)
	}
	wake()
	w.safe()
	w.must(0, []string{"replicas hold them by now"}, "status", "bookings")
}

// cancelledWait cancels the wait of a commit that waits for the replicas.
func (w *world) cancelledWait() {
	w.t.Helper()
	waits, end := "select coalesce(max(pid), 0) from pg_stat_activity where wait_event = 'SyncRep'",
		"select pg_cancel_backend(%s)"
	if w.mariadb() {
		waits, end = "select coalesce(max(id), 0) from information_schema.processlist "+
			"where state = 'Waiting for semi-sync ACK from slave'", "kill query %s"
	}
	for ; ; time.Sleep(20 * time.Millisecond) {
		if id := w.query("gull", waits); id != "0" {
			w.sql("gull", fmt.Sprintf(end, id))
			return
		}
		if w.ctx.Err() != nil {
			w.t.Fatal("no commit waits")
		}
	}
}

// releasedByHand: who lets writes go on by hand is not fought, nothing is promised from then on,
// and a plan sets it right.
func (w *world) releasedByHand(load *demo.Workload) {
	w.t.Helper()
	if w.mariadb() {
		w.sql("gull", "set global rpl_semi_sync_master_enabled = 0")
	} else {
		w.sql("gull", "alter system set synchronous_standby_names = ''", "select pg_reload_conf()")
	}
	w.says([]string{"Commits on gull wait for nobody: that was set by hand"}, "status", "bookings")
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil || v.Synchronous.Safe {
		w.t.Errorf("%+v %v", v.Synchronous, err)
	}
	w.must(0, []string{"List set by hand"}, "cluster", "set", "bookings", "--synchronous", "one", "--yes")
	w.safe()
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
}

// goesOnAlone: where the policy says so, writes go on without replicas that are away for too
// long, at a risk that is told, and wait for them again by themselves once they are back.
func (w *world) goesOnAlone(load *demo.Workload) {
	w.t.Helper()
	w.must(0, []string{"commits go on alone when replicas are away for 3.0 s"}, "cluster", "set", "bookings", "--away",
		"3s",
		"--yes")
	wake := w.sleepy("gull", "heron")
	defer wake()
	w.says([]string{"Commits on tern go on without a replica", "at risk"}, "status", "bookings")
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	wake()
	w.safe()
	w.must(0, nil, "cluster", "set", "bookings", "--away", "wait", "--yes")
	w.safe()
}

// failsOverCovered: while one of two replicas does not answer, a write may be on that one alone,
// and no failover begins; it does when it answers, and loses nothing.
func (w *world) failsOverCovered(load *demo.Workload) {
	w.t.Helper()
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "on", "--quiet-seconds", "0", "--rejoin",
		"after saving the tail")
	wake := w.sleepy("heron")
	defer wake()
	w.await(func(v view.View) bool { return w.find(v, "heron").Health == view.Stalled })
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	demo.KillDatabase(w.server("tern"))
	w.says([]string{"no failover of bookings begins by itself", "it takes an answer of heron"}, "status", "bookings")
	wake()
	w.await(func(v view.View) bool {
		return v.Primary != w.as("tern") && v.Find(v.Primary).Health == view.TakesWrites && v.Operation == nil
	})
	all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
	if err != nil || len(all) != 1 || all[0].Plan.Loss != nil || !all[0].Plan.Covered && all[0].Plan.Examination == nil {
		w.t.Fatalf("%+v %v", all, err)
	}
	w.safe()
}

// lastOne: two primaries die one after the other, and nobody is left to acknowledge. The last one
// takes no writes; a server that is brought back lets them go on.
func (w *world) lastOne(load *demo.Workload) {
	w.t.Helper()
	w.must(0, nil, "cluster", "set", "bookings", "--automatic", "off", "--rejoin", "never")
	w.run("switchover", "bookings", "--to", "gull", "--yes") // if it is not gull already
	w.await(func(v view.View) bool { return v.Primary == w.as("gull") && v.Operation == nil })
	w.safe()
	for _, x := range [][2]string{{"gull", "tern"}, {"tern", "heron"}} {
		demo.KillDatabase(w.server(x[0]))
		w.await(func(v view.View) bool { return w.find(v, x[0]).Health != view.TakesWrites })
		w.run("failover", "bookings", "--to", x[1], "--yes", "--accept-loss", "bookings")
		w.await(func(v view.View) bool { return v.Primary == w.as(x[1]) && v.Operation == nil })
	}
	w.says([]string{"bookings takes no writes. Primary heron: commits wait for"}, "status", "bookings")
	// What was never acknowledged may be on its disk: a tail, which is saved and taken back.
	w.must(0, []string{"gull follows heron"}, "rejoin", "bookings", "gull", "--yes", "--accept-loss", "gull")
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		w.t.Fatal(err)
	}
	w.must(0, []string{"tern follows heron"}, "rejoin", "bookings", "tern", "--yes", "--accept-loss", "tern")
	w.safe()
}
