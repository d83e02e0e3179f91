package mariadb

import (
	"context"
	"testing"

	"crosstwin/internal/engine/enginetest"
)

// A server is looked at every second: that makes no table on its disk, and counts who is
// connected besides the agent.
func TestLookIsLight(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren := p.create("wren", 11)
	wren.Observe(wren.ctx(), false) // what is asked once in a server's life
	onDisk := "select variable_value from information_schema.global_status where variable_name = 'Created_tmp_disk_tables'"
	before, clients := wren.one(onDisk), wren.Observe(wren.ctx(), false).Process.ConnectedClients
	c, err := wren.db.Conn(wren.ctx())
	wren.ok(err)
	defer c.Close()
	wren.ok(c.PingContext(context.Background()))
	for range 5 {
		if n := wren.Observe(wren.ctx(), false).Process.ConnectedClients; n != clients+1 {
			t.Errorf("%d clients, want %d", n, clients+1)
		}
	}
	if after := wren.one(onDisk); after != before {
		t.Errorf("%s tables on disk before the looks, %s after", before, after)
	}
}
