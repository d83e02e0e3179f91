package agent

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/handover"
)

// A gate's process gives way to a new one, for a restart or an upgrade: the new one inherits the
// sockets and accepts from then on, the old one ends its sessions at their boundaries.

// drainSocket is where a gate's process is told to, by whoever may write in its directory.
const drainSocket = "drain.sock"

// drainRequest has a gate give way; Program is the one to start, by its path.
type drainRequest struct {
	Program string        `json:"program"`
	Limit   time.Duration `json:"limit"`
}

// Drained is what came of it.
type Drained struct {
	Sessions int    `json:"sessions"`
	Problem  string `json:"problem,omitempty"`
}

// serveDrain waits until it is told to give way; then the process ends by stop.
func serveDrain(ctx context.Context, stop func(), dir string, seats func() []*seat, log *slog.Logger) {
	path := filepath.Join(dir, drainSocket)
	os.Remove(path) // that of the process that this one takes the place of
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	if err != nil {
		log.Error("this process cannot be told to give way to another one", "error", err)
		return
	}
	l.SetUnlinkOnClose(false)
	os.Chmod(path, 0o600)
	context.AfterFunc(ctx, func() { l.Close() })
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		var q drainRequest
		if json.NewDecoder(io.LimitReader(c, 1<<16)).Decode(&q) != nil {
			c.Close()
			continue
		}
		log.Info("giving way to a new process", "program", q.Program)
		err = handover.Next(ctx, q.Program, os.Args[1:]...)
		var d Drained
		if err != nil {
			log.Error("the new process does not serve; this one goes on", "error", err)
			d.Problem = err.Error()
		} else {
			d.Sessions = drainAll(ctx, seats(), q.Limit)
		}
		json.NewEncoder(c).Encode(d)
		c.Close()
		if err == nil {
			stop()
			return
		}
	}
}

func drainAll(ctx context.Context, seats []*seat, limit time.Duration) int {
	var n atomic.Int64
	var wg sync.WaitGroup
	for _, x := range seats {
		select {
		case <-x.up:
		default:
			continue
		}
		wg.Go(func() {
			x.agent.stopAnswering() // the service is to talk to the new process
			n.Add(int64(x.agent.gate.Drain(ctx, limit)))
		})
	}
	wg.Wait()
	return int(n.Load())
}

// DrainGate has the process of the gates in a directory give way to a new one of a program, and
// returns once the old one has no session any more.
func DrainGate(ctx context.Context, dir, program string, limit time.Duration) (d Drained, err error) {
	c, err := (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(dir, drainSocket))
	if err != nil {
		return d, fmt.Errorf("no gate runs in %s: %w", dir, err)
	}
	defer c.Close()
	context.AfterFunc(ctx, func() { c.Close() })
	if err := json.NewEncoder(c).Encode(drainRequest{program, limit}); err != nil {
		return d, err
	}
	if err := json.NewDecoder(bufio.NewReader(c)).Decode(&d); err != nil {
		return d, fmt.Errorf("the gate has not said what came of it: %w", err)
	}
	if d.Problem != "" {
		return d, errors.New(d.Problem)
	}
	return d, nil
}
