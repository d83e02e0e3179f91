package host

import (
	"os"
	"os/exec"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// What cannot be looked at is not taken for gone: an agent that is short of descriptors says
// nothing of a server before it can look, and never that nothing is left of it.
func TestProcessesWithoutDescriptors(t *testing.T) {
	d := data(t)
	if err := os.MkdirAll(d.Dir, 0o755); err != nil {
		t.Fatal(err)
	}
	c := exec.Command("/usr/bin/sleep", "60")
	c.Dir = d.Dir
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	identity := ProcessIdentity(c.Process.Pid)

	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		t.Fatal(err)
	}
	few := limit
	few.Cur = 0
	if err := unix.Setrlimit(unix.RLIMIT_NOFILE, &few); err != nil {
		t.Fatal(err)
	}
	restore := func() { unix.Setrlimit(unix.RLIMIT_NOFILE, &limit) }
	t.Cleanup(restore)
	if _, err := os.Open("/proc/self/stat"); err == nil {
		t.Fatal("there are descriptors left")
	}
	type answer struct {
		processes         []int
		alive, ours       bool
		identity          string
		doomed, allDoomed bool
	}
	answered := make(chan answer, 1)
	go func() {
		pid := c.Process.Pid
		answered <- answer{d.Processes(), Alive(pid), d.Ours(pid), ProcessIdentity(pid), Doomed(pid), d.Doomed()}
	}()
	select {
	case a := <-answered:
		t.Fatalf("it answered without looking: %+v", a)
	case <-time.After(100 * time.Millisecond):
	}
	restore()
	a := <-answered
	if len(a.processes) != 1 || !a.alive || !a.ours || a.identity != identity || a.doomed || a.allDoomed {
		t.Errorf("with descriptors again: %+v", a)
	}
}
