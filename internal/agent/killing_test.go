package agent

import (
	"os/exec"
	"testing"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/engine/host"
)

// A look at a process that has ended since says nothing of the one that was started in its
// place: that one runs shut, and would be killed for what its predecessor was.
func TestLookAtAnEndedProcess(t *testing.T) {
	p := &newRig(t).permission
	database := exec.Command("sleep", "600")
	if err := database.Start(); err != nil {
		t.Fatal(err)
	}
	defer database.Process.Kill()
	look := &observation.Server{At: time.Now(), Process: observation.Process{Running: true, Accepting: true,
		Role: observation.Primary, Identity: host.ProcessIdentity(database.Process.Pid)}}
	p.see(look)
	if p.seen != guard.DatabaseOpen {
		t.Errorf("while it lives the database counts as %v", p.seen)
	}
	database.Process.Kill()
	database.Wait()
	p.seen = guard.DatabaseStopped // whoever killed it
	p.see(look)
	if p.seen != guard.DatabaseStopped {
		t.Errorf("by a look at a process that has ended it counts as %v", p.seen)
	}
}
