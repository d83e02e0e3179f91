package agent

import (
	"testing"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
)

// A look that began before the database was killed says nothing of the one that was started
// since: that one runs shut, and would be killed for what its predecessor was.
func TestLookOfBeforeTheKill(t *testing.T) {
	r := newRig(t)
	p := &r.permission
	p.killed, p.seen = time.Now(), guard.DatabaseStopped
	open := observation.Process{Running: true, Accepting: true, Role: observation.Primary, Identity: "1 2"}
	p.see(&observation.Server{At: p.killed.Add(-time.Millisecond), Process: open})
	if p.seen != guard.DatabaseStopped {
		t.Errorf("by a look of before the kill the database counts as %v", p.seen)
	}
	p.see(&observation.Server{At: p.killed.Add(time.Millisecond), Process: open})
	if p.seen != guard.DatabaseOpen {
		t.Errorf("by a look of after it, as %v", p.seen)
	}
}
