package e2e

import (
	"crypto/tls"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/demo"
)

// A server that left Cross Twin is nobody's to fence or to close: opened by hand it
// goes on, and the primary of a cluster that left takes writes after a restart. What
// Cross Twin made is dropped when that is asked for, where nothing uses it.
func TestLeavingIsClean(t *testing.T) { anEngine(t, true, leavingIsClean) }

func leavingIsClean(t *testing.T, w *world) {
	w.settled()
	said := []string{"heron removed from bookings", "the account crosstwin_follow_heron was dropped"}
	if !w.mariadb() {
		said = append(said, "slot ct_heron on gull was dropped")
	}
	w.must(0, said, "server", "remove", "bookings", "heron", "--yes")
	// It has no way in any more: its link has ended and does not come back.
	links := "select count(*)::text from pg_stat_replication where application_name = 'heron'"
	if w.mariadb() {
		links = "select count(*) from information_schema.processlist where user = 'crosstwin_follow_dunlin' and " +
			"command = 'Binlog Dump'"
	}
	for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if n := w.query("gull", links); n != "0" {
			t.Fatalf("%s links of the removed server", n)
		}
	}
	w.knownNoMore("heron", "tern")
	if w.mariadb() {
		w.sql("heron", "stop slave", "reset slave all", "set global read_only = 0")
	} else {
		w.sql("heron", "select pg_promote(true)")
	}
	w.staysOpen("heron")

	if w.mariadb() {
		w.sql("gull", "create table crosstwin.notes (note text)")
	}
	// One that is down leaves as well. Nobody follows any more then.
	demo.StopDatabase(w.server("tern"))
	said = []string{"tern removed from bookings"}
	if !w.mariadb() {
		said = append(said, "slot ct_tern on gull was dropped")
	}
	w.must(0, said, "server", "remove", "bookings", "tern", "--yes")
	w.must(0, []string{"cluster bookings removed", "gull starts open for writes again",
		"the accounts crosstwin_follow_… were dropped"}, "cluster", "remove", "bookings", "--drop", "--yes")
	left := "select (count(*) + (select count(*) from pg_hba_file_rules where array_to_string(user_name, ' ') like " +
		"'%crosstwin%'))::text from pg_roles where starts_with(rolname, 'crosstwin')"
	if w.mariadb() {
		left = "select (select count(*) from mysql.global_priv where user like 'crosstwin%') + " +
			"(select count(*) from information_schema.tables where table_schema = 'crosstwin' and table_name <> 'notes')"
	}
	if n := w.query("gull", left); n != "0" {
		t.Errorf("%s things of Cross Twin's are left", n)
	}
	if w.mariadb() && w.query("gull", "select count(*) from crosstwin.notes") != "0" {
		t.Error("somebody's own table is gone")
	}
	demo.StopDatabase(w.server("gull"))
	w.startByHand("gull")
	w.staysOpen("gull")
}

// staysOpen holds for some looks of the server's agent, which would end it.
func (w *world) staysOpen(name string) {
	w.t.Helper()
	for end := time.Now().Add(4 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if err := w.tryWrite(w.server(name)); err != nil {
			w.t.Fatalf("%s does not take writes: %v", name, err)
		}
	}
}

// knownNoMore asks an agent with the certificate that a removed server still has, until it is
// one that counts no more: within seconds, and for what needs no permit of the service too.
func (w *world) knownNoMore(removed, asked string) {
	w.t.Helper()
	file := filepath.Join(w.server(removed).AgentDir, "agent.pem")
	pair, err := tls.LoadX509KeyPair(file, file)
	if err != nil {
		w.t.Fatal(err)
	}
	// Whom it asks is not what is tried.
	c := http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{Certificates: []tls.Certificate{pair}, InsecureSkipVerify: true}}}
	said := ""
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		res, err := c.Post("https://"+w.server(asked).AgentAddress+"/agent/v1/peer/pledge", "application/json",
			strings.NewReader("{}"))
		if err != nil {
			w.t.Fatal(err)
		}
		b, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if said = string(b); res.StatusCode == http.StatusForbidden && strings.Contains(said, "is not one that counts") {
			return
		}
	}
	w.t.Errorf("with the certificate of the removed %s: %s", removed, said)
}
