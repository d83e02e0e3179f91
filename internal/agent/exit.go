package agent

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"crosstwin/internal/engine/host"
)

// endOrphans kills what a database that takes writes leaves behind when its first process
// ends: its children go on acknowledging what nobody replicates any more (measured: for as
// long as their clients keep them busy). One at a time until ctx ends.
func (p *permission) endOrphans(ctx context.Context) {
	for ctx.Err() == nil {
		s := p.a.memory.get()
		if !s.Fencing || s.Open == "" {
			sleep(ctx, orphanPause)
			continue
		}
		known := map[int]string{}
		for _, pid := range p.a.data.Processes() {
			known[pid] = host.ProcessIdentity(pid)
		}
		wait, cancel := context.WithTimeout(ctx, orphanLook)
		ended := awaitExit(wait, s.Open)
		cancel()
		if !ended {
			continue
		}
		for pid, identity := range known { // whoever was started since is another server
			if identity != "" && host.ProcessIdentity(pid) == identity && p.a.data.Ours(pid) {
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		sleep(ctx, orphanPause) // until a look has found that nothing is open
	}
}

// orphanLook is how often it is looked which processes there are.
const (
	orphanPause = 500 * time.Millisecond
	orphanLook  = 2 * time.Second
)

// exitWait is how long a call waits for the database's exit before it comes back.
const exitWait = 25 * time.Second

// serveExit answers when the process that takes writes here has ended, or after a while:
// the kernel says so at once.
func (a *Agent) serveExit(w http.ResponseWriter, r *http.Request) error {
	open := a.memory.get().Open
	limit := exitWait
	if open == "" {
		limit = orphanPause // soon something may be
	}
	ctx, cancel := context.WithTimeout(r.Context(), limit)
	defer cancel()
	return answer(w, awaitExit(ctx, open))
}

// awaitExit waits for the end of a process by its identity, and reports whether it has
// ended; not that of one that cannot be watched.
func awaitExit(ctx context.Context, identity string) bool {
	text, _, _ := strings.Cut(identity, " ")
	pid, err := strconv.Atoi(text)
	if err != nil {
		<-ctx.Done()
		return false
	}
	fd, err := unix.PidfdOpen(pid, 0)
	if err == unix.ESRCH {
		return true
	}
	if err != nil {
		<-ctx.Done()
		return false
	}
	defer unix.Close(fd)
	if now := host.ProcessIdentity(pid); now == "" || !strings.HasPrefix(identity, now) {
		return true // another process has its number
	}
	const slice = 200 // ms; between two slices it is looked whether anybody still waits
	for ctx.Err() == nil {
		fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		if n, err := unix.Poll(fds, slice); err == nil && n > 0 {
			return true
		}
	}
	return false
}
