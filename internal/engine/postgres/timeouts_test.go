package postgres

import (
	"testing"
	"time"
)

// What a DBA set for everybody's sessions ends none of the agent's, which wait inside
// transactions on purpose.
func TestTimeoutsOfOthers(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int primary key)", "insert into t select generate_series(1, 500)",
		"alter system set idle_in_transaction_session_timeout = '300ms'", "alter system set idle_session_timeout = '300ms'",
		"alter system set statement_timeout = '300ms'", "alter system set lock_timeout = '100ms'", "select pg_reload_conf()")
	p.pool.Reset()
	time.Sleep(100 * time.Millisecond)
	if _, err := p.Hold(p.ctx(), 20); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Second)
	sums, err := p.Sums(p.ctx(), func(string, int64, int64) {})
	if err != nil || len(sums) != 1 || sums[0].Rows != 500 {
		t.Errorf("%v %v", sums, err)
	}
	if err := p.Release(p.ctx()); err != nil {
		t.Errorf("the hold ended by itself: %v", err)
	}
	p.Forget(p.ctx())
}
