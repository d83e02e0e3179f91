package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"
)

// Commands are lines of the shell by which this host starts and stops a server where no
// service manager's unit does: Debian's cluster commands, or what a person gave. They run
// with the agent's own rights. As with a unit, the agent stops the server itself, as fast
// as without; the stop command is run afterwards, so that whatever watches over the server
// knows that it was meant to end.
type Commands struct {
	Start string
	Stop  string // empty: nothing else has to know of a stop
	// Status ends with 0 while the server runs, and with 3 when it does not (as in init
	// scripts of the Linux Standard Base, and pg_ctl); empty: there is none.
	Status string
}

// statusDown is what a status command ends with when the server does not run.
const statusDown = 3

// commandLimit bounds a stop or status command: nothing waits longer for it.
const commandLimit = 20 * time.Second

// appearLimit is how long a server may take to appear once its start command has ended well:
// one that starts it in the background ends before.
const appearLimit = 10 * time.Second

// shellCommand prepares a command line of the host's.
func shellCommand(ctx context.Context, line string) *exec.Cmd {
	c := exec.CommandContext(ctx, "/bin/sh", "-c", line) // #nosec G204 -- the agent's own configuration
	c.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8"}
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return c
}

// shell runs a command line of the host's; code is what it ended with, -1 where it did not.
func shell(ctx context.Context, line string) (code int, err error) {
	c := shellCommand(ctx, line)
	c.WaitDelay = time.Second // what it left behind may hold its output open
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	if err = c.Run(); errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	if err != nil {
		err = fmt.Errorf("%s: %w: %s", line, err, LastLines(out.String(), 3))
	}
	if c.ProcessState == nil {
		return -1, err
	}
	return c.ProcessState.ExitCode(), err
}

// runStart runs the start command to its end. What it says, and the server after it where
// that has no log of its own, goes to the server's log: a pipe would end with the agent.
func (d *Data) runStart(logFile string) error {
	out, err := d.appendLog(logFile)
	if err != nil {
		if out, err = os.OpenFile(os.DevNull, os.O_WRONLY, 0); err != nil {
			return err
		}
	}
	defer out.Close()
	// Ended with the wait for the server, it would take that along.
	c := shellCommand(context.Background(), d.Commands.Start)
	c.Stdout, c.Stderr = out, out
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s: %w", d.Commands.Start, err)
	}
	return nil
}

// Try makes sure that the status command says what is so.
func (c Commands) Try(ctx context.Context, runs bool) error {
	if c.Status == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, commandLimit)
	defer cancel()
	code, err := shell(ctx, c.Status)
	switch {
	case code == 0 && runs || code == statusDown && !runs:
		return nil
	case code == 0:
		return fmt.Errorf("%s says that the server runs, and it does not", c.Status)
	case code == statusDown:
		return fmt.Errorf("%s says that the server does not run, and it does", c.Status)
	}
	return fmt.Errorf("%w (it has to end with 0 while the server runs, and with %d when it does not)", err, statusDown)
}

// down reports whether the status command says that the server does not run; without one,
// whether no process is left.
func (d *Data) down(ctx context.Context) bool {
	if d.Commands.Status == "" {
		return len(d.Processes()) == 0
	}
	code, _ := shell(ctx, d.Commands.Status)
	return code == statusDown
}

// ByHost reports whether the host itself starts and stops the server, by a unit or by
// commands, and not its agent.
func (d *Data) ByHost() bool { return d.Unit != "" || d.Commands.Start != "" }

// SettleHost waits until whatever looks after a server on this host knows that it has ended.
func (d *Data) SettleHost(ctx context.Context) error {
	if d.Unit != "" || d.Commands.Start == "" || len(d.Processes()) > 0 {
		return d.settleUnit(ctx)
	}
	ctx, cancel := context.WithTimeout(ctx, settleLimit)
	defer cancel()
	if d.Commands.Status == "" || d.down(ctx) {
		return nil
	}
	err := d.EndByHost(ctx)
	for !d.down(ctx) {
		select {
		case <-ctx.Done():
			return errors.Join(fmt.Errorf("%s: %s still says that it runs", d.Name, d.Commands.Status), err)
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil
}

// EndByHost tells whatever looks after a server on this host that it was ended on purpose: it
// starts none again by itself.
func (d *Data) EndByHost(ctx context.Context) error {
	if d.Unit != "" || d.Commands.Stop == "" {
		return d.endUnit(ctx)
	}
	ctx, cancel := context.WithTimeout(ctx, commandLimit)
	defer cancel()
	if _, err := shell(ctx, d.Commands.Stop); err != nil && !d.down(ctx) {
		return err
	}
	return nil
}

// StartByHost has the host start the server, and does not wait until its command has ended:
// what the server writes and answers is known earlier.
func (d *Data) StartByHost(ctx context.Context, logFile string) (*Server, error) {
	if err := d.SettleHost(ctx); err != nil {
		return nil, err
	}
	from := int64(0)
	if f, err := d.OpenLog(logFile, os.O_RDONLY); err == nil {
		from, _ = f.Seek(0, io.SeekEnd)
		f.Close()
	}
	if d.Unit != "" {
		return d.startUnit(ctx, logFile, from)
	}
	exited := make(chan struct{})
	s := &Server{Exited: exited, from: from, data: d, log: logFile}
	ctx, s.awaited = context.WithCancel(ctx)
	go func() {
		defer close(exited)
		if err := d.runStart(logFile); err != nil {
			s.problem.set(err)
			return
		}
		seen := false
		for end := time.Now().Add(appearLimit); ctx.Err() == nil; time.Sleep(100 * time.Millisecond) {
			if len(d.Processes()) > 0 {
				seen = true
			} else if seen || time.Now().After(end) {
				return
			}
		}
	}()
	return s, nil
}

// problem is why a start by command failed.
type problem struct {
	sync.Mutex
	err error
}

func (p *problem) set(err error) {
	p.Lock()
	p.err = err
	p.Unlock()
}

func (p *problem) get() error {
	p.Lock()
	defer p.Unlock()
	return p.err
}
