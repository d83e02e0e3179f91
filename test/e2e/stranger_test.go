package e2e

import (
	"path/filepath"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// A server that was open for writes already when it was added is left as it runs, whatever
// its data: a clone that somebody promoted, a replica that was never closed. It is named,
// with what makes it a replica.
func TestOpenBeforeItWasAdded(t *testing.T) { anEngine(t, true, openBefore) }

func openBefore(t *testing.T, w *world) {
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.settled()
	heron := w.server("heron")
	w.must(0, nil, "server", "remove", "bookings", "heron", "--yes")
	if err := w.KillAgent(heron.Name); err != nil {
		t.Fatal(err)
	}
	if w.mariadb() {
		w.sql("gull", "create user mate@'127.0.0.1' identified by 'x'", "grant replication slave on *.* to mate@'127.0.0.1'")
		w.sql("heron", "stop slave", "change master to master_user = 'mate', master_password = 'x'", "start slave",
			"set global read_only = 0")
	} else {
		w.sql("heron", "select pg_promote(true)")
	}
	if !w.mariadb() {
		w.leftAloneWhileStopped(heron)
	}
	began := w.startedAt("heron")
	if err := w.AddMember(w.ctx, heron, false); err != nil {
		t.Fatal(err)
	}
	if err := w.StartAgent(w.ctx, heron.Name); err != nil {
		t.Fatal(err)
	}
	looks := map[time.Time]bool{}
	if err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "heron")
		if s.Health == view.Adrift && s.Cause.Code == cause.OpenBefore && s.Observation.Process.Role == observation.Primary {
			looks[s.Observation.At] = true
		}
		return len(looks) > 5
	}); err != nil {
		v, _ := w.Client.Cluster(w.ctx, w.Name)
		t.Fatalf("%v: %+v", err, w.find(v.WithoutObservations(), "heron"))
	}
	if now := w.startedAt("heron"); now != began {
		t.Fatalf("heron was restarted: %s, %s before", now, began)
	}
	if !w.mariadb() { // nor is it once its owner has restarted it
		demo.StopDatabase(heron)
		time.Sleep(3 * time.Second) // some looks of its agent at a server that is down
		w.startByHand("heron")
		w.staysOpen("heron")
	}
	if w.mariadb() {
		w.says([]string{"set global read_only = 1", "crosstwin adopt bookings"}, "status", "bookings")
		w.must(0, []string{"it is left as it is"}, "adopt", "bookings", "--yes")
		w.sql("heron", "set global read_only = 1")
		w.must(0, []string{"with tern and heron following"}, "adopt", "bookings", "--yes")
	} else {
		w.says([]string{"it took writes of its own already when it was added", "seed bookings heron --replace"}, "status",
			"bookings")
		w.must(3, []string{"heron"}, "rejoin", "bookings", "heron", "--yes")
		w.must(0, []string{"heron follows gull"}, "seed", "bookings", "heron", "--replace", "--yes", "--accept-loss", "heron")
	}
	if !w.mariadb() {
		w.closedAndRejoined(heron)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern", Compare: true})
	load.Stop()
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron")
}

// closedAndRejoined promotes a replica that was taken out, adds it again while it is
// stopped, and does what the page says is to be done for it to follow again.
func (w *world) closedAndRejoined(heron *demo.Server) {
	w.t.Helper()
	w.must(0, nil, "server", "remove", "bookings", "heron", "--yes")
	if err := w.KillAgent("heron"); err != nil {
		w.t.Fatal(err)
	}
	w.sql("heron", "select pg_promote(true)")
	w.addStopped(heron)
	w.must(3, []string{"rejoin"}, "rejoin", "bookings", "heron", "--yes")
	if err := heron.RunAsOwner(w.ctx, "touch", filepath.Join(heron.DataDir, "standby.signal")); err != nil {
		w.t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		return w.find(v, "heron").Cause.Code != cause.OpensByItself
	}); err != nil {
		w.t.Fatal(err)
	}
	w.must(0, []string{"heron follows gull"}, "rejoin", "bookings", "heron", "--yes", "--accept-loss", "heron")
}

// leftAloneWhileStopped adds a promoted clone while it is stopped: whoever starts it finds
// it as it was.
func (w *world) leftAloneWhileStopped(heron *demo.Server) {
	w.t.Helper()
	w.addStopped(heron)
	w.says([]string{"would take writes of its own", "standby.signal"}, "status", "bookings")
	w.startByHand("heron")
	w.staysOpen("heron")
	w.must(0, nil, "server", "remove", "bookings", "heron", "--yes")
	if err := w.KillAgent("heron"); err != nil {
		w.t.Fatal(err)
	}
}

// addStopped stops a server and adds it: its agent leaves it as it is.
func (w *world) addStopped(heron *demo.Server) {
	w.t.Helper()
	demo.StopDatabase(heron)
	if err := w.AddMember(w.ctx, heron, false); err != nil {
		w.t.Fatal(err)
	}
	if err := w.StartAgent(w.ctx, heron.Name); err != nil {
		w.t.Fatal(err)
	}
	looks := map[time.Time]bool{}
	if err := w.Await(w.ctx, func(v view.View) bool {
		if s := w.find(v, "heron"); s.Health == view.Adrift && s.Cause.Code == cause.OpensByItself {
			looks[s.Observation.At] = true
		}
		return len(looks) > 3
	}); err != nil {
		v, _ := w.Client.Cluster(w.ctx, w.Name)
		w.t.Fatalf("%v: %+v", err, w.find(v.WithoutObservations(), "heron"))
	}
}
