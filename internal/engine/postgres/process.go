package postgres

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/core/pgtool"
)

func lookupUser(name string) (identity, error) {
	if name == "" {
		if os.Geteuid() != 0 {
			return identity{uint32(os.Geteuid()), uint32(os.Getegid())}, nil
		}
		name = "postgres"
	}
	u, err := user.Lookup(name)
	if err != nil {
		return identity{}, fmt.Errorf("user %q, who is to own the database's files: %w", name, err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return identity{uint32(uid), uint32(gid)}, nil
}

// groupsOf gives a user's further groups: a server may be allowed to read its
// TLS key only by one of them.
func groupsOf(uid uint32) []uint32 {
	u, err := user.LookupId(strconv.Itoa(int(uid)))
	if err != nil {
		return nil
	}
	ids, err := u.GroupIds()
	if err != nil {
		return nil
	}
	var out []uint32
	for _, s := range ids {
		if n, err := strconv.ParseUint(s, 10, 32); err == nil {
			out = append(out, uint32(n))
		}
	}
	return out
}

// command prepares a program of the server's to run as the owner of the data.
func (e *Engine) command(ctx context.Context, program string, args ...string) (*exec.Cmd, error) {
	id, err := e.owner()
	if err != nil {
		return nil, err
	}
	c := exec.CommandContext(ctx, filepath.Join(e.cfg.BinDir, program), args...)
	c.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC", "PGCONNECT_TIMEOUT=10", "PGTZ=UTC"}
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if os.Geteuid() == 0 {
		c.SysProcAttr.Credential = &syscall.Credential{Uid: id.uid, Gid: id.gid, Groups: groupsOf(id.uid)}
	}
	return c, nil
}

// run runs a utility and gives what it printed. The error holds its last
// words.
func (e *Engine) run(ctx context.Context, program string, args ...string) (stdout, stderr string, err error) {
	c, err := e.command(ctx, program, args...)
	if err != nil {
		return "", "", err
	}
	var out, problems bytes.Buffer
	c.Stdout, c.Stderr = &out, &problems
	if err = c.Run(); err != nil {
		err = fmt.Errorf("%s on %s: %w: %s", program, e.cfg.Name, err, lastLines(problems.String()+out.String(), 3))
	}
	return out.String(), problems.String(), err
}

// runWatched runs a long utility, hands each line (parted by newline or
// carriage return) to see, and ends it when ctx ends.
func (e *Engine) runWatched(ctx context.Context, see func(line string), program string, args ...string) error {
	c, err := e.command(ctx, program, args...)
	if err != nil {
		return err
	}
	// The utility must not outlive its agent: a half-made copy that is still
	// being written could not be cleared.
	c.SysProcAttr.Pdeathsig = syscall.SIGKILL
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	c.Stdout, c.Stderr = w, w
	started := make(chan error, 1)
	exited := make(chan error, 1)
	go func() {
		// Pdeathsig is sent when the starting thread ends: keep it to the end.
		lockThread()
		err := c.Start()
		started <- err
		if err == nil {
			exited <- c.Wait()
		}
	}()
	err = <-started
	w.Close()
	defer r.Close()
	if err != nil {
		return fmt.Errorf("%s on %s: %w", program, e.cfg.Name, err)
	}
	var last []string
	sc := bufio.NewScanner(r)
	sc.Buffer(make([]byte, 64<<10), 1<<20)
	sc.Split(splitLines)
	for sc.Scan() {
		line := strings.TrimSpace(sc.Text())
		if line == "" {
			continue
		}
		see(line)
		if last = append(last, line); len(last) > 4 {
			last = last[1:]
		}
	}
	io.Copy(io.Discard, r)
	if err := <-exited; err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("%s on %s was ended: %w", program, e.cfg.Name, ctx.Err())
		}
		return fmt.Errorf("%s on %s: %w: %s", program, e.cfg.Name, err, strings.Join(last, " | "))
	}
	return nil
}

func splitLines(data []byte, atEOF bool) (int, []byte, error) {
	if i := bytes.IndexAny(data, "\r\n"); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

func lastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	if len(lines) > n {
		lines = lines[len(lines)-n:]
	}
	return strings.Join(lines, " | ")
}

