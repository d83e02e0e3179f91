package mariadb

import (
	"strings"
	"testing"

	"crosstwin/internal/core/compare"
	"crosstwin/internal/core/verb"
)

// Values that are too large for one text of the server, and sequences, are compared;
// tables of an engine without transactions are named.
func TestCompareAllData(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	wren.sql("create sequence d.s; do next value for d.s; do next value for d.s; " +
		"create table d.scans (id int primary key, front longblob, back longblob); " +
		"insert into d.scans values (1, repeat('front', 1800000), repeat('back', 2250000)), (2, null, '')")
	m, err := wren.Mark(wren.ctx(), "both", 1, "test")
	wren.ok(err)
	wren.ok(plover.FindMark(plover.ctx(), m))
	sums := func() verb.Comparison {
		t.Helper()
		hold, err := wren.Hold(wren.ctx(), 5)
		wren.ok(err)
		plover.ok(plover.Snapshot(plover.ctx(), verb.Snapshot{Hold: hold, Seconds: 5}))
		wren.ok(wren.Release(wren.ctx()))
		all := map[string][]verb.TableSum{}
		for _, x := range []*rig{wren, plover} {
			all[x.cfg.Name], err = x.Sums(x.ctx(), quiet)
			x.ok(err)
			x.Forget(x.ctx())
		}
		return compare.Judge([]string{"wren", "plover"}, all)
	}
	c := sums()
	if c.Differ != 0 || len(c.Left) != 1 || c.Left[0] != "d.old (MyISAM: it cannot be read as of one moment)" {
		t.Errorf("%d differ, left %q: %+v", c.Differ, c.Left, c.Tables)
	}
	found := map[string]bool{}
	for _, x := range c.Tables {
		found[x.Table] = true
	}
	if !found["d.s"] || !found["d.scans"] {
		t.Errorf("%v", found)
	}
	plover.sql("set sql_log_bin = 0; update d.scans set back = concat(back, '!') where id = 1; do setval(d.s, 5000)")
	c = sums()
	var differ []string
	for _, x := range c.Tables {
		if !x.Same {
			differ = append(differ, x.Table)
		}
	}
	if strings.Join(differ, " ") != "d.s d.scans" {
		t.Errorf("differ: %q", differ)
	}
}
