package mariadb

import (
	"testing"

	"crosstwin/internal/core/verb"
)

// Rows are read by an account that may read and nothing else, and that is gone again once
// its session is open; one that an agent left behind when it was killed goes with the next.
func TestRowsAreReadByTheReader(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	before := wren.one("select @@global.gtid_binlog_pos")
	wren.sql("set sql_log_bin = 0; create user " + verb.ReaderUser + "_left@localhost identified by 'x'")
	hold, err := wren.Hold(wren.ctx(), 5)
	wren.ok(err)
	plover.ok(plover.Snapshot(plover.ctx(), verb.Snapshot{Hold: hold, Seconds: 5}))
	wren.ok(wren.Release(wren.ctx()))
	for _, x := range []*rig{wren, plover} {
		if n := x.one("select count(*) from mysql.global_priv where user like '" + verb.ReaderUser + "%'"); n != "0" {
			t.Errorf("%s has %s such accounts while rows are read", x.cfg.Name, n)
		}
		list, err := x.Sums(x.ctx(), quiet)
		x.ok(err)
		if len(list) == 0 {
			t.Errorf("%s shows no table", x.cfg.Name)
		}
		for _, s := range []string{"set global read_only = 0", "create user x@localhost", "drop table d.t",
			"select * from d.t into outfile '/tmp/rows'", "kill 1"} {
			if _, err := x.compare.view.ExecContext(x.ctx(), s); number(err) == 0 {
				t.Errorf("the session that reads rows on %s may %s: %v", x.cfg.Name, s, err)
			}
		}
		x.Forget(x.ctx())
	}
	if now := wren.one("select @@global.gtid_binlog_pos"); now != before {
		t.Errorf("accounts went to the replicas: %s, before %s", now, before)
	}
}

// one returns the one value that a query gives.
func (r *rig) one(query string) string {
	r.t.Helper()
	s, err := r.text(r.ctx(), query)
	r.ok(err)
	return s
}
