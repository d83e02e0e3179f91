package e2e

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// A pair that runs already, and that no Cross Twin ever knew, is taken over as it
// runs: nothing is copied or restarted, and its replicas are proven by themselves.
func TestRunningPairIsTakenOver(t *testing.T) { engines(t, true, runningPair) }

func runningPair(t *testing.T, w *world) {
	load := w.Load(2, 20*time.Millisecond)
	defer load.Stop()
	w.settled()
	for _, s := range w.Servers {
		if err := w.KillAgent(s.Name); err != nil {
			t.Fatal(err)
		}
		if err := os.RemoveAll(s.AgentDir); err != nil {
			t.Fatal(err)
		}
	}
	w.must(0, nil, "cluster", "remove", "bookings", "--yes")
	w.asByAnAdministrator()
	before := map[string]string{}
	for _, s := range w.Servers {
		before[s.Name] = w.startedAt(s.Name)
	}
	w.Adopted = true
	if err := w.AddMembers(w.ctx); err != nil {
		t.Fatal(err)
	}
	if err := w.StartAgents(w.ctx); err != nil {
		t.Fatal(err)
	}
	if err := w.Await(w.ctx, func(v view.View) bool {
		return w.find(v, "tern").Health == view.InStep && w.find(v, "heron").Health == view.InStep &&
			w.find(v, "gull").Observation != nil
	}); err != nil {
		v, _ := w.Client.Cluster(w.ctx, w.Name)
		t.Fatalf("%v\n%+v\n%+v", err, v.Problems, v.WithoutObservations().Servers)
	}
	if v, err := w.Client.Cluster(w.ctx, w.Name); err != nil || w.find(v, "heron").Follows != w.as("tern") {
		t.Fatalf("heron follows %s: %v", w.find(v, "heron").Follows, err)
	}
	links := w.query("gull", w.linksQuery())
	w.must(3, []string{"gull runs as primary", "crosstwin adopt bookings"}, "adopt", "bookings", "--primary", "tern",
		"--yes")
	out := w.must(0, []string{"Take over gull as primary of bookings, with tern and heron following, as they run.",
		"is primary of bookings in term", "nobody has decided yet: crosstwin cluster set bookings --fencing on, or off"},
		"adopt", "bookings", "--yes")
	if by := strings.Contains(out, "by file and position"); by != w.mariadb() {
		t.Errorf("says of file and position: %t\n%s", by, out)
	}
	if now := w.query("gull", w.linksQuery()); now != links && !w.mariadb() {
		t.Errorf("the replicas' links were changed: %s, %s", links, now)
	}
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil || v.Primary != w.as("gull") || !w.find(v, "tern").MayTakeOver {
		t.Errorf("after the adoption: %s %+v", v.Sentence, w.find(v, "tern").Unfit)
	}
	w.must(2, []string{"--fencing is on or off"}, "adopt", "bookings", "--fencing", "maybe", "--yes")
	w.must(0, []string{"is primary of bookings in term", "Fencing is off."}, "adopt", "bookings", "--fencing", "off",
		"--yes") // once more changes nothing but the answer
	if v, err := w.Client.Cluster(w.ctx, w.Name); err != nil || v.Policy.FencingOpen || v.Policy.Fencing {
		t.Errorf("somebody has answered, and it is open still: %+v %v", v.Policy, err)
	}
	for _, s := range w.Servers {
		if now := w.startedAt(s.Name); now != before[s.Name] {
			t.Errorf("%s was restarted: %s, %s", s.Name, before[s.Name], now)
		}
	}
	if v, err = w.Client.Cluster(w.ctx, w.Name); err != nil || w.find(v, "heron").Follows != w.as("tern") {
		t.Errorf("after the adoption heron follows %s: %v", w.find(v, "heron").Follows, err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: "tern", Compare: true})
	load.Stop()
	w.settled()
	w.holdsAll(load, nil, "gull", "tern", "heron")
}

