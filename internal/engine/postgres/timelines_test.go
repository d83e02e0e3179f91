package postgres

import (
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// A replica that dies before its first restart point on a timeline has control data of an
// earlier one. What it received stands in its log: there its history and its end are read.
func TestKilledReplicaOfSeveralTimelines(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int primary key)")
	r := replicaOf(t, p)
	for want := uint32(2); want <= 3; want++ {
		if err := p.Stop(p.ctx()); err != nil {
			t.Fatal(err)
		}
		p.await("ended", func(o *observation.Server) bool { return !o.Process.Running })
		if err := p.Start(p.ctx(), observation.Replica); err != nil {
			t.Fatal(err)
		}
		if err := p.Promote(p.ctx()); err != nil {
			t.Fatal(err)
		}
		p.await("opened", func(o *observation.Server) bool { return o.Process.Writable && o.Log.Line.Number == want })
		p.sql("insert into t select coalesce(max(a), 0) + 1 from t")
		r.await("followed", func(o *observation.Server) bool { return o.Log.Line.Number == want })
		r.caughtUp(p)
	}
	end := p.text("select pg_current_wal_flush_lsn()::text")
	if err := r.Fence(r.ctx(), false); err != nil { // a crash
		t.Fatal(err)
	}
	c, err := r.control(r.ctx())
	if err != nil || max(c.Timeline, c.MinRecoveryTLI) == 3 {
		t.Fatalf("not the case that was meant: %+v %v", c, err)
	}
	if o := r.Observe(r.ctx(), false); o.Process.Running || o.Log.Line.Number != 3 {
		t.Errorf("stopped on timeline %d", o.Log.Line.Number)
	}
	line := p.Observe(p.ctx(), false).Log
	r.peers["gull"] = p.Engine
	x, err := r.Examine(r.ctx(), verb.Examine{Line: line.Line, Past: line.Past, Written: end,
		Primary: verb.Peer{Name: "gull"}})
	if err != nil || later(x.End, end) != x.End || x.Kinship != string(position.Kin) || x.TailBytes != 0 {
		t.Errorf("its log ends at %s, want %s: %+v %v", x.End, end, x, err)
	}

	// Started again while nobody sends, by an agent that has not seen it before.
	if err := p.Fence(p.ctx(), false); err != nil {
		t.Fatal(err)
	}
	r.seen.startedAt, r.seen.lastTimeline, r.seen.line = "", 0, lineCache{}
	if err := r.Start(r.ctx(), observation.Replica); err != nil {
		t.Fatal(err)
	}
	if o := r.Observe(r.ctx(), false); !o.Process.Accepting || o.Log.Line.Number != 3 || o.Links.Upstream.Connected {
		t.Errorf("runs on timeline %d: %+v", o.Log.Line.Number, o.Process)
	}
}
