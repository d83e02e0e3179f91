package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// begin begins an operation without waiting for it.
func (w *world) begin(r operation.Request) operation.Operation {
	w.t.Helper()
	r.Server, r.To = w.as(r.Server), w.as(r.To)
	p, err := w.Client.Preview(w.ctx, w.Name, r)
	if err != nil {
		w.t.Fatal(err)
	}
	r.ConfirmName = p.ConfirmName
	op, err := w.Client.BeginUnseen(w.ctx, w.Name, r)
	if err != nil {
		w.t.Fatal(err)
	}
	return op
}

// processes lists the processes that a test accepts by command line and folder.
func processes(accept func(cmdline, cwd string) bool) (out []int) {
	entries, _ := os.ReadDir("/proc")
	for _, d := range entries {
		pid, err := strconv.Atoi(d.Name())
		if err != nil {
			continue
		}
		b, _ := os.ReadFile("/proc/" + d.Name() + "/cmdline")
		cwd, _ := os.Readlink("/proc/" + d.Name() + "/cwd")
		if len(b) > 0 && accept(string(b), cwd) {
			out = append(out, pid)
		}
	}
	return out
}

// processWith finds a process by words in its command line.
func processWith(words ...string) int {
	for _, pid := range processes(func(cmdline, _ string) bool {
		for _, x := range words {
			if !strings.Contains(cmdline, x) {
				return false
			}
		}
		return true
	}) {
		return pid
	}
	return 0
}

// processesIn lists the processes of a database by its data directory.
func processesIn(dir string) []int {
	return processes(func(_, cwd string) bool { return cwd == dir })
}

// databaseProcess finds one process of a server by a word of its title.
func (w *world) databaseProcess(server, word string) int {
	w.t.Helper()
	dir := w.server(server).DataDir
	found := processes(func(cmdline, cwd string) bool { return cwd == dir && strings.Contains(cmdline, word) })
	if len(found) == 0 {
		w.t.Fatalf("no process %s on %s", word, server)
	}
	return found[0]
}

// freezeCopy stops a copy to a directory once it has written something.
func (w *world) freezeCopy(dir string) int {
	w.t.Helper()
	program, first := "pg_basebackup", filepath.Join(dir, "base", "1")
	if w.mariadb() {
		program, first = "mbstream", filepath.Join(dir, "cargo")
	}
	return w.freezeWhen(func() bool { _, err := os.Stat(first); return err == nil }, program, dir)
}

// freezeWhen stops a process as soon as it has come so far.
func (w *world) freezeWhen(so func() bool, words ...string) int {
	w.t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); {
		if pid := processWith(words...); pid != 0 && so() {
			syscall.Kill(pid, syscall.SIGSTOP)
			return pid
		}
	}
	w.t.Fatalf("no process with %v", words)
	return 0
}

// A copy that broke off is recognised and done again; meanwhile the cluster is
// busy, and afterwards data that stands there is not overwritten unasked.
func TestSeedAgain(t *testing.T) { anEngine(t, false, seedAgain) }