// process is what the pid file says of a running server.
type process struct {
	pid     int
	started string
	status  string // ready, standby, starting, stopping
}

// running gives the server process of this data directory, if there is one. A
// process that has ended and waits to be reaped does not count: init reaps
// late on some machines.
func (e *Engine) running() (process, bool) {
	b, err := os.ReadFile(e.path("postmaster.pid"))
	if err != nil {
		return process{}, false
	}
	lines := strings.Split(string(b), "\n")
	p := process{}
	if p.pid, err = strconv.Atoi(strings.TrimSpace(lines[0])); err != nil || p.pid <= 0 {
		return process{}, false
	}
	if len(lines) > 2 {
		p.started = strings.TrimSpace(lines[2])
	}
	if len(lines) > 7 {
		p.status = strings.TrimSpace(lines[7])
	}
	return p, alive(p.pid) && e.ours(p.pid)
}

// alive tells whether a process exists and is not a zombie.
func alive(pid int) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	// The state follows the command's name in parentheses.
	i := bytes.LastIndexByte(b, ')')
	return i > 0 && i+2 < len(b) && b[i+2] != 'Z' && b[i+2] != 'X'
}

// ours tells whether a process is the server, or a child of it, that works in
// this data directory. A shell that somebody opened there is neither.
func (e *Engine) ours(pid int) bool {
	if comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid)); err != nil || strings.TrimSpace(string(comm)) != "postgres" {
		return false
	}
	cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return false
	}
	real, err := filepath.EvalSymlinks(e.cfg.DataDir)
	return err == nil && cwd == real
}

// processes lists all living processes that work in the data directory: the
// server and its children, also those that outlived it.
func (e *Engine) processes() []int {
	entries, _ := os.ReadDir("/proc")
	var out []int
	for _, d := range entries {
		if pid, err := strconv.Atoi(d.Name()); err == nil && e.ours(pid) && alive(pid) {
			out = append(out, pid)
		}
	}
	return out
}

// Start implements engine.Engine.
func (e *Engine) Start(ctx context.Context, as string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if u := e.memory.Unfinished(); u != "" {
		return fmt.Errorf("%s: a %s broke off in %s: its files belong to no single moment and it must not be started; seed or rejoin it again", e.cfg.Name, u, e.cfg.DataDir)
	}
	if as == "primary" {
		return e.startPrimary(ctx)
	}
	if p, ok := e.running(); ok && (p.status == "ready" || p.status == "standby" || p.status == "starting") {
		return e.waitReady(ctx, p)
	}
	if err := e.waitGone(ctx); err != nil {
		return err
	}
	if err := e.Close(); err != nil {
		return err
	}
	return e.launch(ctx)
}

// startPrimary opens the data for writes on its own history.
func (e *Engine) startPrimary(ctx context.Context) error {
	if o := e.Observe(ctx, false); o.Accepting && o.Writable {
		return e.Close()
	} else if o.Accepting {
		if err := e.Stop(ctx); err != nil {
			return err
		}
	}
	if err := e.waitGone(ctx); err != nil {
		return err
	}
	if err := removeSynced(e.path("standby.signal")); err != nil {
		return fmt.Errorf("open %s for writes: %w", e.cfg.Name, err)
	}
	err := e.launch(ctx)
	// Whatever came of it, the next start by somebody else is read-only.
	return errors.Join(err, e.Close())
}

// Close implements engine.Engine: it puts standby.signal in place.
func (e *Engine) Close() error {
	if _, err := os.Stat(e.path("PG_VERSION")); err != nil {
		return nil // nothing to close yet
	}
	if _, err := os.Stat(e.path("standby.signal")); err == nil {
		return nil
	}
	if err := e.writeOwned(e.path("standby.signal"), nil); err != nil {
		return fmt.Errorf("close %s by default: %w", e.cfg.Name, err)
	}
	return nil
}

