package mariadb

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/verb"
)

// A replica whose commits are not durable loses its newest data in a crash and
// keeps the log of it. It is never followed from there: neither when its agent saw
// the settings before, nor when only its positions tell.
func TestLogAheadOfData(t *testing.T) {
	t.Parallel()
	_, g, r := newPair(t)
	g.sql("create database harbour; create table harbour.orders (id int auto_increment primary key, text varchar(40))")
	r.sql("set global innodb_flush_log_at_trx_commit = 0")
	r.sql("set global innodb_flush_log_at_timeout = 2700") // else a slow machine has it all on disk
	r.Observe(r.ctx(), true)
	for end := time.Now().Add(2500 * time.Millisecond); time.Now().Before(end); {
		g.sql("insert into harbour.orders (text) values ('acked')")
	}
	r.ok(r.Fence(r.ctx(), false))
	examine := func() *verb.Examination {
		t.Helper()
		o := g.Observe(g.ctx(), false)
		x, err := r.Examine(r.ctx(), verb.Examine{Line: o.Log.Line, Written: o.Log.Written, Primary: g.peer()})
		r.ok(err)
		return x
	}
	if x := examine(); !strings.Contains(x.Doubt, "did not end cleanly") {
		t.Errorf("crashed: %+v", x)
	}
	r.ok(r.Start(r.ctx(), "replica"))
	if x := examine(); !strings.Contains(x.Doubt, "did not end cleanly") {
		t.Errorf("started again: %+v", x)
	}
	r.memory.SetFingerprint(rememberVolatile, "")
	if x := examine(); !strings.Contains(x.Doubt, "its data was applied up to") {
		t.Errorf("by its positions: %+v", x)
	}
	err := r.Follow(r.ctx(), verb.Follow{Upstream: g.peer()})
	if err == nil || !strings.Contains(err.Error(), "its data was applied up to") {
		t.Errorf("followed: %v", err)
	}
}
