package mariadb

import (
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// Events that somebody had skipped at the next start are not, whoever starts the replica.
func TestNothingIsSkipped(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	stopped := func(row string) {
		plover.sql("stop slave; set global sql_slave_skip_counter = 1")
		wren.sql("insert into d.parent values (" + row + ")")
	}
	stopped("80")
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{Upstream: wren.peer()}))
	plover.applied(wren)
	stopped("81")
	plover.ok(plover.startSlave(plover.ctx(), ""))
	plover.applied(wren)
	if n := plover.one("select count(*) from d.parent where id in (80, 81)"); n != "2" {
		t.Errorf("%s of 2 rows are there", n)
	}
}

// An applier that stopped for a lock goes on when it is gone; as long as it is not, nothing of
// what was received is thrown away, though the upstream is lost.
func TestApplierGoesOn(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	c, err := plover.db.Conn(plover.ctx())
	plover.ok(err)
	defer c.Close()
	_, err = c.ExecContext(plover.ctx(), "start transaction; select * from d.t where id = 2 for update")
	plover.ok(err)
	plover.sql("stop slave; set global slave_transaction_retries = 0, global innodb_lock_wait_timeout = 1; start slave")
	wren.sql("update d.t set v = 'changed' where id = 2; insert into d.parent values (91)")
	plover.awaitLink("stops", func(u *observation.Upstream) bool { return u.ApplierMayPass })
	wren.leave(false)
	if err := plover.Follow(plover.ctx(), verb.Follow{}); err == nil {
		t.Error("the lock is still there")
	}
	_, err = c.ExecContext(plover.ctx(), "rollback")
	plover.ok(err)
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{}))
	if n := plover.one("select (select v from d.t where id = 2) = 'changed' and exists (select * from d.parent " +
		"where id = 91)"); n != "1" {
		t.Error("what was received is not there")
	}
}

// A server whose relay log was given another name opens none (error 1201): it follows all the same.
func TestFollowsAfterItsRelayLogWasRenamed(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	plover.renameRelayLog()
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{Upstream: wren.peer()}))
	wren.sql("insert into d.parent values (95)")
	plover.applied(wren)
	plover.renameRelayLog() // the same name: nothing is in the way
	plover.ok(plover.Follow(plover.ctx(), verb.Follow{Upstream: wren.peer()}))
	wren.sql("insert into d.parent values (96)")
	plover.applied(wren)
	if n := plover.one("select count(*) from d.parent where id in (95, 96)"); n != "2" {
		t.Errorf("%s of 2 rows are there", n)
	}
}