func seedAgain(t *testing.T, w *world) {
	tern := w.server("tern")
	op := w.begin(operation.Request{Kind: operation.Seed, Server: "tern"})
	copying := w.freezeCopy(tern.DataDir)

	// Busy: a second operation is refused.
	w.must(3, []string{"operation 1 (seed) is under way", "crosstwin operation cancel 1"}, "seed", "bookings", "heron",
		"--yes")
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, "tern").Health == view.Seeding }); err != nil {
		t.Fatal(err)
	}
	// The agent dies with kill -9, and its copy with it.
	if err := w.KillAgent(w.as("tern")); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); syscall.Kill(copying, 0) == nil; time.Sleep(20 * time.Millisecond) {
		if b, _ := os.ReadFile("/proc/" + itoa(copying) + "/stat"); strings.Contains(string(b), ") Z ") {
			break
		}
		if time.Now().After(end) {
			t.Fatal("the copy outlived its agent")
		}
	}
	if e, _ := os.ReadDir(tern.DataDir); len(e) == 0 {
		t.Fatal("nothing was copied: the test shows nothing")
	}
	if err := w.StartAgent(w.ctx, w.as("tern")); err != nil {
		t.Fatal(err)
	}
	op, err := w.Client.Follow(w.ctx, op.ID, time.Minute, func(operation.Operation) {})
	if err != nil || op.Outcome != operation.OutcomeFinished {
		t.Fatalf("%v %q %s", err, op.Outcome, op.Message)
	}

	// Given up half way: undone, and the next one needs no --replace.
	op = w.begin(operation.Request{Kind: operation.Seed, Server: "heron"})
	w.freezeCopy(w.server("heron").DataDir)
	w.must(0, nil, "operation", "cancel", itoa(int(op.ID)))
	if op, err = w.Client.Follow(w.ctx, op.ID, time.Minute, func(operation.Operation) {}); err != nil ||
		op.Outcome != operation.OutcomeUndone {
		t.Fatalf("%v %q %s", err, op.Outcome, op.Message)
	}
	if !w.mariadb() {
		if got := w.query("gull",
			"select count(*)::text from pg_replication_slots where slot_name = 'ct_heron'"); got != "0" {
			t.Error("the slot of the copy that was given up is still there")
		}
	}
	w.must(0, []string{"it holds an interrupted copy of ours"}, "seed", "bookings", "heron", "--preview")
	w.must(0, []string{"heron follows gull"}, "seed", "bookings", "heron", "--yes", "--compare")

	w.must(3, []string{"data directory is not empty", "--replace"}, "seed", "bookings", "heron", "--yes")
	w.must(0, []string{"This discards", "heron follows gull"}, "seed", "bookings", "heron", "--replace", "--yes",
		"--accept-loss", "heron")
	w.settled()
}

func itoa(n int) string { return strconv.Itoa(n) }

// A disk that fills up while a copy runs: the copy fails, says so, and is
// undone; nothing else is touched.
func TestSeedOnAFullDisk(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("needs root to mount a small file system")
	}
	anEngine(t, false, seedOnAFullDisk)
}

func seedOnAFullDisk(t *testing.T, w *world) {
	small := w.server("tern").DataDir
	if err := os.MkdirAll(small, 0o700); err != nil {
		t.Fatal(err)
	}
	owner, enough := "postgres", "170m"
	if w.mariadb() {
		owner, enough = "mysql", "115m"
	}
	mount := func(size string) {
		t.Helper()
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+size+",mode=0700,uid="+owner+",gid="+owner, "tmpfs",
			small).CombinedOutput(); err != nil {
			t.Skipf("cannot mount: %v %s", err, out)
		}
	}
	unmount := func() { exec.Command("umount", small).Run() }
	t.Cleanup(unmount)

	mount("30m")
	w.must(3, []string{"refused", "the copy takes", "free space on tern"}, "seed", "bookings", "tern", "--yes")
	unmount()

	mount(enough)
	op := w.begin(operation.Request{Kind: operation.Seed, Server: "tern"})
	copying := w.freezeCopy(small)
	fill, err := os.Create(filepath.Join(small, "filler"))
	if err != nil {
		t.Fatal(err)
	}
	chunk := bytes.Repeat([]byte{1}, 1<<20)
	for range 300 {
		if _, err := fill.Write(chunk); err != nil {
			break
		}
	}
	fill.Close()
	syscall.Kill(copying, syscall.SIGCONT)
	op, err = w.Client.Follow(w.ctx, op.ID, time.Minute, func(operation.Operation) {})
	if err != nil || op.Outcome != operation.OutcomeUndone || !strings.Contains(op.Message, "No space left on device") &&
		!strings.Contains(op.Message, "rrcode: 28") {
		t.Fatalf("%v %q %s", err, op.Outcome, op.Message)
	}
	unmount()
	os.Remove(small)
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Seed, Server: "tern"})
}

