package e2e

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Replicas follow encrypted and have their upstream prove itself, from the seed on and
// through every role change. A MariaDB primary can take it up at its next start only: a
// switchover and "encrypt" see to that without an outage, and no write is lost.
func TestEncryptedThroughout(t *testing.T) { engines(t, true, encryptedThroughout) }

func encryptedThroughout(t *testing.T, w *world) {
	load := w.Load(2, 10*time.Millisecond)
	defer load.Stop()
	w.settled()
	if w.mariadb() {
		w.must(0, []string{"tern follows gull without insisting on encryption", "Fix: crosstwin encrypt bookings"}, "check",
			"bookings")
		w.must(0, []string{"crosstwin switchover bookings, then crosstwin encrypt bookings"}, "encrypt", "bookings",
			"--preview")
		w.must(0, []string{"finished"}, "switchover", "bookings", "--to", "tern", "--yes")
		w.must(0, []string{"Stop gull cleanly", "by encrypted connections only", "follow encrypted"}, "encrypt", "bookings",
			"--yes")
		w.must(0, []string{"finished"}, "switchover", "bookings", "--to", "gull", "--yes")
	}
	w.encrypted("tern", "heron")
	w.must(3, []string{"every replica follows encrypted already"}, "encrypt", "bookings", "--yes")
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	load.Stop()
	w.settled() // what a crash takes along is not the question here
	demo.KillDatabase(w.server("gull"))
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "gull").Health != view.TakesWrites }); err != nil {
		t.Fatal(err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover, To: "tern",
		ConfirmName: w.as("bookings")})
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "gull"})
	w.settled()
	w.encrypted("gull", "heron")
	w.holdsAll(load, nil, "gull", "tern", "heron")
	if out := w.must(0, nil, "check", "bookings"); strings.Contains(out, "without insisting") {
		t.Error(out)
	}
}

// encrypted holds when the servers follow by links that are encrypted and proven; the
// primary sees it too, where it tells.
func (w *world) encrypted(names ...string) {
	w.t.Helper()
	v := w.settled()
	for _, n := range names {
		if p := w.find(v, n).Observation.Links.Upstream.Proof; p != observation.ProofAuthority {
			w.t.Errorf("the link of %s: %s", n, p)
		}
	}
	if w.mariadb() {
		return // it does not tell how others are connected
	}
	got := w.query(v.Primary, "select count(*)::text from pg_stat_replication join pg_stat_ssl using (pid) where ssl")
	if got != "2" {
		w.t.Errorf("%s encrypted links of 2 on %s", got, v.Primary)
	}
}
