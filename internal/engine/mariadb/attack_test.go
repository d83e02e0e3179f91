package mariadb

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/enginetest"
	"crosstwin/test/workdir"
)

// Whoever may make a table plants the client program's own commands in names, values
// and statements: loading a saved tail runs none of it, and loads everything. The file
// is loaded as one would who has not read how.
func TestSavedTailRunsNothing(t *testing.T) {
	t.Parallel()
	_, primary, replica := newPair(t)
	planted := filepath.Join(workdir.New(t, "ctattack"), "planted")
	os.Chmod(filepath.Dir(planted), 0o777)
	run := `\! touch ` + planted
	names := []string{"a\n" + run, "b`\n" + run + "\n--", "c'\n" + run, "d\r\n" + run, "e\\' " + run, "f\";\n" + run,
		"delimiter x\nsystem touch " + planted, "system touch " + planted + "\nx", "g.h\t\v\x01" + run,
		strings.Repeat("l", 30) + "\n" + run[:20]}
	cut := func(s string) string { return name(strings.TrimRight(s[:min(len(s), 60)], " ")) }
	for _, n := range names {
		primary.sql("create database " + cut(n) + "; create table " + cut(n) + "." + cut(n) +
			" (" + cut(n) + " text, n int primary key " +
			"auto_increment)")
	}
	at := primary.Observe(primary.ctx(), false).Log.Written
	for replica.Observe(replica.ctx(), false).Log.Applied != at {
	}
	replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
	for _, n := range names {
		for _, v := range names {
			primary.sql("insert into " + cut(n) + "." + cut(n) + " (" + cut(n) + ") values (" + literal(v) + ")")
		}
	}
	primary.sql("create table d.plant (v text) comment = " + literal("\n"+run+"\n") + "; alter table d.plant comment = " +
		literal("\r\n"+run))
	primary.leave(true)
	replica.ok(replica.Promote(replica.ctx()))
	_, err := replica.Mark(replica.ctx(), "after", 1, "test")
	replica.ok(err)
	x, err := primary.Examine(primary.ctx(), verb.Examine{Primary: replica.peer()})
	primary.ok(err)
	saved, err := primary.Salvage(primary.ctx(), verb.Salvage{Fork: x.Fork, Name: "tail", Primary: replica.peer()},
		filepath.Join(primary.cfg.WorkDir, "salvage"), quiet)
	primary.ok(err)
	f, err := os.Open(saved.Saved)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	load := exec.Command("mariadb", "--no-defaults", "--socket="+replica.cfg.Socket, "--user="+replica.cfg.Superuser)
	load.Stdin = f
	if out, err := load.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	if _, err := os.Stat(planted); err == nil {
		t.Fatal("loading a saved tail ran a program")
	}
	tables, err := replica.query(replica.ctx(),
		"select table_name as t from information_schema.tables where table_schema = ?",
		saved.Into)
	replica.ok(err)
	if len(tables) != len(names) {
		t.Errorf("%d tables were loaded, not %d", len(tables), len(names))
	}
	for _, r := range tables {
		n, err := replica.text(replica.ctx(), "select count(*) from "+name(saved.Into)+"."+name(r["t"]))
		if err != nil || n != strconv.Itoa(len(names)) {
			t.Errorf("%q: %s rows were loaded, not %d: %v", r["t"], n, len(names), err)
		}
	}
}

// The password of the replication account stands in no log of the servers, whatever
// they log: not in the binary, the general and the slow log, nor in the error log.
func TestPasswordIsNowhere(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren, plover := p.create("wren", 11), p.add("plover", 12)
	logged := func(r *rig) {
		r.sql("set global log_output = 'FILE'; set global general_log_file = " + literal(r.Path("general")) +
			"; set global general_log = 1; set global slow_query_log_file = " + literal(r.Path("slow")) +
			"; set global long_query_time = 0; set global slow_query_log = 1")
	}
	logged(wren)
	wren.prepare(verb.Prepare{Account: true})
	p.seed(plover, wren, "")
	logged(plover)
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{}))
	p.follow(plover, wren)
	for _, r := range []*rig{wren, plover} {
		files, err := filepath.Glob(r.Path("*"))
		r.ok(err)
		for _, f := range append(files, r.cfg.LogFile) {
			if filepath.Base(f) == "master.info" {
				continue // the server's own place for it, which only its user can read
			}
			if b, err := os.ReadFile(f); err == nil && strings.Contains(string(b), account.Password) {
				i := strings.Index(string(b), account.Password)
				t.Errorf("%s holds the password: %q", f, b[max(0, i-100):i])
			}
		}
		if b, err := os.ReadFile(r.Path("general")); err != nil || !strings.Contains(string(b), "select") {
			t.Errorf("the log of %s shows nothing: %v", r.cfg.Name, err)
		}
	}
}
