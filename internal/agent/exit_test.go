package agent

import (
	"context"
	"os/exec"
	"testing"
	"time"

	"crosstwin/internal/engine/host"
)

// The end of a process is told at once, and so is that it has ended before; another
// process with its number is not taken for it.
func TestAwaitExit(t *testing.T) {
	p := exec.Command("sleep", "600")
	if err := p.Start(); err != nil {
		t.Fatal(err)
	}
	defer p.Process.Kill()
	identity := host.ProcessIdentity(p.Process.Pid)
	soon, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	if awaitExit(soon, identity) {
		t.Error("it has not ended")
	}
	if !awaitExit(t.Context(), identity[:len(identity)-1]+"x") {
		t.Error("another process has its number")
	}
	ended := make(chan bool)
	go func() { ended <- awaitExit(t.Context(), identity+" and since when it takes writes") }()
	time.Sleep(20 * time.Millisecond)
	p.Process.Kill()
	if !<-ended {
		t.Error("its end was not seen")
	}
	p.Wait()
	if !awaitExit(t.Context(), identity) {
		t.Error("it ended before")
	}
	if awaitExit(soon, "") {
		t.Error("nothing was open")
	}
}