// launch starts the server process and waits until it answers. The process is
// a child of the agent, so it is reaped at once, but in a session of its own:
// it outlives the agent.
func (e *Engine) launch(ctx context.Context, extra ...string) error {
	id, err := e.owner()
	if err != nil {
		return err
	}
	if err := e.claimIdentity(); err != nil {
		return err
	}
	args := append([]string{"-D", e.cfg.DataDir}, extra...)
	c, err := e.command(context.Background(), "postgres", args...)
	if err != nil {
		return err
	}
	log, err := os.OpenFile(e.cfg.LogFile, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("log file of %s: %w", e.cfg.Name, err)
	}
	defer log.Close()
	os.Chown(e.cfg.LogFile, int(id.uid), int(id.gid))
	from, _ := log.Seek(0, io.SeekEnd)
	c.Stdout, c.Stderr = log, log
	if err := c.Start(); err != nil {
		return fmt.Errorf("start %s: %w", e.cfg.Name, err)
	}
	exited := make(chan struct{})
	go func() { c.Wait(); close(exited) }()
	for {
		if p, ok := e.running(); ok && p.pid == c.Process.Pid && (p.status == "ready" || p.status == "standby") {
			e.pool.Reset() // connections to the process before are of no use
			return nil
		}
		select {
		case <-exited:
			return fmt.Errorf("start %s: the server ended again; its log says: %s", e.cfg.Name, e.logSince(from))
		case <-ctx.Done():
			return fmt.Errorf("start %s: not ready in time; its log says: %s", e.cfg.Name, e.logSince(from))
		case <-time.After(3 * time.Millisecond):
		}
	}
}

func (e *Engine) waitReady(ctx context.Context, p process) error {
	for p.status == "starting" {
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s is starting and not ready in time", e.cfg.Name)
		case <-time.After(20 * time.Millisecond):
		}
		var ok bool
		if p, ok = e.running(); !ok {
			return fmt.Errorf("%s ended while it was starting; see %s", e.cfg.Name, e.cfg.LogFile)
		}
	}
	return nil
}

// logSince gives the last telling lines of the server's log.
func (e *Engine) logSince(offset int64) string {
	f, err := os.Open(e.cfg.LogFile)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	f.Seek(offset, io.SeekStart)
	b, _ := io.ReadAll(io.LimitReader(f, 64<<10))
	var telling []string
	for _, line := range strings.Split(string(b), "\n") {
		if strings.Contains(line, "FATAL") || strings.Contains(line, "invalid value") || strings.Contains(line, "syntax error") || strings.Contains(line, "PANIC") || strings.Contains(line, "HINT") || strings.Contains(line, "could not") {
			telling = append(telling, strings.TrimSpace(line))
		}
	}
	if len(telling) == 0 {
		return lastLines(string(b), 3)
	}
	return lastLines(strings.Join(telling, "\n"), 4)
}

