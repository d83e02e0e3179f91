package mariadb

import (
	"testing"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// What a DBA set for everybody's sessions ends none of the agent's, which wait inside
// transactions on purpose; nor does it keep the agent from writing.
func TestTimeoutsOfOthers(t *testing.T) {
	t.Parallel()
	_, wren, plover := newPair(t)
	for _, x := range []*rig{wren, plover} {
		x.sql("set global max_statement_time = 0.2; set global idle_transaction_timeout = 1; " +
			"set global idle_readonly_transaction_timeout = 1; set global wait_timeout = 1")
		x.db.SetMaxIdleConns(0) // the sessions of before know nothing of it
	}
	hold, err := wren.Hold(wren.ctx(), 20)
	wren.ok(err)
	plover.ok(plover.Snapshot(plover.ctx(), verb.Snapshot{Hold: hold, Seconds: 20}))
	time.Sleep(2500 * time.Millisecond)
	for _, x := range []*rig{wren, plover} {
		if list, err := x.Sums(x.ctx(), quiet); err != nil || len(list) == 0 {
			t.Errorf("%s: %v %v", x.cfg.Name, list, err)
		}
	}
	if err := wren.Release(wren.ctx()); err != nil {
		t.Errorf("the hold ended by itself: %v", err)
	}
	for _, x := range []*rig{wren, plover} {
		x.Forget(x.ctx())
	}
	wren.sql("set global tx_read_only = 1")
	if _, err := wren.Mark(wren.ctx(), "9f", 1, "a mark"); err != nil {
		t.Errorf("the agent cannot write a mark: %v", err)
	}
	if p := wren.Observe(wren.ctx(), false).Process; p.Role != observation.Primary || p.Writable {
		t.Errorf("nobody else can write: %+v", p)
	}
	wren.sql("set global tx_read_only = 0")
}
