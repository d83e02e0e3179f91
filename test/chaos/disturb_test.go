package chaos

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// during does something, and puts it right after a while; heal does so at the latest.
func (s *schedule) during(name string, long time.Duration, undo func()) {
	s.mu.Lock()
	if s.undo[name] != nil {
		s.mu.Unlock()
		return
	}
	s.undo[name] = undo
	s.mu.Unlock()
	s.tell("%s for %s", name, long)
	time.Sleep(long)
	s.mu.Lock()
	mine := s.undo[name]
	delete(s.undo, name)
	s.mu.Unlock()
	if mine != nil {
		mine()
	}
}

func (s *schedule) killAgent(name string, long time.Duration) {
	if err := s.KillAgent(name); err != nil {
		s.tell("the agent of %s was down already", name)
		return
	}
	s.during("killed the agent of "+name, long, func() {
		if err := s.StartAgent(s.ctx, name); err != nil {
			s.tell("the agent of %s does not start: %v", name, err)
		}
	})
}

func (s *schedule) killService(long time.Duration) {
	if err := syscall.Kill(s.ServicePID(), syscall.SIGKILL); err != nil {
		s.tell("the service was down already")
		return
	}
	if err := s.WaitServiceGone(s.ctx); err != nil {
		s.tell("the service does not end: %v", err)
	}
	s.during("killed the service", long, func() {
		if err := s.StartService(s.ctx); err != nil {
			s.tell("the service does not start: %v", err)
		}
	})
}

// databaseProcesses lists the processes that work in a server's data.
func databaseProcesses(server *demo.Server) (out []int) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		if cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid)); err == nil && cwd == server.DataDir {
			out = append(out, pid)
		}
	}
	return out
}

func (s *schedule) freezeDatabase(server *demo.Server, long time.Duration) {
	frozen := databaseProcesses(server)
	for _, pid := range frozen {
		syscall.Kill(pid, syscall.SIGSTOP)
	}
	s.during("froze the database of "+server.Name, long, func() {
		for _, pid := range frozen {
			syscall.Kill(pid, syscall.SIGCONT)
		}
	})
}

func (s *schedule) freezeAgent(name string, long time.Duration) {
	pid := s.AgentPID(name)
	if syscall.Kill(pid, syscall.SIGSTOP) != nil {
		return
	}
	s.during("froze the agent of "+name, long, func() { syscall.Kill(pid, syscall.SIGCONT) })
}

// fence switches fencing on, and automatic failover with it or not, and waits until the
// primary has a permission.
func (s *schedule) fence(automatic bool) {
	if err := s.SetPolicy(s.ctx, func(p *cluster.Policy) {
		p.Fencing, p.Automatic.On, p.Automatic.QuietSeconds = true, automatic, 0
		if automatic {
			p.Automatic.Rejoin = cluster.RejoinAfterSaving
		}
	}); err != nil {
		s.t.Fatal(err)
	}
	if err := s.Await(s.ctx, func(v view.View) bool {
		return v.Permission != nil && v.Permission.Seconds > 0 && v.CanLose > 0
	}); err != nil {
		s.t.Fatal(err)
	}
	s.tell("fencing is on, automatic failover: %t", automatic)
}

// disturbDeadman kills or freezes a server's deadman, where there is one.
func (s *schedule) disturbDeadman(server *demo.Server, kill bool, long time.Duration) {
	pid := s.DeadmanPID(server.Name)
	switch {
	case pid == 0:
		s.tell("%s has no deadman", server.Name)
	case kill:
		syscall.Kill(pid, syscall.SIGKILL)
		s.tell("killed the deadman of %s", server.Name)
	case syscall.Kill(pid, syscall.SIGSTOP) == nil:
		s.during("froze the deadman of "+server.Name, long, func() { syscall.Kill(pid, syscall.SIGCONT) })
	}
}

// smallDisks gives the replicas, which are still empty, disks that can be filled.
func (s *schedule) smallDisks() {
	owner := "postgres"
	if s.Name == demo.Cargo {
		owner = "mysql"
	}
	for _, x := range s.Servers[1:] {
		if err := os.MkdirAll(x.DataDir, 0o700); err != nil {
			s.t.Fatal(err)
		}
		out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=900m,mode=0700,uid="+owner+",gid="+owner, "tmpfs",
			x.DataDir).CombinedOutput()
		if err != nil {
			s.t.Fatalf("cannot mount: %v %s", err, out)
		}
	}
	// Its databases end first: they are found by the directory in which they work.
	s.t.Cleanup(func() {
		s.Stop()
		for _, x := range s.Servers[1:] {
			unmount(x)
		}
	})
}

// unmount takes a server's disk away, once nothing works there any more: a process
// that was started at the very end may still be about to go.
func unmount(x *demo.Server) {
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if exec.Command("umount", x.DataDir).Run() == nil {
			return
		}
		for _, pid := range databaseProcesses(x) {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	exec.Command("umount", "-l", x.DataDir).Run()
}

// fill leaves no room on a replica's disk for a while.
func (s *schedule) fill(server *demo.Server, long time.Duration) {
	var at, above syscall.Stat_t
	if syscall.Stat(server.DataDir, &at) != nil || syscall.Stat(filepath.Dir(server.DataDir), &above) != nil ||
		at.Dev == above.Dev {
		s.tell("%s has no disk of its own to fill", server.Name)
		return
	}
	name := filepath.Join(server.DataDir, "filler")
	var fs syscall.Statfs_t
	if syscall.Statfs(server.DataDir, &fs) != nil {
		return
	}
	if out, err := exec.Command("fallocate", "-l", fmt.Sprint(int64(fs.Bavail)*fs.Bsize),
		name).CombinedOutput(); err != nil &&
		!strings.Contains(string(out), "No space") {
		s.tell("the disk of %s could not be filled: %v %s", server.Name, err, out)
	}
	s.during("filled the disk of "+server.Name, long, func() { os.Remove(name) })
}
