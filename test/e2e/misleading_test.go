package e2e

import (
	"database/sql"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/internal/service"
)

// inside tells that the test runs in a network of its own.
const inside = "CROSSTWIN_TEST_NETWORK"

// A cut network, of which neither end is told: both go on calling the link
// alive. The test runs itself again in a network namespace of its own, where it
// drops all that goes to the primary's port.
func TestCutNetwork(t *testing.T) {
	if os.Getenv(inside) == "" {
		t.Parallel()
		if os.Geteuid() != 0 {
			t.Skip("a network of its own needs root")
		}
		c := exec.Command("unshare", "--net", "--", "sh", "-c",
			`ip link set lo up && exec "$0" -test.run '^TestCutNetwork$' -test.v -test.parallel 1 -test.timeout 8m`, os.Args[0])
		c.Env = append(os.Environ(), inside+"=1")
		out, err := c.CombinedOutput()
		if err != nil || !strings.Contains(string(out), "--- PASS: TestCutNetwork/") {
			t.Fatalf("in a network of its own: %v\n%s", err, out)
		}
		return
	}
	anEngine(t, true, cutNetwork)
}

func (w *world) nft(rules string) {
	w.t.Helper()
	if out, err := exec.Command("nft", rules).CombinedOutput(); err != nil {
		w.t.Fatalf("nft %s: %v %s", rules, err, out)
	}
}

func cutNetwork(t *testing.T, w *world) {
	w.settled()
	w.must(0, nil, "cluster", "set", "bookings", "--stalled-seconds", "3")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	time.Sleep(2 * time.Second)
	table := "ct_" + w.Name
	w.nft("add table ip " + table)
	w.nft("add chain ip " + table + " out { type filter hook output priority 0; }")
	port := w.server("gull").Port
	for _, side := range []string{"dport", "sport"} {
		w.nft(fmt.Sprintf("add rule ip %s out tcp %s %d drop", table, side, port))
	}
	// The workload writes over TCP as well: it is cut off too, so somebody at the
	// primary itself goes on writing.
	stop := make(chan bool)
	var writing sync.WaitGroup
	writing.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(200 * time.Millisecond):
				w.writeLocally("gull")
			}
		}
	})
	err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Health == view.Stalled && s.Cause.Code == cause.NothingArrives
	})
	if err != nil {
		v, _ := w.Client.Cluster(w.ctx, w.Name)
		t.Fatalf("%v\n%+v", err, w.find(v, "tern"))
	}
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil {
		t.Fatal(err)
	}
	if s := w.find(v, "tern"); !s.Observation.Links.Upstream.Connected || s.Stages.Worst() != "sent" &&
		s.Stages.Worst() != "received" || v.AtRisk.Bytes == 0 {
		t.Errorf("the server itself says connected: %t; the bytes wait at %q; at risk %d",
			s.Observation.Links.Upstream.Connected, s.Stages.Worst(), v.AtRisk.Bytes)
	}
	w.says([]string{"tern is stalled: its link to gull is open, but nothing has arrived for"}, "status", "bookings")
	w.nft("delete table ip " + table)
	w.settled()
	close(stop)
	writing.Wait()
}

// writeLocally writes at the primary itself, over its socket.
func (w *world) writeLocally(server string) {
	s := w.server(server)
	if w.mariadb() {
		if db, err := s.Open(); err == nil {
			db.ExecContext(w.ctx, "insert into cargo.ports (id, name) values (1000 + floor(rand() * 1e9), 'by hand')")
			db.Close()
		}
		return
	}
	s.RunAsOwner(w.ctx, "psql", "-h", s.SocketDir, "-p", fmt.Sprint(s.Port), "-U", "postgres", "-d", "bookings", "-qc",
		"select pg_logical_emit_message(true, 'test', repeat('x', 2000))")
}

// A long transaction, a query that replay waits for, and a delay on purpose:
// cases in which the servers' own columns say nothing, or something else.
func TestMisleadingCases(t *testing.T) { anEngine(t, true, misleadingCases) }

