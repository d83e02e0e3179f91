package host

import (
	"context"
	"errors"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"crosstwin/test/workdir"
)

// A process that was killed and waits for its disk acknowledges nothing, and is still
// there: whoever is about to touch its files is told so.
func TestDoomed(t *testing.T) {
	workdir.NeedDisk(t)
	d := data(t)
	d.Process = "dd"
	disk := workdir.NewDisk(t, d.Dir, "16M")
	thaw := disk.Freeze()
	c := exec.Command("/usr/bin/dd", "if=/dev/zero", "of="+filepath.Join(d.Dir, "x"), "bs=1k", "count=1", "conv=fsync")
	c.Dir = d.Dir
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	// A process that is just being loaded waits as well, for a moment.
	for end, seen := time.Now().Add(time.Minute), 0; seen < 20; time.Sleep(10 * time.Millisecond) {
		if seen++; len(threads(c.Process.Pid)) == 0 || !threads(c.Process.Pid)[0].waits {
			seen = 0
		}
		if time.Now().After(end) {
			t.Fatal("it does not wait for its disk")
		}
	}
	if Doomed(c.Process.Pid) || d.Doomed() {
		t.Error("nobody has killed it")
	}
	told := 0
	tell := func(context.Context) error { told++; return nil }
	if err := d.KillAll(t.Context(), func() error { return nil }, tell); !errors.Is(err, ErrDoomed) || told != 1 {
		t.Errorf("killed while it waits for its disk: %v; told %d times", err, told)
	}
	if len(d.Processes()) != 1 || !d.Doomed() {
		t.Errorf("processes %v, doomed: %t", d.Processes(), d.Doomed())
	}
	if left := d.KillNow(100 * time.Millisecond); len(left) != 0 {
		t.Errorf("%v could acknowledge something", left)
	}
	thaw()
	<-ended
	if err := d.KillAll(t.Context(), func() error { return nil }, tell); err != nil || d.Doomed() || told != 2 {
		t.Errorf("with its disk back: %v", err)
	}
}