// Stop implements engine.Engine. It returns when the control data says that
// the shutdown checkpoint is written: from then on nothing can be written, and
// the position is final. The process may take longer to leave (a replica that
// does not take its last bytes, a slow archive command).
func (e *Engine) Stop(ctx context.Context) error {
	p, ok := e.running()
	if !ok {
		return nil
	}
	if err := syscall.Kill(p.pid, syscall.SIGINT); err != nil {
		return fmt.Errorf("stop %s (process %d): %w", e.cfg.Name, p.pid, err)
	}
	var changed time.Time
	for {
		if fi, err := os.Stat(e.path("global", "pg_control")); err == nil && fi.ModTime() != changed {
			changed = fi.ModTime()
			if c, err := e.control(ctx); err == nil && c.Clean() {
				return nil
			}
		}
		if !alive(p.pid) {
			c, err := e.control(ctx)
			if err != nil {
				return err
			}
			if !c.Clean() {
				return fmt.Errorf("%s ended, but not in an orderly way: its data says %q", e.cfg.Name, c.State)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s did not stop in time: a session may hang; see select * from pg_stat_activity and the server's log %s", e.cfg.Name, e.cfg.LogFile)
		case <-time.After(time.Millisecond):
		}
	}
}

// How long a leaving process is given before it is pressed.
const (
	senderGrace = 500 * time.Millisecond
	leaveGrace  = 10 * time.Second
	quitGrace   = 3 * time.Second
	gentleGrace = 5 * time.Second
)

// waitGone waits until no process of the server is left. After the shutdown
// checkpoint nothing is lost by pressing those that stay: first the senders
// whose replica does not answer, then all.
func (e *Engine) waitGone(ctx context.Context) error {
	began := time.Now()
	pressed := false
	for {
		left := e.processes()
		if len(left) == 0 {
			return e.waitReaped(ctx)
		}
		c, err := e.control(ctx)
		stopping := err == nil && c.Clean()
		waited := time.Since(began)
		switch {
		case !stopping && waited > leaveGrace, waited > 2*leaveGrace:
			return e.fence(ctx, false)
		case stopping && waited > leaveGrace:
			for _, pid := range left {
				syscall.Kill(pid, syscall.SIGQUIT)
			}
		case stopping && waited > senderGrace && !pressed:
			pressed = true
			for _, pid := range left {
				if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err == nil && strings.Contains(string(b), "walsender") {
					syscall.Kill(pid, syscall.SIGTERM)
				}
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: processes %v are still there", e.cfg.Name, left)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// waitReaped waits while a dead server's process id is still in use by its own
// zombie: the server would refuse to start ("lock file already exists").
func (e *Engine) waitReaped(ctx context.Context) error {
	for {
		b, err := os.ReadFile(e.path("postmaster.pid"))
		if err != nil {
			return nil
		}
		pid, err := strconv.Atoi(strings.TrimSpace(strings.SplitN(string(b), "\n", 2)[0]))
		if err != nil || pid <= 0 || syscall.Kill(pid, 0) == syscall.ESRCH {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: process %d has ended and is not reaped by its parent", e.cfg.Name, pid)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Fence implements engine.Engine.
func (e *Engine) Fence(ctx context.Context, gently bool) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.fence(ctx, gently)
}

// fence stops the server the surest way: an orderly stop if there is time for
// it, then SIGQUIT, then SIGKILL to the server and every child. Killing only
// the server is not enough: its children go on committing (measured).
func (e *Engine) fence(ctx context.Context, gently bool) error {
	if p, ok := e.running(); ok && gently {
		soft, cancel := context.WithTimeout(ctx, gentleGrace)
		err := e.Stop(soft)
		for err == nil && alive(p.pid) && soft.Err() == nil {
			time.Sleep(5 * time.Millisecond)
		}
		cancel()
	}
	if p, ok := e.running(); ok {
		syscall.Kill(p.pid, syscall.SIGQUIT)
		for end := time.Now().Add(quitGrace); time.Now().Before(end) && len(e.processes()) > 0; {
			time.Sleep(2 * time.Millisecond)
		}
	}
	for range 200 {
		left := e.processes()
		if len(left) == 0 {
			return e.Close()
		}
		for _, pid := range left {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("%s could not be fenced: processes %v do not end", e.cfg.Name, e.processes())
}

// Promote implements engine.Engine. The request is repeated: sent within
// milliseconds of the old primary's stop, a single one can lie unheard for the
// 5 s of wal_retrieve_retry_interval (measured: 16 of 64 times; repeated: 0 of 150).
func (e *Engine) Promote(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	last := time.Time{}
	for {
		var replica bool
		if err := e.pool.QueryRow(ctx, "select pg_is_in_recovery()").Scan(&replica); err != nil {
			return fmt.Errorf("promote %s: %w", e.cfg.Name, err)
		}
		if !replica {
			return e.Close()
		}
		if time.Since(last) > 50*time.Millisecond {
			if err := e.exec(ctx, "select pg_promote(false)"); err != nil {
				return fmt.Errorf("promote: %w", err)
			}
			last = time.Now()
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("promote %s: still a replica when the time was up", e.cfg.Name)
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// control runs pg_controldata.
func (e *Engine) control(ctx context.Context) (pgtool.Control, error) {
	out, _, err := e.run(ctx, "pg_controldata", "-D", e.cfg.DataDir)
	if err != nil {
		return pgtool.Control{}, err
	}
	return pgtool.ParseControl(out)
}
