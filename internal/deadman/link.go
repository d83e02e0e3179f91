package deadman

import (
	"context"
	"encoding/json"
	"net"
	"sync"
	"time"

	"crosstwin/internal/core/guard"
)

// Link is an agent's way to its deadman.
type Link struct {
	socket string

	mu   sync.Mutex
	conn net.Conn
}

// dialEvery is how often a deadman that is not there is looked for.
const dialEvery = 100 * time.Millisecond

// Dial connects to the deadman at a socket, and tells what it holds; nothing when it is
// not there.
func Dial(socket string) (*Link, guard.Ends) {
	l := &Link{socket: socket}
	ends, _ := l.dial()
	return l, ends
}

func (l *Link) dial() (ends guard.Ends, err error) {
	c, err := net.DialTimeout("unix", l.socket, time.Second)
	if err != nil {
		return ends, err
	}
	c.SetReadDeadline(time.Now().Add(time.Second))
	b := make([]byte, 512)
	n, err := c.Read(b)
	if err == nil {
		err = json.Unmarshal(b[:n], &ends)
	}
	if err != nil {
		c.Close()
		return guard.Ends{}, err
	}
	c.SetReadDeadline(time.Time{})
	l.mu.Lock()
	l.conn = c
	l.mu.Unlock()
	return ends, nil
}

// Run keeps the link up until ctx ends, and hands on what the deadman says: guard.Held,
// and guard.DeadmanGone when it is lost.
func (l *Link) Run(ctx context.Context, hear func(guard.Event)) {
	for ctx.Err() == nil {
		if c := l.current(); c != nil {
			stop := context.AfterFunc(ctx, func() { c.Close() })
			for d := json.NewDecoder(c); ; {
				var h guard.Held
				if d.Decode(&h) != nil {
					break
				}
				hear(h)
			}
			stop()
			l.drop(c)
			hear(guard.DeadmanGone{})
			if ctx.Err() != nil {
				return // a new agent may be connected by now
			}
		}
		if _, err := l.dial(); err == nil {
			hear(guard.Tick{}) // a deadman that was started just now is told what it has to hold
			continue
		}
		select {
		case <-ctx.Done():
		case <-time.After(dialEvery):
		}
	}
}

// Tell brings a Hold to the deadman. One that gets lost is told again: nothing was
// answered then.
func (l *Link) Tell(h guard.Hold) {
	c := l.current()
	if c == nil {
		return
	}
	c.SetWriteDeadline(time.Now().Add(dialEvery))
	if json.NewEncoder(c).Encode(h) != nil {
		l.drop(c)
	}
}

// Up reports whether a deadman is connected.
func (l *Link) Up() bool { return l.current() != nil }

func (l *Link) current() net.Conn {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn
}

func (l *Link) drop(c net.Conn) {
	c.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == c {
		l.conn = nil
	}
}
