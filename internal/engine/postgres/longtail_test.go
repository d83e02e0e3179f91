package postgres

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
)

// What a transaction wrote before the fork and committed after it is part of the tail:
// the other servers hold its rows, and never its commit.
func TestTailOfTransactionsFromBeforeTheFork(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("alter system set wal_keep_size = '1GB'", "select pg_reload_conf()",
		"create table early (a int, s text)", "create table t (a int)", "insert into early values (0, 'old')",
		"create table made as select 1 as n", "select pg_switch_wal()")
	var fork string
	p.somebody(func(long *pgx.Conn) {
		run := func(statements ...string) {
			for _, s := range statements {
				if _, err := long.Exec(p.ctx(), s); err != nil {
					t.Fatalf("%s: %v", s, err)
				}
			}
		}
		run("begin", "insert into early values (1, 'before the fork')", "savepoint x",
			"insert into early values (2, 'in a subtransaction')", "release x", "update early set s = 'changed' where a = 0",
			"savepoint y", "insert into early values (3, 'taken back')", "rollback to y")
		// Other writers, over several files of log, and their own records of who runs.
		p.sql("insert into t select generate_series(1, 1000)", "select pg_switch_wal()", "insert into t values (1)",
			"select pg_switch_wal()", "insert into t values (2)", "select pg_switch_wal()", "checkpoint",
			"insert into t values (3)")
		fork = p.text("select pg_current_wal_insert_lsn()::text")
		run("insert into t values (4)", "commit")
	})
	before := p.Observe(p.ctx(), false)
	if err := p.Fence(p.ctx(), false); err != nil { // a crash
		t.Fatal(err)
	}
	p.peers["tern"] = p.Engine // whose log of before the fork is the same
	ask := verb.Examine{Line: position.Line{System: before.Data.System, Number: 2, Began: mustLSN(t, fork),
		Fingerprint: "f"}, Past: []position.Branch{{Timeline: 1, End: mustLSN(t, fork)}}, Primary: verb.Peer{Name: "tern"}}
	x, err := p.Examine(p.ctx(), ask)
	if err != nil || x.Tail == nil {
		t.Fatalf("%+v %v", x, err)
	}
	if n, inserts, updates, _ := x.Tail.Counts(); n != 1 || inserts != 3 || updates != 1 {
		t.Errorf("%d transactions, %d inserts, %d updates: %+v", n, inserts, updates, x.Tail.Transactions)
	}
	saved := p.salvage(x)
	if name, missing := saved.NotSaved(); missing {
		t.Errorf("%s is said to be missing", name)
	}
	text := ""
	for _, tx := range saved.Transactions {
		for _, r := range tx.Rows {
			text += fmt.Sprint(r.Words(), "\n")
		}
	}
	file, err := os.ReadFile(saved.Saved)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"before the fork", "in a subtransaction", "changed"} {
		if !strings.Contains(text, want) || !strings.Contains(string(file), want) {
			t.Errorf("%q is not in the listing\n%s\nor not in the file\n%s", want, text, file)
		}
	}
	if strings.Contains(string(file), "taken back") {
		t.Error("what was taken back is saved")
	}

	// Where the log of its beginning is gone, it is not said to be saved whole.
	oldest, err := filepath.Glob(p.Path("pg_wal", "0000000100000000000000*"))
	if err != nil || len(oldest) < 4 {
		t.Fatal(oldest, err)
	}
	at := position.SegmentName(1, mustLSN(t, fork), 16<<20)
	for _, f := range oldest {
		if filepath.Base(f) < at {
			if out, err := exec.Command("rm", f).CombinedOutput(); err != nil {
				t.Fatalf("%v %s", err, out)
			}
		}
	}
	if _, missing := p.salvage(x).NotSaved(); !missing {
		t.Error("a transaction whose beginning is gone is said to be saved")
	}
}

func (r *rig) salvage(x *verb.Examination) *tail.Tail {
	r.t.Helper()
	saved, err := r.Salvage(r.ctx(), verb.Salvage{Fork: x.Fork, Timeline: x.ForkLine, Name: "bookings-gull"},
		filepath.Join(r.cfg.WorkDir, "salvage"), func(string, int64, int64) {})
	if err != nil {
		r.t.Fatal(err)
	}
	return saved
}
