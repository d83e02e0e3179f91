package mariadb

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/verb"
)

// A replica that follows by file and position follows by GTID afterwards, from where it
// stands; one that has numbers of its own goes on as it did.
func TestByPositionToGTID(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	follow := verb.Follow{Upstream: wren.peer()}
	byFile := func() {
		plover.sql("stop slave; change master to master_use_gtid = no; start slave")
		plover.applied(wren)
	}
	using := func() string {
		l, err := plover.link(plover.ctx())
		plover.ok(err)
		return l["Using_Gtid"] + " " + l["Slave_IO_Running"] + l["Slave_SQL_Running"]
	}
	byFile()
	if o := plover.Observe(plover.ctx(), false); o.Links.Upstream == nil || !o.Links.Upstream.ByPosition {
		t.Errorf("%+v", o.Links.Upstream)
	}

	// A position that is another one puts itself right once it connects (measured).
	plover.sql("stop slave; change master to master_use_gtid = no")
	plover.sql("set global gtid_strict_mode = 0")
	plover.sql("set global gtid_slave_pos = '1-11-2'")
	plover.sql("set global gtid_strict_mode = 1; start slave")
	plover.applied(wren)

	wren.sql("insert into d.parent values (70)")
	plover.applied(wren)
	plover.ok(plover.Follow(plover.ctx(), follow))
	if u := using(); !strings.HasPrefix(u, "Slave_Pos") {
		t.Errorf("it does not follow by GTID: %s", u)
	}
	wren.sql("insert into d.parent values (71)")
	plover.applied(wren)
	if n := plover.one("select count(*) from d.parent where id in (70, 71)"); n != "2" {
		t.Errorf("%s of 2 rows arrived", n)
	}

	byFile()
	plover.sql("set session gtid_domain_id = 9; create database mine")
	if err := plover.Follow(plover.ctx(), follow); err == nil || !strings.Contains(err.Error(), "9-12-1") {
		t.Errorf("numbers of its own: %v", err)
	}
	if u := using(); u != "No YesYes" {
		t.Errorf("it does not go on as it did: %s", u)
	}
}

// applied waits until a replica holds what its upstream does now; nil: until its link runs.
func (r *rig) applied(up *rig) {
	r.t.Helper()
	want := ""
	if up != nil {
		want = up.one("select @@global.gtid_binlog_pos")
	}
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		l, err := r.link(r.ctx())
		r.ok(err)
		if l["Slave_IO_Running"] == "Yes" && l["Slave_SQL_Running"] == "Yes" &&
			(want == "" || r.one("select @@global.gtid_slave_pos") == want) {
			return
		}
		if time.Now().After(end) {
			r.t.Fatalf("%s does not apply: %v", r.cfg.Name, l)
		}
	}
}
