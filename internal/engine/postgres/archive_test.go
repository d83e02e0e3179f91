package postgres

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// Log of its own that a server has removed comes back from its archive for a rewind; without
// an archive the rewind fails and changes nothing. An examination reads the tail from there.
func TestRewindReadsTheArchive(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int)", "insert into t values (1)")
	r := replicaOf(t, p)
	p.sql("checkpoint", "select pg_switch_wal()", "insert into t values (0)")
	r.caughtUp(p)
	fork := r.Observe(r.ctx(), false).Log.Applied
	archive := filepath.Join(r.cfg.WorkDir, "archive")
	if err := r.AsOwner(func() error { return os.Mkdir(archive, 0o700) }); err != nil {
		t.Fatal(err)
	}
	old := func() []string { l, _ := filepath.Glob(r.Path("pg_wal", "00000001*")); return l }
	if len(old()) < 2 {
		t.Fatalf("the last checkpoint is in the file of the fork: the test shows nothing: %q", old())
	}
	r.utility("/bin/cp", append(old(), archive)...)
	if err := r.Promote(r.ctx()); err != nil {
		t.Fatal(err)
	}
	r.sql("insert into t values (100)", "insert into t values (101)")
	p.sql("insert into t values (2)", "checkpoint")
	if err := r.Fence(r.ctx(), true); err != nil {
		t.Fatal(err)
	}
	for _, f := range old() {
		os.Remove(f)
	}
	source := verb.Peer{Name: "gull", Host: p.cfg.Host, Port: p.cfg.Port}
	line := p.Observe(p.ctx(), false).Log.Line
	r.peers["gull"] = p.Engine
	examine := func() *verb.Examination {
		written := p.Observe(p.ctx(), false).Log.Written
		x, err := r.Examine(r.ctx(), verb.Examine{Line: line, Written: written, Primary: source})
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	if x := examine(); x.Rewindable || !strings.Contains(x.WhyNot, "no restore_command brings it back") {
		t.Errorf("without an archive: %t %s", x.Rewindable, x.WhyNot)
	}
	rewind := func() error {
		return r.Rewind(r.ctx(), verb.Rewind{Source: source, Fork: fork, Line: line}, func(string, int64, int64) {})
	}
	if err := rewind(); err == nil || r.memory.Unfinished() != "" {
		t.Fatalf("without the log: %v, unfinished %q", err, r.memory.Unfinished())
	}
	auto, err := os.ReadFile(r.Path(autoFile))
	if err == nil {
		err = r.WriteOwned(r.Path(autoFile), []byte(string(auto)+fmt.Sprintf("restore_command = 'cp %s/%%f %%p'\n", archive)))
	}
	// What others wrote on its timeline, past its own end, is not fetched.
	newest, _ := filepath.Glob(r.Path("pg_wal", "00000002????????????????"))
	const beyond = position.LSN(0xF000000)
	r.utility("/bin/cp", newest[len(newest)-1], filepath.Join(archive, position.SegmentName(2, beyond, r.segmentBytes())))
	for to, want := range map[position.LSN]int{0: 0, beyond + 1: 1} {
		into, err := r.TempDir("crosstwin-test-")
		if err != nil {
			t.Fatal(err)
		}
		r.restoreGap(withArchive(r.ctx()), 2, beyond, to, into)
		if files, err := os.ReadDir(into); err != nil || len(files) != want {
			t.Errorf("up to %s: %d files, want %d: %v", to, len(files), want, err)
		}
		r.RemoveAll(into)
	}
	if x := examine(); !x.Rewindable || x.Tail == nil || len(x.Tail.Transactions) != 2 {
		t.Errorf("with the archive: %t %s %+v", x.Rewindable, x.WhyNot, x.Tail)
	}
	if err == nil {
		err = rewind()
	}
	if err == nil {
		err = r.Start(r.ctx(), observation.Replica)
	}
	if err != nil {
		t.Fatal(err)
	}
	r.caughtUp(p)
	got := r.text("select string_agg(a::text, ' ' order by a) || ' ' || current_setting('restore_command') from t")
	if got != "0 1 2 cp "+archive+"/%f %p" {
		t.Errorf("after the rewind: %s", got)
	}
}
