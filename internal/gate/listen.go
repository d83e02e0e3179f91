package gate

import (
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"crosstwin/internal/core/route"
	"crosstwin/internal/handover"
)

// doorway is one address of a door.
type doorway struct {
	door    route.Door
	address string
}

func (g *Gate) doors() (out []doorway) {
	for _, a := range g.cfg.Writer {
		out = append(out, doorway{route.Writer, a})
	}
	for _, a := range g.cfg.Reader {
		out = append(out, doorway{route.Reader, a})
	}
	return out
}

// listen opens the gate's addresses.
func (g *Gate) listen() error {
	for _, x := range g.doors() {
		network := "tcp"
		if x.address[0] == '/' {
			network = "unix"
			if !handover.Inherits(network, x.address) {
				removeStale(x.address)
			}
		}
		l, err := handover.Listen(network, x.address)
		if err != nil {
			return fmt.Errorf("gate %s cannot listen on %s for applications: %w", g.name, x.address, err)
		}
		if network == "unix" {
			os.Chmod(x.address, 0o777) // #nosec G302 -- whoever connects has to log in
		}
		g.listeners = append(g.listeners, l)
		g.accepting.Go(func() { g.accept(l, x) })
	}
	return nil
}

// removeStale removes a socket that nobody listens on any more.
func removeStale(path string) {
	c, err := net.DialTimeout("unix", path, time.Second)
	if err == nil {
		c.Close()
		return
	}
	if f, err := os.Lstat(path); err == nil && f.Mode()&os.ModeSocket != 0 {
		os.Remove(path)
	}
}

// loginLimit is how long a client may take to log in, once there is a server. mostLogins bounds
// how many are logging in at a time: a client that says nothing costs memory.
const (
	loginLimit = 30 * time.Second
	mostLogins = 2000
)

// accept serves an address until it is closed.
func (g *Gate) accept(l net.Listener, d doorway) {
	logins := make(chan struct{}, mostLogins)
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			g.log.Warn("a connection could not be taken", "address", d.address, "error", err)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		if t, ok := c.(*net.TCPConn); ok {
			t.SetKeepAliveConfig(net.KeepAliveConfig{Enable: true, Idle: 30 * time.Second, Interval: 10 * time.Second, Count: 6})
		}
		g.entering.Add(1)
		select {
		case logins <- struct{}{}:
		default:
			g.entering.Add(-1)
			g.refused.Add(1)
			c.Close()
			continue
		}
		go func() {
			loggedIn := sync.OnceFunc(func() {
				<-logins
				g.entering.Add(-1)
			})
			defer loggedIn()
			defer c.Close()
			if g.isMariaDB() {
				g.serveMaria(c, d, loggedIn)
			} else {
				g.servePG(c, d, loggedIn)
			}
		}()
	}
}