// A rewind that is killed half way together with its agent: the service asks
// again, the agent knows what broke off, and the server keeps its own settings.
func TestInterruptedRewind(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	gull := w.server("gull")
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	own := "\n# gull's own words\nwork_mem = '7MB'\n"
	conf := filepath.Join(gull.DataDir, "postgresql.conf")
	b, err := os.ReadFile(conf)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(conf, append(b, own...), 0o600); err != nil {
		t.Fatal(err)
	}
	w.settled()
	if err := gull.Starve(w.ctx); err != nil {
		t.Fatal(err)
	}
	w.sql("gull", "update routes set minutes = 901 where id = 1", "update routes set minutes = 902 where id = 2",
		"update routes set minutes = 903 where id = 1",
		"begin; savepoint a; update routes set minutes = 1 where id = 3; rollback to a; update routes set minutes = 904 "+
			"where id = 3; commit")
	was := w.query("tern", "select string_agg(minutes::text, ' ' order by id) from routes where id in (1, 3)")
	w.crash(load, "gull", true)
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover})
	w.sql("tern", "update routes set minutes = 77 where id = 2")
	lost, err := w.server("tern").Missing(w.ctx, load.Acked())
	if err != nil || len(lost) == 0 {
		t.Fatalf("no tail was made: %v", err)
	}
	w.must(0, []string{"committed transactions", "bookings.public.bookings", "bookings.public.sailings",
		"what the tail left is listed once it is saved"}, "tail", "bookings", "gull")
	// Rows are shown as they were at the fork and as the tail left them.
	first, third, _ := strings.Cut(was, " ")
	w.must(0, []string{"tern has changed this row too since the fork", "id=2, ", "minutes=902", "minutes=" + first,
		"after: changed again by transaction",
		"before: what an earlier transaction of this tail left", "minutes=903", "id=3, minutes " + third + " -> 904"}, "tail",
		"bookings", "gull", "--save", filepath.Join(w.Dir, "by-hand.sql"))

	op := w.begin(operation.Request{Kind: operation.Rejoin, Server: "gull"})
	w.freezeWhen(func() bool { return true }, "pg_rewind", gull.DataDir)
	if err := w.KillAgent(w.as("gull")); err != nil {
		t.Fatal(err)
	}
	// Nobody may start what the rewind left.
	if err := w.StartAgent(w.ctx, w.as("gull")); err != nil {
		t.Fatal(err)
	}
	op, err = w.Client.Follow(w.ctx, op.ID, time.Minute, func(operation.Operation) {})
	if err != nil || op.Outcome != operation.OutcomeFinished {
		t.Fatalf("%v %q %s", err, op.Outcome, op.Message)
	}
	again := false
	for _, e := range op.Journal {
		again = again || strings.Contains(e.Text, "the agent was restarted during this step")
	}
	if !again {
		t.Error("the journal does not say that the rewind was asked for again")
	}
	w.settled()
	if got := w.query("gull", "show work_mem"); got != "7MB" {
		t.Errorf("gull lost its own settings over the rewind: work_mem is %s", got)
	}
	if got := w.query("gull", "show port"); got != itoa(gull.Port) {
		t.Errorf("gull's port is %s", got)
	}
	w.holdsAll(load, lost, "gull", "tern", "heron")

	// The salvage can be fetched, and loaded without touching a live table.
	var tail struct{ Saved, Into string }
	if err := json.Unmarshal(op.Facts["tail"], &tail); err != nil {
		t.Fatal(err)
	}
	var saved bytes.Buffer
	if err := w.Client.Salvage(w.ctx, w.Name, "gull", filepath.Base(tail.Saved), &saved); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(w.Dir, "tail.sql")
	if err := os.WriteFile(file, saved.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	before := w.query("tern", "select count(*)::text from bookings")
	if out, err := exec.Command("psql", "-v", "ON_ERROR_STOP=1", "-qf", file,
		w.server("tern").SuperuserURI).CombinedOutput(); err != nil {
		t.Fatalf("the salvage cannot be loaded: %v %s", err, out)
	}
	if got := w.query("tern", `select count(*)::text from `+tail.Into+`."public.bookings" where reference in ('`+
		strings.Join(lost, "','")+`')`); got != itoa(len(lost)) {
		t.Errorf("%s of %d lost bookings were loaded", got, len(lost))
	}
	if got := w.query("tern", "select count(*)::text from bookings where reference = '"+lost[0]+"'"); got != "0" ||
		before == "0" {
		t.Error("loading the salvage touched a live table")
	}
}

