package workdir

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// Disk is a file system of its own that can be frozen: then nothing is written there any
// more, and whoever tries waits in the kernel, as for a disk that hangs.
type Disk struct {
	t   testing.TB
	dir string
}

// NeedDisk skips a test where no file system can be made and frozen: that takes root, and a
// kernel with loop devices.
func NeedDisk(t testing.TB) {
	t.Helper()
	dir := t.TempDir()
	image, at := filepath.Join(dir, "image"), filepath.Join(dir, "at")
	for _, c := range [][]string{{"truncate", "-s", "16M", image}, {"mkfs.ext4", "-q", image}, {"mkdir", at},
		{"mount", "-o", "loop", image, at}, {"fsfreeze", "-f", at}, {"fsfreeze", "-u", at}, {"umount", at}} {
		if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
			exec.Command("umount", at).Run()
			t.Skipf("no file system can be made and frozen here: %s: %v: %s", c[0], err, out)
		}
	}
}

// NewDisk moves what is in a directory to a file system of its own, at the same place, for
// as long as the test runs. Whoever works there has to have ended before.
func NewDisk(t testing.TB, dir, size string) *Disk {
	t.Helper()
	d := &Disk{t, dir}
	image, aside := dir+".image", dir+".aside"
	t.Cleanup(func() {
		exec.Command("umount", "--lazy", dir).Run()
		os.RemoveAll(image)
	})
	d.run("truncate", "-s", size, image)
	d.run("mkfs.ext4", "-q", image)
	d.run("mkdir", aside)
	d.run("mount", "-o", "loop", image, aside)
	d.run("rmdir", filepath.Join(aside, "lost+found"))
	d.run("cp", "-a", dir+"/.", aside+"/")
	d.run("umount", aside)
	d.run("mount", "-o", "loop", image, dir)
	return d
}

// Freeze has it take nothing more, until thaw or the test's end.
func (d *Disk) Freeze() (thaw func()) {
	d.t.Helper()
	d.t.Cleanup(func() { exec.Command("fsfreeze", "-u", d.dir).Run() })
	d.run("fsfreeze", "-f", d.dir)
	return func() { d.run("fsfreeze", "-u", d.dir) }
}

func (d *Disk) run(name string, args ...string) {
	d.t.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		d.t.Fatalf("%s %v: %v: %s", name, args, err, out)
	}
}
