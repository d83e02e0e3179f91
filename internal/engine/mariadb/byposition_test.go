package mariadb

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
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

	// In the middle of a transaction that arrives slowly: what has come of it is fetched again.
	byFile()
	plover.sql("set global read_binlog_speed_limit = 50")
	wren.sql("create table d.wide (id int primary key, v longblob)")
	plover.applied(wren)
	wren.sql("insert into d.wide select seq, repeat('x', 65536) from d.seq_1_to_100")
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		l, err := plover.link(plover.ctx())
		plover.ok(err)
		if l["Read_Master_Log_Pos"] != l["Exec_Master_Log_Pos"] {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("it is not in the middle of a transaction: %v", l)
		}
	}
	ctx, cancel := context.WithTimeout(plover.ctx(), 20*time.Second)
	defer cancel()
	plover.ok(plover.Follow(ctx, follow))
	plover.sql("stop slave; set global read_binlog_speed_limit = 0; start slave")
	plover.applied(wren)
	if n := plover.one("select count(*) from d.wide"); n != "100" {
		t.Errorf("%s of 100 rows arrived", n)
	}

	// A replica that applies late stays where it is; numbers of a time when it was the primary
	// itself, which its upstream has as well, do not stand in the way.
	byFile()
	plover.sql("stop slave; insert into d.parent values (72)")
	up := plover.peer()
	wren.sql(fmt.Sprintf("set global read_only = 1; change master to master_host = '%s', master_port = %d, "+
		"master_user = '%s', master_password = '%s', master_use_gtid = no, master_log_file = '%s', master_log_pos = 4; "+
		"start slave", up.Host,
		up.Port, account.User, account.Password, plover.one("select substring_index(@@log_bin_basename, '/', -1)")+".000001"))
	wren.applied(plover)
	wren.sql("stop slave; reset slave all; set global read_only = 0")
	plover.sql("start slave")
	plover.applied(wren)
	plover.sql("stop slave; change master to master_delay = 3600; start slave")
	plover.applied(nil)
	wren.sql("insert into d.parent values (73)")
	plover.ok(plover.Follow(plover.ctx(), follow))
	if n, u := plover.one("select group_concat(id) from d.parent where id in (72, 73)"), using(); n != "72" ||
		!strings.HasPrefix(u, "Slave_Pos") {
		t.Errorf("a replica that applies late has rows %s and follows by %s", n, u)
	}
	plover.sql("stop slave; change master to master_delay = 0; start slave")
	plover.applied(wren)
}

// A replica by file and position that cannot follow by GTID goes on as it did.
func TestByPositionGoesOn(t *testing.T) {
	t.Parallel()
	p, wren, plover := newPair(t)
	follow := verb.Follow{Upstream: wren.peer()}
	connecting := func(is string) {
		t.Helper()
		u := ""
		for end := time.Now().Add(20 * time.Second); u != is; time.Sleep(20 * time.Millisecond) {
			l, err := plover.link(plover.ctx())
			plover.ok(err)
			if u = l["Using_Gtid"] + " " + l["Slave_IO_Running"] + l["Slave_SQL_Running"]; time.Now().After(end) {
				t.Fatalf("it does not go on as it did: %s", u)
			}
		}
	}
	goesOnAsItDid := func(why string) {
		t.Helper()
		if err := plover.Follow(plover.ctx(), follow); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%v, not %s", err, why)
		}
		connecting("No YesYes")
	}
	plover.sql("stop slave; change master to master_use_gtid = no; start slave")
	plover.applied(wren)
	// What stands in the way before it is stopped, and after.
	plover.sql("set session sql_log_bin = 0; rename table crosstwin.cluster to crosstwin.away")
	goesOnAsItDid("holds nothing of Cross Twin's")
	plover.sql("set session sql_log_bin = 0; rename table crosstwin.away to crosstwin.cluster")
	plover.seen.Lock()
	account := plover.seen.account
	plover.seen.account = engine.Account{User: account.User, Password: "another"}
	plover.seen.Unlock()
	goesOnAsItDid("Access denied")
	plover.seen.Lock()
	plover.seen.account = account
	plover.seen.Unlock()
	plover.sql("set session sql_log_bin = 0; create event d.tick on schedule every 1 day do select 1; " +
		"alter table mysql.event rename mysql.event_away")
	goesOnAsItDid("switch its events off")
	plover.sql("set session sql_log_bin = 0; alter table mysql.event_away rename mysql.event; drop event d.tick")

	dunlin := p.add("dunlin", 13)
	p.seed(dunlin, wren, "")
	follow.Upstream = dunlin.peer()
	goesOnAsItDid("says nothing of dunlin's")
	follow.Upstream = wren.peer()

	plover.sql("stop slave sql_thread")
	if err := plover.Follow(plover.ctx(), follow); err == nil || !strings.Contains(err.Error(), "is stopped") {
		t.Errorf("stopped: %v", err)
	}
	connecting("No YesNo")
	plover.sql("start slave")

	plover.sql("set session gtid_domain_id = 9; create database mine")
	goesOnAsItDid("9-12-1")
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
