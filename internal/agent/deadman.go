package agent

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"crosstwin/internal/deadman"
	"crosstwin/internal/engine/host"
)

// RunDeadman is the deadman beside the agent of a directory: a process of its own.
func RunDeadman(ctx context.Context, dir string, log *slog.Logger) error {
	uid, gid, err := deadman.Owner(dir)
	if err != nil {
		return err
	}
	deadman.LockMemory(uid, log)
	if err := deadman.Become(uid, gid); err != nil {
		return err
	}
	cfg, err := LoadConfig(dir)
	if err != nil {
		return err
	}
	log = log.With("server", cfg.Server, "cluster", cfg.Cluster)
	var watchdog *deadman.Watchdog
	if cfg.Watchdog != "" { // as the owner of the directory: whoever that is chose the path
		if watchdog, err = deadman.OpenWatchdog(cfg.Watchdog, log); err != nil {
			log.Error("the host is not reset when its database cannot be stopped", "error", err)
		}
	}
	log.Info("deadman serves", "data_dir", cfg.DataDir)
	return deadman.Run(ctx, filepath.Join(dir, deadman.SocketFile), &opened{dir: dir, data: cfg.data()}, watchdog,
		log)
}

// opened is the database as the deadman sees it: its processes, and what the agent left
// on disk of them.
type opened struct {
	dir  string
	data *host.Data

	mu    sync.Mutex
	known map[string]bool // processes that were there while a permission ran
	left  state           // what the agent left on disk, as it was read last
}

// readLimit is how long a disk may take to say what the agent left: one that hangs holds
// nothing up.
const readLimit = 100 * time.Millisecond

// read returns what the agent left on disk, or what it had left before. While nothing could
// be read ever, nothing is known to be under fencing, and nothing is killed.
func (o *opened) read() state {
	type found struct {
		m   *memory
		err error
	}
	c := make(chan found, 1)
	go func() {
		m, err := openMemory(o.dir)
		c <- found{m, err}
	}()
	select {
	case f := <-c:
		if f.err == nil {
			o.mu.Lock()
			o.left = f.m.get()
			o.mu.Unlock()
		}
	case <-time.After(readLimit):
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.left
}

// MayBeOpen implements deadman.Database. A process may be open when it is being opened,
// is the one that was opened, or was there with that one: children outlive their server. One
// that was killed and waits for its disk can acknowledge nothing any more.
func (o *opened) MayBeOpen() bool {
	s := o.read()
	if !s.Fencing || s.Open == "" && !s.Opening {
		return false
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, pid := range o.data.Processes() {
		id := host.ProcessIdentity(pid)
		if (s.Opening || o.known[id] || id != "" && strings.HasPrefix(s.Open, id)) && !host.Doomed(pid) {
			return true
		}
	}
	return false
}

// Remember implements deadman.Database.
func (o *opened) Remember() error {
	s := o.read()
	known := map[string]bool{}
	for _, pid := range o.data.Processes() {
		if err := syscall.Kill(pid, 0); err == syscall.EPERM {
			return fmt.Errorf("process %d of %s is another user's", pid, o.data.Name)
		}
		known[host.ProcessIdentity(pid)] = true
	}
	if id := processOf(s.Open); id != "" && !known[id] {
		return fmt.Errorf("process %s of %s takes writes and is not found by its data directory", id, o.data.Name)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.known = known
	return nil
}

// processOf returns what identifies the process of an open database, while that lives.
func processOf(open string) string {
	text, _, _ := strings.Cut(open, " ")
	pid, err := strconv.Atoi(text)
	if err != nil {
		return ""
	}
	if id := host.ProcessIdentity(pid); id != "" && strings.HasPrefix(open, id) && host.Alive(pid) {
		return id
	}
	return ""
}

// killedFile says that the deadman killed the database, so that its agent starts it again.
const killedFile = "killed-by-deadman"

// Kill implements deadman.Database.
func (o *opened) Kill() error {
	defer func() { go os.WriteFile(filepath.Join(o.dir, killedFile), nil, 0o600) }()
	if left := o.data.KillNow(killLimit); len(left) > 0 {
		return fmt.Errorf("processes %v of %s do not end", left, o.data.Name)
	}
	return nil
}
