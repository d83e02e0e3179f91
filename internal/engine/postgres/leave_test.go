package postgres

import (
	"testing"
	"time"
)

// A smart stop waits for every session. The agent's, which it keeps from one question to the
// next, do not hold it up: somebody else stops a server, and nobody waits for its agent.
func TestSmartStopIsNotHeldUp(t *testing.T) {
	p := primary(t)
	if err := p.Commits(p.ctx()); err != nil { // by a connection of its own
		t.Fatal(err)
	}
	p.Observe(p.ctx(), true)
	p.utility("pg_ctl", "-D", p.cfg.DataDir, "-W", "-m", "smart", "stop")
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if o := p.Observe(p.ctx(), false); !o.Process.Running {
			return
		}
		if time.Now().After(end) {
			t.Fatal("the server waits for its agent's sessions")
		}
	}
}
