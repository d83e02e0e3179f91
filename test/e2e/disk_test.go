package e2e

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// A disk that hangs leaves connections, questions and agents as they were, and no commit
// comes back. The primary takes no writes, which is said; another server takes over, though
// the processes that wait for the disk cannot end; and when it comes back the old primary
// does too.
func TestDiskHangs(t *testing.T) {
	if err := mayFreeze(t); err != nil {
		t.Skipf("no file system can be made and frozen here: %v", err)
	}
	for _, name := range []string{demo.Bookings, demo.Cargo} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorldOf(t, name, true, func(o *demo.Options) { o.Fencing = true })
			w.fenced()
			w.onItsOwnDisk("gull")
			w.must(0, nil, "cluster", "set", "bookings", "--automatic", "on", "--quiet-seconds", "0", "--rejoin",
				"after saving the tail")
			load := w.Load(1, 10*time.Millisecond)
			defer load.Stop()
			if err := load.AwaitAcks(w.ctx, 20); err != nil {
				t.Fatal(err)
			}
			thaw := w.freezeDisk("gull")
			w.await(func(v view.View) bool {
				s := w.find(v, "gull")
				return s.Cause.Code == cause.DiskHangs && s.Health == view.TakesNoWrite
			})
			w.await(func(v view.View) bool {
				return v.Primary == w.as("tern") && w.find(v, "tern").Health == view.TakesWrites && v.Operation == nil
			})
			if err := load.AwaitAcks(w.ctx, 20); err != nil {
				t.Fatal(err)
			}
			all, err := w.Client.Operations(w.ctx, w.Name, "", string(operation.Failover), 1)
			if err != nil || len(all) != 1 || all[0].Plan.Decided == nil ||
				all[0].Plan.Decided.Why.Code != cause.FailoverDisk {
				t.Fatalf("no failover because of the disk: %+v %v", all, err)
			}
			var lost []string
			if all[0].Plan.Loss != nil {
				lost = w.lost(load)
			}
			thaw()
			w.fenced() // gull comes back by itself
			load.Stop()
			w.holdsAll(load, lost, "gull", "tern", "heron")
		})
	}
}

// mayFreeze says why no file system can be made and frozen here: that takes root, and a
// kernel with loop devices.
func mayFreeze(t *testing.T) error {
	dir := t.TempDir()
	image, at := filepath.Join(dir, "image"), filepath.Join(dir, "at")
	for _, c := range [][]string{{"truncate", "-s", "16M", image}, {"mkfs.ext4", "-q", image}, {"mkdir", at},
		{"mount", "-o", "loop", image, at}, {"fsfreeze", "-f", at}, {"fsfreeze", "-u", at}, {"umount", at}} {
		if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
			exec.Command("umount", at).Run()
			return fmt.Errorf("%s: %w: %s", c[0], err, out)
		}
	}
	return nil
}

// onItsOwnDisk moves a server's data to a file system of its own, at the same place.
func (w *world) onItsOwnDisk(server string) {
	w.t.Helper()
	dir, image := w.server(server).DataDir, filepath.Join(w.Dir, server+".image")
	before := w.find(w.settled(), server).Observation.Process.Identity
	demo.StopDatabase(w.server(server))
	if err := w.KillAgent(w.as(server)); err != nil {
		w.t.Fatal(err)
	}
	command(w, "truncate", "-s", "1G", image)
	command(w, "mkfs.ext4", "-q", image)
	w.t.Cleanup(func() { // before the world ends: whoever works there is known by its directory
		w.KillAgent(w.as(server))
		demo.KillDatabase(w.server(server))
		exec.Command("umount", "--lazy", dir).Run()
	})
	aside := dir + ".aside"
	command(w, "mkdir", aside)
	command(w, "mount", "-o", "loop", image, aside)
	command(w, "rmdir", filepath.Join(aside, "lost+found"))
	command(w, "cp", "-a", dir+"/.", aside+"/")
	command(w, "umount", aside)
	command(w, "mount", "-o", "loop", image, dir)
	if err := w.StartAgent(w.ctx, w.as(server)); err != nil {
		w.t.Fatal(err)
	}
	began := time.Now()
	w.await(func(v view.View) bool {
		s := w.find(v, server)
		return s.Health == view.Stopped && s.LastContactSeconds < time.Since(began).Seconds()
	})
	if err := w.server(server).StartByHand(w.ctx); err != nil {
		w.t.Fatal(err)
	}
	w.await(func(v view.View) bool {
		s := w.find(v, server)
		return s.Health == view.TakesWrites && s.Observation.Process.Identity != before
	})
	w.fenced()
}

// freezeDisk has a server's file system take nothing more, until thaw.
func (w *world) freezeDisk(server string) (thaw func()) {
	w.t.Helper()
	dir := w.server(server).DataDir
	w.t.Cleanup(func() { exec.Command("fsfreeze", "-u", dir).Run() })
	command(w, "fsfreeze", "-f", dir)
	return func() { command(w, "fsfreeze", "-u", dir) }
}

func command(w *world, name string, args ...string) {
	w.t.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		w.t.Fatal(fmt.Errorf("%s %v: %w: %s", name, args, err, out))
	}
}