// asByAnAdministrator has the replicas follow as an administrator sets that up, one behind
// the other: by an account of their own, with names of their own; MariaDB's by file and
// position.
func (w *world) asByAnAdministrator() {
	w.t.Helper()
	replicas := []string{"tern", "heron"}
	upstream := map[string]string{"tern": "gull", "heron": "tern"}
	if w.mariadb() {
		w.sql("gull", "drop database crosstwin", "drop user crosstwin_follow_plover@'127.0.0.1', "+
			"crosstwin_follow_dunlin@'127.0.0.1'", "create user mate@'127.0.0.1' identified by 'x'",
			"grant replication slave on *.* to mate@'127.0.0.1'")
		for _, n := range replicas {
			up := w.server(upstream[n])
			w.sql(n, "stop slave")
			at := w.query(n, "select @@gtid_slave_pos")
			if upstream[n] != "gull" && w.query(upstream[n], "select master_gtid_wait('"+at+"', 60)") != "0" {
				w.t.Fatalf("%s did not come to %s, where %s stands", upstream[n], at, n)
			}
			w.sql(n, fmt.Sprintf("change master to master_host = '127.0.0.1', master_port = %d, master_user = 'mate', "+
				"master_password = 'x', master_connect_retry = 1, master_use_gtid = slave_pos", up.Port), "start slave")
			w.connected(n)
			w.sql(n, "stop slave", "change master to master_use_gtid = no", "start slave")
			w.connected(n)
		}
		return
	}
	w.sql("gull", "create role mate login replication")
	for _, n := range []string{"gull", "tern"} {
		hba := filepath.Join(w.server(n).DataDir, "pg_hba.conf")
		rules, err := os.ReadFile(hba)
		if err == nil {
			err = os.WriteFile(hba, append([]byte("host replication mate 127.0.0.1/32 trust\n"), rules...), 0o600)
		}
		if err != nil {
			w.t.Fatal(err)
		}
		w.sql(n, "select pg_reload_conf()")
	}
	for _, n := range replicas {
		w.sql(upstream[n], "select pg_create_physical_replication_slot('mates_"+n+"', true)")
		w.sql(n, fmt.Sprintf("alter system set primary_conninfo = 'host=127.0.0.1 port=%d user=mate "+
			"application_name=mates_%s'", w.server(upstream[n]).Port, n), "alter system set primary_slot_name = 'mates_"+n+"'",
			"select pg_reload_conf()")
	}
	w.sql("gull", "select pg_drop_replication_slot(slot_name) from pg_replication_slots where not active and slot_name "+
		"like 'ct%'")
}

// connected waits until a MariaDB replica knows a file of its upstream's and a place
// in it. The state of its receiver does not say it: that is "waiting" a moment
// before the first event, which names the file.
func (w *world) connected(server string) {
	w.t.Helper()
	db, err := w.server(server).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	var seen map[string]string
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		seen = w.show(db, "show slave status")
		if seen["Slave_IO_Running"] == "Yes" && seen["Relay_Master_Log_File"] != "" &&
			seen["Relay_Master_Log_File"] == seen["Master_Log_File"] {
			return
		}
	}
	w.t.Fatalf("%s does not follow: %v", server, seen)
}

// show gives the first row of a SHOW statement, by column.
func (w *world) show(db *sql.DB, statement string) map[string]string {
	w.t.Helper()
	rows, err := db.QueryContext(w.ctx, statement)
	if err != nil {
		w.t.Fatal(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil || !rows.Next() {
		w.t.Fatalf("%s: no row: %v %v", statement, err, rows.Err())
	}
	values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	if err := rows.Scan(into...); err != nil {
		w.t.Fatal(err)
	}
	row := map[string]string{}
	for i, c := range columns {
		row[c] = values[i].String
	}
	return row
}

// linksQuery gives all links of a primary, with account and name.
func (w *world) linksQuery() string {
	if w.mariadb() {
		return "select group_concat(user order by user) from information_schema.processlist where command like 'Binlog Dump%'"
	}
	return "select string_agg(usename || ' ' || application_name || ' ' || pid, ', ' order by pid) from " +
		"pg_stat_replication"
}

// startedAt tells which process a database is, and since when.
func (w *world) startedAt(server string) string {
	if w.mariadb() {
		pid, err := os.ReadFile(w.query(server, "select @@pid_file"))
		if err != nil || len(pid) == 0 {
			w.t.Fatalf("%s's process: %v", server, err)
		}
		return string(pid)
	}
	return w.query(server, "select pg_postmaster_start_time()::text")
}
