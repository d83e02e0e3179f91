package postgres

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/observation"
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

// Sessions that are open during a smart stop go on writing: what the server is open for is
// seen until the last of them has ended.
func TestSmartStopLetsSessionsWrite(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create table t (a int)")
	p.await("opened", func(o *observation.Server) bool { return o.Process.Writable })
	p.somebody(func(c *pgx.Conn) {
		p.utility("pg_ctl", "-D", p.cfg.DataDir, "-W", "-m", "smart", "stop")
		o := p.await("stops", func(o *observation.Server) bool { return !o.Process.Accepting })
		if _, err := c.Exec(p.ctx(), "insert into t values (1)"); err != nil {
			t.Fatalf("not the case that was meant: %v", err)
		}
		if o.Process.Role != observation.Primary || !o.Process.Writable || !strings.Contains(o.Process.Problem, "may go on") {
			t.Errorf("it takes writes: %+v", o.Process)
		}
	})
	p.await("ended", func(o *observation.Server) bool { return !o.Process.Running && !o.Process.Writable })
}
