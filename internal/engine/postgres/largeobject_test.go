package postgres

import (
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// Large objects of a tail are data: listed, saved, and put back as the file says.
func TestTailOfLargeObjects(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create role clerk", "select lo_from_bytea(4711, convert_to(repeat('old page ', 600), 'UTF8'))", "checkpoint")
	fork := p.text("select pg_current_wal_insert_lsn()::text")
	before := p.Observe(p.ctx(), false)
	p.sql("set role clerk; select lo_from_bytea(4712, convert_to(repeat('waybill ', 1000), 'UTF8')); reset role",
		"select lo_put(4711, 2048, convert_to('changed', 'UTF8'))")
	all := "select md5(lo_get(4711)) || md5(lo_get(4712))"
	want := p.text(all)
	if err := p.Fence(p.ctx(), false); err != nil {
		t.Fatal(err)
	}
	p.peers["tern"] = p.Engine
	x, err := p.Examine(p.ctx(), verb.Examine{Line: position.Line{System: before.Data.System, Number: 2,
		Began: mustLSN(t, fork), Fingerprint: "f"}, Past: []position.Branch{{Timeline: 1, End: mustLSN(t, fork)}},
		Primary: verb.Peer{Name: "tern"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, inserts, updates, _ := x.Tail.Counts(); inserts < 5 || updates != 1 {
		t.Errorf("%d inserts, %d updates: %+v", inserts, updates, x.Tail.Transactions)
	}
	for _, tx := range x.Tail.Transactions {
		if tx.Schema {
			t.Errorf("taken for a change of definitions: %+v", tx)
		}
	}
	saved, err := p.Salvage(p.ctx(), verb.Salvage{Fork: x.Fork, Timeline: x.ForkLine, Name: "bookings-gull"},
		filepath.Join(p.cfg.WorkDir, "salvage"), func(string, int64, int64) {})
	if err != nil {
		t.Fatal(err)
	}
	// The other server has neither.
	if err := p.Start(p.ctx(), "primary"); err != nil {
		t.Fatal(err)
	}
	p.sql("select lo_unlink(4712)", "select lo_put(4711, 2048, convert_to('another', 'UTF8'))")
	out, err := exec.Command("psql", "-v", "ON_ERROR_STOP=1", "-qf", saved.Saved, "-h", p.cfg.SocketDir, "-p",
		strconv.Itoa(p.cfg.Port), "-U", "postgres").CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	p.sql("select lo_create(4712)")
	for _, n := range []string{"4711", "4712"} {
		p.sql(strings.ReplaceAll(`select lo_put(loid, pageno::bigint * 2048, data)
		  from `+saved.Into+`."pg_catalog.pg_largeobject" where loid = NUMBER order by pageno`, "NUMBER", n))
	}
	if got := p.text(all); got != want {
		t.Error("the large objects are not what they were")
	}
}
