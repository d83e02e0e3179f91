package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/engine/host"
)

// process is what the pid file says of a running server.
type process struct {
	pid     int
	started string
	status  string // ready, standby, starting, stopping
}

// running returns the server process of this data directory, if there is one. A
// process that has ended and waits to be reaped does not count: init reaps
// late on some machines.
func (e *Engine) running() (process, bool) {
	b, err := e.ReadFile(e.Path("postmaster.pid"))
	if err != nil {
		return process{}, false
	}
	lines := strings.Split(string(b), "\n")
	p := process{status: "starting"} // it has its file some moments before it says how it is
	if p.pid, err = strconv.Atoi(strings.TrimSpace(lines[0])); err != nil || p.pid <= 0 {
		return process{}, false
	}
	if len(lines) > 2 {
		p.started = strings.TrimSpace(lines[2])
	}
	if len(lines) > 7 {
		p.status = strings.TrimSpace(lines[7])
	}
	return p, host.Alive(p.pid) && e.Ours(p.pid)
}

// orphans lists children of a server process; they are told by the title that
// the server gives them. Asked for when no server process is known.
func (e *Engine) orphans() (out []int) {
	for _, pid := range e.Processes() {
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err == nil &&
			strings.HasPrefix(string(b), "postgres: ") {
			out = append(out, pid)
		}
	}
	return out
}

// Start implements engine.Engine.
func (e *Engine) Start(ctx context.Context, as observation.Role) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if u := e.memory.Unfinished(); u != "" {
		return fmt.Errorf(
			"%s: a %s was interrupted in %s: its files are inconsistent and it must not be started; seed or rejoin it again",
			e.cfg.Name, u, e.cfg.DataDir)
	}
	if as == observation.Primary {
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
	if o := e.Observe(ctx, false); o.Process.Accepting && o.Process.Writable {
		return e.Close()
	} else if o.Process.Accepting {
		if err := e.Stop(ctx); err != nil {
			return err
		}
	}
	if err := e.waitGone(ctx); err != nil {
		return err
	}
	if err := e.RemoveSynced(e.Path("standby.signal")); err != nil {
		return fmt.Errorf("open %s for writes: %w", e.cfg.Name, err)
	}
	err := e.launch(ctx)
	// Whatever came of it, the next start by somebody else is read-only.
	return errors.Join(err, e.Close())
}

// Close implements engine.Engine: it puts standby.signal in place.
func (e *Engine) Close() error {
	if e.Closed() {
		return nil
	}
	if err := e.WriteOwned(e.Path("standby.signal"), nil); err != nil {
		return fmt.Errorf("close %s by default: %w", e.cfg.Name, err)
	}
	return nil
}

// Closed implements engine.Engine.
func (e *Engine) Closed() bool {
	if _, err := e.Stat(e.Path("PG_VERSION")); err != nil {
		return true
	}
	_, err := e.Stat(e.Path("standby.signal"))
	return err == nil
}

// telling are the words that make a line of the log worth repeating.
var telling = []string{"FATAL", "invalid value", "syntax error", "PANIC", "DETAIL", "HINT", "could not"}

// launch starts the server process and waits until it answers.
func (e *Engine) launch(ctx context.Context, extra ...string) error {
	if err := errors.Join(e.claimIdentity(ctx), e.claimEncryption(), e.claimSynchronous()); err != nil {
		return err
	}
	s, err := e.startProcess(ctx, extra)
	if err != nil {
		return err
	}
	err = s.Await(ctx, func() bool {
		p, ok := e.running()
		return ok && (s.PID == 0 || p.pid == s.PID) && (p.status == "ready" || p.status == "standby")
	}, 3*time.Millisecond, telling...)
	if err == nil {
		e.pool.Reset() // connections to the process before are of no use
	}
	return err
}

// startProcess starts the server's process: as its host does, or itself where that does not, or
// where it is started with further settings, for a moment and for the agent alone.
func (e *Engine) startProcess(ctx context.Context, extra []string) (*host.Server, error) {
	if e.ByHost() && len(extra) == 0 {
		return e.StartByHost(ctx, e.cfg.LogFile)
	}
	if err := e.SettleHost(ctx); err != nil {
		return nil, err
	}
	return e.Spawn(e.cfg.LogFile, "postgres", e.serverArgs(extra...)...)
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
		if fi, err := e.Stat(e.Path("global", "pg_control")); err == nil && fi.ModTime() != changed {
			changed = fi.ModTime()
			if c, err := e.control(ctx); err == nil && c.Clean() {
				return nil
			}
		}
		if !host.Alive(p.pid) {
			c, err := e.control(ctx)
			if err != nil {
				return err
			}
			if !c.Clean() {
				return fmt.Errorf("%s stopped, but not cleanly: its data says %q", e.cfg.Name, c.State)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf(
				"%s did not stop in time: a session may hang; see select * from pg_stat_activity and the server's log %s",
				e.cfg.Name, e.cfg.LogFile)
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
		left := e.Processes()
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
				if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err == nil &&
					strings.Contains(string(b), "walsender") {
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
		b, err := e.ReadFile(e.Path("postmaster.pid"))
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
		for err == nil && host.Alive(p.pid) && soft.Err() == nil {
			time.Sleep(5 * time.Millisecond)
		}
		cancel()
	}
	// One that answers nobody would not hear this either.
	if p, ok := e.running(); ok && !e.silent.Is(host.ProcessIdentity(p.pid)) {
		syscall.Kill(p.pid, syscall.SIGQUIT)
		for end := time.Now().Add(quitGrace); time.Now().Before(end) && len(e.Processes()) > 0; {
			time.Sleep(2 * time.Millisecond)
		}
	}
	tell := e.EndByHost
	if e.cfg.Unit != "" { // which notices by itself, and starts nothing again (as packaged)
		tell = func(context.Context) error { return nil }
	}
	return e.KillAll(ctx, e.Close, tell)
}

// notInRecovery is what functions of a replica raise on a primary:
// object_not_in_prerequisite_state.
const notInRecovery = "55000"

func isCode(err error, code string) bool {
	var pe *pgconn.PgError
	return errors.As(err, &pe) && pe.Code == code
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
			// Recovery may end between the look and the request: no failure.
			if err := e.exec(ctx, "select pg_promote(false)"); err != nil && !isCode(err, notInRecovery) {
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
	out, _, err := e.Run(ctx, "pg_controldata", "-D", e.cfg.DataDir)
	if err != nil {
		return pgtool.Control{}, err
	}
	return pgtool.ParseControl(out)
}