// A comparison says that all is well when it is, and names the row when a
// replica holds something else behind replication's back.
func TestCompareFindsAPlantedDifference(t *testing.T) {
	anEngine(t, true, compareFindsAPlantedDifference)
}

func compareFindsAPlantedDifference(t *testing.T, w *world) {
	load := w.Load(2, 0)
	w.settled()
	w.must(0, []string{"finished: all compared tables match on"}, "compare", "bookings", "--yes")
	load.Stop()
	// A row image that is still to be applied would mend what is planted.
	if err := w.Await(w.ctx, func(v view.View) bool {
		s := w.find(v, "heron")
		return s.Health == view.InStep && s.Lag.Known && s.LagBytes == 0
	}); err != nil {
		t.Fatal(err)
	}
	table, word := "cargo.containers", "1 of 4 tables"
	if w.mariadb() {
		w.sql("heron", "set sql_log_bin = 0", "update containers set contents = 'something else' where id = 1471")
	} else {
		table, word = "bookings.public.planted", "1 of 9 tables and sequences"
		w.plantInFile()
	}
	w.settled()
	text := w.must(5, []string{word + " differ from gull", table + " on heron", "1471 changed"}, "compare", "bookings",
		"--yes")
	if strings.Contains(text, table+" on "+w.as("tern")) {
		t.Errorf("tern is said to differ:\n%s", text)
	}
	w.must(0, []string{"finished"}, "seed", "bookings", "heron", "--replace", "--yes", "--accept-loss", "heron",
		"--compare")
}

// plantInFile changes a row of a stopped replica's data behind its back.
func (w *world) plantInFile() {
	w.t.Helper()
	heron := w.server("heron")
	// A row that was only ever inserted: no reader prunes its page, no hint is
	// left to be written on it, so no image of it in the log heals heron's copy
	// later; and heron's next start replays nothing of it.
	w.sql("gull", "create table planted (id int primary key, note text)")
	w.sql("gull", "insert into planted values (1471, 'findme-original')")
	w.sql("gull", "vacuum (freeze) planted")
	path := w.query("gull", "select pg_relation_filepath('planted')")
	written := w.query("gull", "select pg_current_wal_insert_lsn()::text")
	w.sql("heron", "alter system set ignore_checksum_failure = on")
	for end := time.Now().Add(30 * time.Second); w.query("heron",
		"select (redo_lsn > '"+written+
			"')::text from pg_control_checkpoint()") != "true"; time.Sleep(100 * time.Millisecond) {
		w.sql("gull", "checkpoint")
		w.sql("heron", "checkpoint")
		if time.Now().After(end) {
			w.t.Fatal("heron made no restart point after the update")
		}
	}
	demo.StopDatabase(heron)
	file := filepath.Join(heron.DataDir, path)
	b, err := os.ReadFile(file)
	if err != nil {
		w.t.Fatal(err)
	}
	if n := bytes.Count(b, []byte("findme-original")); n == 0 {
		w.t.Fatal("the row is not in the file")
	}
	if err := os.WriteFile(file, bytes.ReplaceAll(b, []byte("findme-original"), []byte("findme-0riginal")),
		0o600); err != nil {
		w.t.Fatal(err)
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "heron"})
}