func misleadingCases(t *testing.T, w *world) {
	w.settled()
	w.must(0, nil, "cluster", "set", "bookings", "--behind-seconds", "1")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.clockThatDiffers("heron")

	// Open for seconds, and nothing is behind: what is not committed is no lag.
	db, err := w.server("gull").Open()
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	tx, err := db.BeginTx(w.ctx, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(w.longChange()); err != nil {
		t.Fatal(err)
	}
	time.Sleep(3 * time.Second)
	if v, err := w.Client.Cluster(w.ctx, w.Name); err != nil || w.find(v, "tern").Health != view.InStep {
		t.Errorf("during a long transaction: %v %+v", err, w.find(v, "tern").Diagnosis)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
	w.settled()

	// A query on the replica holds what replay needs: the diagnosis names it.
	reader, err := w.server("tern").Open()
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Close()
	query, err := reader.BeginTx(w.ctx, nil)
	if err != nil {
		t.Fatal(err)
	}
	held, change := w.conflict()
	var n int
	if err := query.QueryRow(held).Scan(&n); err != nil {
		t.Fatal(err)
	}
	w.sql("gull", change)
	err = w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "tern")
		return s.Health != view.InStep && strings.Contains(s.Diagnosis, "replay waits for a ")
	})
	if err != nil {
		v, _ := w.Client.Cluster(w.ctx, w.Name)
		s := w.find(v, "tern")
		t.Fatalf("%v: %s, %s, it waits for %q", err, s.Health, s.Diagnosis, s.Observation.Replay.Wait)
	}
	query.Rollback()
	w.settled()

	// Held back on purpose is in step, and said so; past its delay it is not.
	w.must(0, []string{"finished"}, "tune", "bookings", "heron", "delay", "4", "--yes")
	if err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "heron")
		return s.Health == view.InStep &&
			s.Lag.Seconds > 2
	}); err != nil {
		t.Fatal(err)
	}
	w.says([]string{"heron: it is delayed by 4.0 s, as configured"}, "status", "bookings")
	w.must(3, []string{"delay is 4 now"}, "tune", "bookings", "heron", "delay", "4", "--yes")
	w.must(0, []string{"Have heron follow tern.", "what tern has not received, heron cannot have"}, "follow", "bookings",
		"heron", "tern", "--preview")
	w.must(0, []string{"finished"}, "follow", "bookings", "heron", "tern", "--yes")
	if err := w.Await(w.ctx, func(v view.View) bool {
		return w.find(v, "heron").Follows == w.as("tern") && w.find(v, "heron").Health == view.InStep
	}); err != nil {
		t.Fatal(err)
	}
	w.must(0, []string{"finished"}, "switchover", "bookings", "--yes")
	v := w.settled()
	if v.Primary != w.as("tern") || w.find(v, "heron").Follows != w.as("tern") {
		t.Errorf("after the switchover %s follows %s", w.as("heron"), w.find(v, "heron").Follows)
	}
	w.must(0, []string{"finished"}, "tune", "bookings", "heron", "delay", "0", "--yes")
	w.must(2, []string{`"fsync" is not a setting that is changed here`}, "tune", "bookings", "heron", "fsync", "off",
		"--yes")
	w.settled()
	setting, value := "hot_standby_feedback", "on"
	if w.mariadb() {
		setting, value = "slave_parallel_threads", "2"
	}
	w.must(0, []string{"gull, tern and heron agree in all"}, "drift", "bookings")
	w.must(0, []string{"finished"}, "tune", "bookings", "heron", setting, value, "--yes")
	w.must(0, []string{"differ in 1 of", setting}, "drift", "bookings")
}

// A real server whose clock is a minute and a half ahead: its own columns call it
// far behind, or ahead; the lag is measured by one clock, and the clock is named.
func (w *world) clockThatDiffers(server string) {
	w.t.Helper()
	s := w.server(server)
	restart := func(env ...string) {
		demo.KillDatabase(s)
		if err := s.StartByHand(w.ctx, env...); err != nil {
			w.t.Fatal(err)
		}
	}
	library := filepath.Join(w.Dir, "clock.so")
	if out, err := exec.Command("cc", "-shared", "-fPIC", "-o", library, "testdata/clock.c").CombinedOutput(); err != nil {
		w.t.Fatalf("%v: %s", err, out)
	}
	restart("LD_PRELOAD="+library, "CLOCK_AHEAD=90")
	var last view.Server
	err := w.Await(w.ctx, func(v view.View) bool {
		last = *w.find(v, server)
		return last.ClockSkew > 85 && last.ClockSkew < 95 && last.Health == view.InStep && last.Lag.Seconds < 5
	})
	if err != nil {
		w.t.Fatalf("%v: the clock of %s is %g s ahead, %s, %+v", err, server, last.ClockSkew,
			last.Health+": "+view.Health(last.Why), last.Lag)
	}
	if !w.mariadb() {
		if own := w.query(server, "select (now() - pg_last_xact_replay_timestamp() > '80 s')::text"); own != "true" {
			w.t.Errorf("the server's own column does not mislead: %s", own)
		}
	}
	w.says([]string{"the clock of " + server + " is 1 min 30 s ahead of the service's"}, "status", "bookings")
	restart()
	if err := w.Await(w.ctx, func(v view.View) bool {
		x := w.find(v, server)
		return x.ClockSkew == 0 && x.Health == view.InStep
	}); err != nil {
		w.t.Fatal(err)
	}
}

