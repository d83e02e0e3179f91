package postgres

import (
	"os"
	"strings"
	"testing"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// A replica that somebody opened in place, and that writes on under the primary's
// timeline and positions, is told by the content of its log alone. One that only
// stopped is kin.
func TestSharedLogIsCompared(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int)", "insert into t select generate_series(1, 100)")
	r := replicaOf(t, p)
	r.caughtUp(p)
	r.peers["gull"] = p.Engine
	examine := func() *verb.Examination {
		t.Helper()
		o := p.Observe(p.ctx(), false)
		x, err := r.Examine(r.ctx(), verb.Examine{Line: o.Log.Line, Past: o.Log.Past, Written: o.Log.Written,
			Primary: verb.Peer{Name: "gull"}})
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	fence := func() {
		t.Helper()
		if err := r.Fence(r.ctx(), true); err != nil {
			t.Fatal(err)
		}
	}
	if x := examine(); x.Kinship != string(position.Kin) {
		t.Errorf("running: %+v", x)
	}
	fence()
	p.sql("insert into t select generate_series(101, 200)", "select pg_switch_wal()", "insert into t values (201)")
	if x := examine(); x.Kinship != string(position.Kin) || x.TailBytes != 0 || x.WhyNot != "" {
		t.Errorf("stopped: %+v", x)
	}

	if err := os.Remove(r.Path("standby.signal")); err != nil {
		t.Fatal(err)
	}
	r.utility("pg_ctl", "-D", r.cfg.DataDir, "-w", "-l", r.cfg.LogFile, "-o", "-c default_transaction_read_only=off",
		"start")
	r.sql("insert into t values (999)")
	r.utility("pg_ctl", "-D", r.cfg.DataDir, "-w", "-m", "fast", "stop")
	if x := examine(); x.Kinship != string(position.Stranger) || x.Rewindable ||
		!strings.Contains(x.WhyNot, "it was written here") {
		t.Errorf("opened in place: %+v", x)
	}

	// What cannot be compared is not known.
	log := p.Path("pg_wal")
	if err := os.Rename(log, log+".away"); err != nil {
		t.Fatal(err)
	}
	x := examine()
	if err := os.Rename(log+".away", log); err != nil {
		t.Fatal(err)
	}
	if x.Kinship != string(position.Unknown) || x.Rewindable || !strings.Contains(x.WhyNot, "no longer keeps its log "+
		"file") {
		t.Errorf("the primary's log is gone: %+v", x)
	}
}
