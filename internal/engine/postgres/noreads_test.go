package postgres

import (
	"os"
	"testing"

	"crosstwin/internal/core/observation"
)

// A replica that is set to take no connections is told from one that hangs or starts, in
// any language of its messages.
func TestReplicaWithoutReads(t *testing.T) {
	t.Parallel()
	p := primary(t)
	if err := p.Stop(p.ctx()); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(p.Path("postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString("\nhot_standby = off\n")
	f.Close()
	go p.Start(p.ctx(), observation.Replica) // it waits in vain for an answer
	p.await("came up", func(o *observation.Server) bool { return o.Process.Running && o.Process.NoReads })
	o := p.Observe(p.ctx(), false)
	if o.Process.Accepting || o.Process.NotLetIn || o.Process.Writable || o.Process.Problem == "" {
		t.Errorf("%+v", o.Process)
	}
}
