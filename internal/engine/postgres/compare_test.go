package postgres

import (
	"testing"

	"crosstwin/internal/core/compare"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// sums compares all data of two servers at one moment.
func sums(t *testing.T, p, r *rig) verb.Comparison {
	t.Helper()
	hold, err := p.Hold(p.ctx(), 5)
	if err != nil {
		t.Fatal(err)
	}
	if r.Observe(r.ctx(), false).Process.Role == observation.Primary {
		_, err = r.Hold(r.ctx(), 5) // the test has opened it
	} else {
		err = r.Snapshot(r.ctx(), verb.Snapshot{Hold: hold, Seconds: 5})
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Release(p.ctx()); err != nil {
		t.Fatal(err)
	}
	all := map[string][]verb.TableSum{}
	for _, x := range []*rig{p, r} {
		list, err := x.Sums(x.ctx(), func(string, int64, int64) {})
		if err != nil {
			t.Fatal(err)
		}
		all[x.cfg.Name] = list
		x.Forget(x.ctx())
	}
	return compare.Judge([]string{"gull", "tern"}, all)
}

// Sequences and large objects are compared, also in the midst of their use; what is
// not compared is named.
func TestCompareAllData(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int)", "create sequence up", "create sequence down increment -3", "create sequence unused",
		"select nextval('up'), nextval('up')", "select nextval('down')", "select lo_from_bytea(4711, 'a scan')",
		"create unlogged table fast (a int)", "create materialized view m as select * from t")
	r := replicaOf(t, p)
	p.sql("select nextval('up') from generate_series(1, 41)", "select setval('down', -500)", "select lo_put(4711, 2, "+
		"'page')")
	r.caughtUp(p)
	c := sums(t, p, r)
	if c.Differ != 0 {
		t.Errorf("%+v", c.Tables)
	}
	have := map[string]bool{}
	for _, x := range c.Tables {
		have[x.Table] = true
	}
	for _, x := range []string{"public.t", "public.up", "public.down", "public.unused", "pg_catalog.pg_largeobject"} {
		if !have["postgres."+x] {
			t.Errorf("%s is not compared: %v", x, have)
		}
	}
	if len(c.Left) != 2 {
		t.Errorf("left out: %q", c.Left)
	}

	// A column may bear any name, also one that a query here might use.
	p.sql("create table t2 (t int primary key, x text, v text)", "insert into t2 values (1, 'x', 'one'), (2, null, 'two')")
	r.caughtUp(p)

	// A replica that was opened by itself, and wrote.
	if err := r.Promote(r.ctx()); err != nil {
		t.Fatal(err)
	}
	r.sql("select nextval('up') from generate_series(1, 40)", "select lo_put(4711, 0, 'x')",
		"update t2 set v = 'another' where t = 1")
	differ := map[string]bool{}
	for _, x := range sums(t, p, r).Tables {
		differ[x.Table] = !x.Same
	}
	if !differ["postgres.public.t2"] {
		t.Error("a difference beside a column named t is not seen")
	}
	if row, err := r.rowsIn(r.ctx(), "postgres", "public.t2", []string{"(0,2)"}, 1<<30); err != nil ||
		string(row["(0,2)"]) != `{"t": 2, "v": "two", "x": null}` {
		t.Errorf("%s %v", row, err)
	}
	if !differ["postgres.public.up"] || !differ["postgres.pg_catalog.pg_largeobject"] || differ["postgres.public.down"] {
		t.Errorf("%v", differ)
	}
}
