package e2e

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/authority"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Replicas follow encrypted and have their upstream prove itself, from the seed on and
// through every role change. A MariaDB primary can take it up at its next start only: a
// switchover and "encrypt" see to that without an outage, and no write is lost.
func TestEncryptedThroughout(t *testing.T) { anEngine(t, true, encryptedThroughout) }

func encryptedThroughout(t *testing.T, w *world) {
	load := w.Load(2, 50*time.Millisecond)
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
	w.exchangeAuthority()
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

// exchangeAuthority has the authority exchanged while the clients go on writing and the
// replicas following. Afterwards nothing of the former one is left anywhere.
func (w *world) exchangeAuthority() {
	w.t.Helper()
	now := func() authority.State {
		s, err := w.Client.Authority(w.ctx)
		if err != nil {
			w.t.Fatal(err)
		}
		return s
	}
	until := func(what string, so func(authority.State) bool) {
		w.t.Helper()
		for end := time.Now().Add(waitLimit); !so(now()); time.Sleep(200 * time.Millisecond) {
			if time.Now().After(end) {
				w.t.Fatalf("%s: never seen; it is %+v", what, now())
			}
		}
	}
	former := now()
	backends := ""
	if !w.mariadb() {
		backends = w.query("gull", "select string_agg(pid::text, ' ' order by pid) from pg_stat_replication")
	}
	if err := w.KillAgent(w.as("heron")); err != nil {
		w.t.Fatal(err)
	}
	until("the silent agent", func(s authority.State) bool { return !s.Complete() })
	w.must(3, []string{"heron of bookings has to be told", "cannot be reached"}, "authority", "rotate", "--yes")
	if err := w.StartAgent(w.ctx, w.as("heron")); err != nil {
		w.t.Fatal(err)
	}
	until("all agents", authority.State.Complete)
	w.must(2, []string{"every agent is told to trust the new authority", "add --yes"}, "authority", "rotate")
	w.must(0, []string{"the exchange has begun"}, "authority", "rotate", "--yes")
	if w.mariadb() {
		w.restartService() // it goes on by itself
	}
	until("another authority", func(s authority.State) bool {
		return s.Stage == "" && s.Complete() && s.Fingerprint != former.Fingerprint
	})
	s := now()
	if strings.Contains(s.Certificates, former.Certificates) || strings.Count(s.Certificates, "BEGIN") != 1 {
		w.t.Errorf("these are trusted: %s", s.Certificates)
	}
	for _, m := range w.settled().Servers {
		o := m.Observation
		if o.CertificateBy != s.Fingerprint || o.Encryption.CertificateBy != s.Fingerprint {
			w.t.Errorf("%s has certificates by %q and %q, not by %q", m.Name, o.CertificateBy, o.Encryption.CertificateBy,
				s.Fingerprint)
		}
	}
	w.must(0, []string{s.Fingerprint, "No exchange is under way."}, "authority", "show")
	if !w.mariadb() {
		got := w.query("gull", "select string_agg(pid::text, ' ' order by pid) from pg_stat_replication")
		if got != backends {
			w.t.Errorf("the replicas were connected by %s, and are by %s", backends, got)
		}
	}
	// Who connects anew meets the new certificate, and takes it.
	if w.mariadb() {
		w.sql("tern", "stop slave", "start slave")
	} else {
		w.sql("tern", "select pg_terminate_backend(pid) from pg_stat_wal_receiver")
	}
	w.encrypted("tern", "heron")
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