// longChange is a statement that changes many rows.
func (w *world) longChange() string {
	if w.mariadb() {
		return "insert into cargo.ports (id, name) select id + 1000000, 'long' from cargo.containers limit 5000"
	}
	return "select pg_logical_emit_message(true, 'test', repeat('x', 10000)) from generate_series(1, 500)"
}

// conflict returns a query that a replica's reader keeps open, and a change on
// the primary that cannot be replayed meanwhile.
func (w *world) conflict() (held, change string) {
	if w.mariadb() {
		return "select count(*) from cargo.ports", "alter table cargo.ports comment = 'ports of call'"
	}
	return "select count(*) from public.routes", "alter table public.routes add column if not exists note text"
}

// A query on a replica that replay cancels is counted under its cause, and the
// setting that moves the trade is changed as an operation.
func TestConflictsAreCounted(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	w.settled()
	w.must(0, []string{"Replay has cancelled no query on bookings.", "tern lets replay wait up to 30s"}, "conflicts",
		"bookings")
	w.must(0, []string{"finished"}, "tune", "bookings", "tern", "max_standby_streaming_delay", "0", "--yes")
	db, err := w.server("tern").Open()
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	tx, err := db.BeginTx(w.ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		t.Fatal(err)
	}
	var n int
	if err := tx.QueryRow("select count(*) from passengers").Scan(&n); err != nil {
		t.Fatal(err)
	}
	w.sql("gull", "insert into passengers (name, email) select 'x', 'x' from generate_series(1, 2000)",
		"delete from passengers where name = 'x'", "vacuum passengers")
	cancelled := false
	for end := time.Now().Add(30 * time.Second); !cancelled && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		cancelled = tx.QueryRow("select count(*) from passengers").Scan(&n) != nil
	}
	if !cancelled {
		t.Fatal("the query was not cancelled: the case shows nothing")
	}
	tx.Rollback()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		x, err := w.Client.Conflicts(w.ctx, "bookings")
		if err != nil {
			t.Fatal(err)
		}
		if len(x.Servers) == 2 && x.Servers[0].Server == "tern" && x.Servers[0].Causes["snapshot"] >= 1 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%+v", x)
		}
	}
	w.must(0, []string{"Replay has cancelled ", "tern cancels a query at once",
		"cancelled queries missed rows that vacuum removed"}, "conflicts", "bookings")
	w.must(0, []string{"queries cancelled"}, "lag", "bookings", "--metric", "conflicts_total", "--since", "1m")
}

// Alerts: raised once a problem lasts, told to a web address that is tried
// again until it answers, acknowledged by somebody, kept over a restart of the
// service, and over when the problem is.
func TestAlerts(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	w.settled()
	var mu sync.Mutex
	var got []string
	refuse := true
	secret := ""
	hook := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if refuse {
			refuse = false
			rw.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		body := make([]byte, r.ContentLength)
		r.Body.Read(body)
		if r.Header.Get("Crosstwin-Signature") != service.Signature(secret, r.Header.Get("Crosstwin-Time"), string(body)) {
			got = append(got, "FORGED")
		}
		got = append(got, string(body))
	}))
	defer hook.Close()
	m, err := w.Client.AddChannel(w.ctx, "pager", hook.URL)
	if err != nil {
		t.Fatal(err)
	}
	mu.Lock()
	secret = m.Secret
	mu.Unlock()
	heard := func(words ...string) {
		t.Helper()
		for end := time.Now().Add(90 * time.Second); ; time.Sleep(100 * time.Millisecond) {
			mu.Lock()
			all := strings.Join(got, "\n")
			mu.Unlock()
			missing := ""
			for _, x := range words {
				if !strings.Contains(all, x) {
					missing = x
				}
			}
			if missing == "" && !strings.Contains(all, "FORGED") {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("the web address has not heard %q:\n%s", missing, all)
			}
		}
	}
	w.sql("tern", "select pg_wal_replay_pause()")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	heard(`"event":"raised"`, `"rule":"stalled"`, `"server":"tern"`, "replay is paused")
	w.must(0, []string{"1 alert is open.", "tern is stalled"}, "alert", "list")
	list, err := w.Client.Alerts(w.ctx, "bookings", true, 10)
	if err != nil || len(list) != 1 {
		t.Fatalf("%v %v", list, err)
	}
	id := fmt.Sprint(list[0].ID)
	w.must(0, []string{"acknowledged by first"}, "alert", "acknowledge", id, "--note", "looking at it")
	w.must(2, []string{"there is no alert"}, "alert", "acknowledge", "4711")
	w.restartService()
	w.must(0, []string{"1 alert is open.", "looking at it"}, "alert", "list", "--open")
	w.sql("tern", "select pg_wal_replay_resume()")
	heard(`"event":"over"`)
	w.says([]string{"No alert is open."}, "alert", "list")
	w.must(0, []string{"the test message arrived"}, "alert", "channel", "test", "pager")
	hook.Close()
	w.must(3, []string{"did not arrive at pager"}, "alert", "channel", "test", "pager")
	w.must(0, []string{"tern is stalled"}, "lag", "bookings", "--since", "10m")
	table := w.must(0, []string{"time,server,lag_seconds"}, "lag", "bookings", "--since", "10m", "--csv", "-")
	if strings.Count(table, "tern") < 20 {
		t.Errorf("the table has few lines:\n%s", table)
	}
}

