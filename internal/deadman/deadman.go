// Package deadman is the process beside an agent that stops a database whose permission
// to write has run out, whether or not the agent lives (rule 8 of the handbook's page on
// safety). It does nothing else, holds nothing until an agent speaks, and keeps nothing
// on disk.
//
// Agent and deadman talk over a socket in the agent's directory, a JSON value a line:
// first the deadman says which ends it holds (guard.Ends), then the agent tells others
// (guard.Hold) and is answered (guard.Held), in order. The newest connection counts:
// what an earlier agent still sends is not read any more.
package deadman

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"time"

	"crosstwin/internal/clock"
	"crosstwin/internal/core/guard"
)

// SocketFile is the socket's name in the agent's directory.
const SocketFile = "deadman.sock"

// Database is what a deadman stops.
type Database interface {
	// MayBeOpen reports whether a process of it lives that may take writes and needs a
	// permission for it. What cannot be known says yes.
	MayBeOpen() bool
	// Remember keeps in mind which processes it has now. It fails when they could not be
	// killed: then no permission is promised to be ended.
	Remember() error
	// Kill kills it, and returns once nothing is left of it or that takes too long.
	Kill() error
}

// How often the database is looked at: while nothing is held, and while it has to go.
const (
	lookEvery = time.Second
	killEvery = 50 * time.Millisecond
)

type told struct {
	from *peer
	hold guard.Hold
}

type peer struct {
	net.Conn
	out *json.Encoder
}

// Run serves on a socket until ctx ends, and feeds the watchdog, where there is one. It fails
// when another deadman serves there.
func Run(ctx context.Context, socket string, db Database, watchdog *Watchdog, log *slog.Logger) error {
	defer watchdog.disarm()
	ln, err := listen(socket)
	if err != nil {
		return err
	}
	defer ln.Close()
	agents, holds := make(chan *peer), make(chan told)
	go accept(ctx, ln, agents, holds)
	d := guard.Deadman{Started: clock.Now()}
	wake, feed := time.NewTimer(0), watchdog.ticks(ctx)
	var agent *peer
	for {
		select {
		case <-ctx.Done():
			return nil
		case p := <-agents:
			if agent != nil {
				agent.Close()
			}
			if agent = p; p.say(d.Ends) != nil {
				p.Close()
			}
		case t := <-holds:
			if t.from != agent {
				continue
			}
			if err := db.Remember(); err != nil && t.hold.Ends.Runs(clock.Now()) {
				log.Error("no permission is taken: the database could not be killed when it ends", "error", err)
				continue // it is told again
			}
			var do []guard.Effect
			d, do = d.Step(t.hold, clock.Now())
			if err := agent.say(do[0].(guard.Send).Message); err != nil {
				agent.Close()
			}
		case <-feed:
			if d.Feeds(db.MayBeOpen, watchdog.timeout, clock.Now()) {
				watchdog.feed()
			}
		case <-wake.C:
		}
		wake.Reset(look(&d, db, log))
	}
}

// look stops a database whose permission has run out, and says when to look again.
func look(d *guard.Deadman, db Database, log *slog.Logger) time.Duration {
	next, do := d.Step(guard.Tick{}, clock.Now())
	*d = next
	if len(do) == 0 {
		return max(time.Millisecond, d.NextLook(clock.Now()))
	}
	if !db.MayBeOpen() {
		return lookEvery
	}
	err := db.Kill()
	go func(ends guard.Ends, now guard.Time) { // a log that cannot be written holds nothing up
		log.Error("no permission to write runs, and the database might take writes: it was killed", "grant", ends.Grant,
			"pledge", ends.Pledge, "now", now)
		if err != nil {
			log.Error("the database could not be killed; it is tried again", "error", err)
		}
	}(d.Ends, clock.Now())
	return killEvery
}

func (p *peer) say(what any) error {
	p.SetWriteDeadline(time.Now().Add(killEvery))
	return p.out.Encode(what)
}

func listen(socket string) (net.Listener, error) {
	if c, err := net.DialTimeout("unix", socket, time.Second); err == nil {
		c.Close()
		return nil, fmt.Errorf("another deadman serves at %s already", socket)
	}
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	ln, err := net.Listen("unix", socket)
	if err != nil {
		return nil, err
	}
	return ln, os.Chmod(socket, 0o600)
}

func accept(ctx context.Context, ln net.Listener, agents chan<- *peer, holds chan<- told) {
	for ctx.Err() == nil {
		c, err := ln.Accept()
		if err != nil {
			time.Sleep(killEvery)
			continue
		}
		p := &peer{c, json.NewEncoder(c)}
		go func() {
			defer c.Close()
			select {
			case agents <- p:
			case <-ctx.Done():
				return
			}
			for d := json.NewDecoder(c); ; {
				var h guard.Hold
				if d.Decode(&h) != nil {
					return
				}
				select {
				case holds <- told{p, h}:
				case <-ctx.Done():
					return
				}
			}
		}()
	}
}
