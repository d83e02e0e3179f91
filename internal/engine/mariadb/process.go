package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/engine/host"
)

// telling are the words that make a line of the log worth repeating.
var telling = []string{"[ERROR]", "unknown variable", "unknown option", "Permission denied", "No space"}

// running returns the server's process, if there is one.
func (e *Engine) running() (int, bool) {
	e.seen.Lock()
	pid := e.seen.pid
	e.seen.Unlock()
	if pid > 0 && e.Ours(pid) && host.Alive(pid) {
		return pid, true
	}
	left := e.Processes()
	if len(left) == 0 {
		return 0, false
	}
	e.seen.Lock()
	e.seen.pid = left[0]
	e.seen.Unlock()
	return left[0], true
}

// Start implements engine.Engine. A replica is started read-only and without
// replication: whom it follows is another verb.
func (e *Engine) Start(ctx context.Context, as observation.Role) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if u := e.memory.Unfinished(); u != "" {
		return fmt.Errorf(
			"%s: a %s was interrupted in %s: its data is inconsistent and it must not be started; seed or rejoin it again",
			e.cfg.Name, u, e.cfg.DataDir)
	}
	if err := e.launch(ctx); err != nil {
		return err
	}
	if as == observation.Primary {
		return e.open(ctx)
	}
	return nil
}

// open makes a server that runs the primary: it follows nobody and takes writes.
func (e *Engine) open(ctx context.Context) error {
	// Following ends first: a primary must not apply another server's writes.
	if err := e.exec(ctx, "stop all slaves; reset slave all"); err != nil {
		return fmt.Errorf("end replication: %w", err)
	}
	e.dropHold(ctx)
	e.noteOpen()
	if err := e.beforeOpening(ctx); err != nil {
		return err
	}
	if err := e.exec(ctx, "set global read_only = 0"); err != nil {
		return fmt.Errorf("open it for writes: %w", err)
	}
	return errors.Join(e.restoreEvents(ctx), e.Close())
}

// launch starts the server process, read-only and without replication, and
// waits until it answers.
func (e *Engine) launch(ctx context.Context) error {
	if _, ok := e.running(); ok {
		return e.awaitAnswer(ctx)
	}
	if e.Empty() {
		return fmt.Errorf("%s holds no database: seed it first", e.cfg.DataDir)
	}
	if err := e.rememberScheduler(ctx); err != nil {
		return err
	}
	s, err := e.startProcess(ctx)
	if err != nil {
		return err
	}
	if err := s.Await(ctx, func() bool { return e.answers(ctx) == nil }, 20*time.Millisecond, telling...); err != nil {
		return err
	}
	e.markData()
	if e.startsByFile() {
		return e.endStart()
	}
	return nil
}

// startProcess starts the server's process: as its host does, or itself where that does not.
func (e *Engine) startProcess(ctx context.Context) (*host.Server, error) {
	if e.startsByFile() {
		claim := e.claimStart
		if e.apart() {
			claim = e.claimWanted
		}
		if err := errors.Join(claim(ctx), e.Close()); err != nil {
			return nil, err
		}
	}
	if e.ByHost() {
		return e.StartByHost(ctx, e.cfg.LogFile)
	}
	if e.apart() {
		return e.Spawn(e.cfg.LogFile, daemon, "--defaults-file="+e.cfg.ConfigFile)
	}
	return e.Spawn(e.cfg.LogFile, daemon, e.arguments("--read-only=1", "--skip-slave-start", "--event-scheduler=OFF")...)
}

// rememberScheduler notes whether the configuration has the event scheduler run.
// A server starts without it: an event of a fresh copy would write there despite
// read_only where its definer may. It runs again where it is primary.
func (e *Engine) rememberScheduler(ctx context.Context) error {
	given, err := e.given(ctx)
	if err != nil {
		return err
	}
	if value, ok := given["event_scheduler"]; ok && schedulerOn(value) {
		e.remember(rememberEvents, "ON")
	}
	return nil
}

// schedulerOn reports whether a value of event_scheduler has it run.
func schedulerOn(value string) bool {
	switch strings.ToLower(value) {
	case "", "on", "1", "true":
		return true
	}
	return false
}

// arguments are what the agent knows better than the configuration file: where
// this server lives and that it starts closed.
func (e *Engine) arguments(more ...string) []string {
	return append([]string{"--defaults-file=" + e.cfg.ConfigFile, "--datadir=" + e.cfg.DataDir, "--socket=" + e.cfg.Socket,
		"--port=" + strconv.Itoa(e.cfg.Port),
		"--bind-address=" + e.cfg.Listen, "--report-host=" + e.cfg.Name}, more...)
}

// answers tries whether the server takes a query over its socket.
func (e *Engine) answers(ctx context.Context) error {
	try, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	_, err := e.text(try, "select 1")
	return err
}

// awaitAnswer waits for a server that somebody else is starting.
func (e *Engine) awaitAnswer(ctx context.Context) error {
	for {
		err := e.answers(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s runs and does not answer in time: %w", e.cfg.Name, err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// How long a leaving server is given before it is pressed.
const (
	sendGrace = time.Second
	stopGrace = 5 * time.Second
)

// Fence implements engine.Engine. Gently: writes end, the replicas get what
// is there, the server leaves cleanly. Then whatever is left is
// killed: a frozen process too takes no write after that (measured).
func (e *Engine) Fence(ctx context.Context, gently bool) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, ok := e.running(); ok && gently {
		soft, cancel := context.WithTimeout(ctx, stopGrace)
		if e.quiesce(soft) == nil {
			e.awaitSent(soft)
		}
		// The hold stays until the shutdown ends its session: released before, it
		// would let privileged sessions commit in between.
		if e.exec(soft, "shutdown") == nil {
			for soft.Err() == nil && len(e.Processes()) > 0 {
				time.Sleep(10 * time.Millisecond)
			}
		}
		cancel()
	}
	e.forgetHold()
	// A unit starts again what was killed, unless it is told that this was meant.
	return e.KillAll(ctx, e.Close, e.EndByHost)
}

// awaitSent waits a moment until every connected replica has been sent all.
func (e *Engine) awaitSent(ctx context.Context) {
	for end := time.Now().Add(sendGrace); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		n, err := e.text(ctx,
			"select count(*) from information_schema.processlist where command = 'Binlog Dump' and state not like '%has "+
				"sent all binlog%'")
		if err != nil || n == "0" {
			return
		}
	}
}