// Reading and trimming a log: what a replica or an absent server needs stays.
func TestLogs(t *testing.T) { anEngine(t, true, logs) }

func logs(t *testing.T, w *world) {
	w.settled()
	load := w.Load(1, 30*time.Millisecond)
	if err := load.AwaitAcks(w.ctx, 20); err != nil {
		t.Fatal(err)
	}
	load.Stop()
	at := w.query("gull", w.positionQuery())
	w.sql("gull", w.marked())
	page := w.must(0, []string{"1 inserted", "committed", w.markedTable()}, "log", "read", "bookings", "--from", at,
		"--table", w.markedTable())
	if strings.Count(page, "committed") != 1 {
		t.Errorf("other transactions are shown as well:\n%s", page)
	}
	w.must(0, []string{"No transaction fits."}, "log", "read", "bookings", "--table", "no_such_table")
	w.must(0, []string{"it is being written", "Nothing is known to be filling this server's log disk"}, "log", "list",
		"bookings")
	if !w.mariadb() {
		w.must(2, []string{"PostgreSQL removes log by itself"}, "log", "trim", "bookings", "--older", "1h", "--yes")
		w.must(0, []string{"wal_keep_size keeps", "finished"}, "log", "trim", "bookings", "--yes")
		return
	}
	w.must(0, []string{"id=78, name='read me'"}, "log", "read", "bookings", "--from", at)
	w.sql("gull", "set session binlog_format = statement", "insert into cargo.ports values (79, left(uuid(), 10))")
	w.must(0, []string{"unsafe to replay: it calls uuid()"}, "log", "read", "bookings", "--from", at)
	files := func() []string {
		l, err := w.Client.Logs(w.ctx, w.Name, "")
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, f := range l.Files {
			names = append(names, f.Name)
		}
		return names
	}
	for range 3 {
		w.sql("gull", "flush binary logs")
	}
	// heron is away: the files of the time since are needed, whatever is asked.
	w.sql("heron", "stop slave")
	w.sql("gull", "insert into cargo.ports values (80, 'away')", "flush binary logs", "flush binary logs")
	// The watching is up to a second behind: tern counts until it is seen past them.
	w.awaitKeptFor("heron")
	before := files()
	w.must(0, []string{"is still needed by heron"}, "log", "trim", "bookings", "--to", before[len(before)-1], "--yes")
	after := files()
	if len(after) >= len(before) || len(after) < 2 {
		t.Errorf("of %v were kept %v", before, after)
	}
	w.must(2, []string{"there is no log file"}, "log", "trim", "bookings", "--to", "nonsense", "--yes")
	w.sql("heron", "start slave")
	w.settled()
	w.must(0, []string{"finished"}, "log", "trim", "bookings", "--yes")
	if left := files(); len(left) != 1 {
		t.Errorf("with all in step %v are kept", left)
	}
	w.settled()
}

// awaitKeptFor waits until the newest closed file of the primary's log is kept
// for one server alone.
func (w *world) awaitKeptFor(server string) {
	w.t.Helper()
	var last apitype.Logs
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		var err error
		if last, err = w.Client.Logs(w.ctx, w.Name, ""); err != nil {
			w.t.Fatal(err)
		}
		if n := len(last.Files); n > 1 && slices.Equal(last.Files[n-2].NeededBy, []string{w.as(server)}) {
			return
		}
	}
	w.t.Fatalf("the log is not kept for %s alone: %+v", w.as(server), last.Files)
}

func (w *world) positionQuery() string {
	if w.mariadb() {
		return "select @@gtid_binlog_pos"
	}
	return "select pg_current_wal_lsn()::text"
}

func (w *world) marked() string {
	if w.mariadb() {
		return "insert into cargo.ports values (78, 'read me')"
	}
	return "insert into public.routes select max(id) + 1, 'Skerry', 'Holm', 40 from public.routes"
}

func (w *world) markedTable() string {
	if w.mariadb() {
		return "cargo.ports"
	}
	return "public.routes"
}
