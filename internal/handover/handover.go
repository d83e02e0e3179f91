// Package handover passes listening sockets from a process to the one that takes its place, so
// that nobody who connects meanwhile is refused: what waits in a socket's queue waits for the
// next process.
//
// The sockets are inherited by number. Invariant: the old process goes on serving until the new
// one has said that it serves; if it never does, nothing has changed.
package handover

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"
)

// The environment by which a process learns what it inherits: addresses in the order of the
// sockets, and the number of the pipe on which it says that it serves.
const (
	inheritedVariable = "CROSSTWIN_INHERITED"
	readyVariable     = "CROSSTWIN_READY"
	firstInherited    = 3 // behind standard input, output and error
)

type socket struct {
	Network string `json:"network"`
	Address string `json:"address"`
	l       net.Listener
}

var (
	mu        sync.Mutex
	open      []socket
	inherited []socket
	readOnce  sync.Once
)

// readInherited takes up what an earlier process left; once.
func readInherited() {
	text := os.Getenv(inheritedVariable)
	os.Unsetenv(inheritedVariable)
	if text == "" || json.Unmarshal([]byte(text), &inherited) != nil {
		return
	}
	for i := range inherited {
		f := os.NewFile(uintptr(firstInherited+i), inherited[i].Address)
		inherited[i].l, _ = net.FileListener(f)
		f.Close()
	}
}

// Listen listens on an address: by the socket that was inherited for it, or by a new one.
func Listen(network, address string) (net.Listener, error) {
	mu.Lock()
	defer mu.Unlock()
	readOnce.Do(readInherited)
	var l net.Listener
	for i, s := range inherited {
		if s.Network == network && s.Address == address && s.l != nil {
			l, inherited[i].l = s.l, nil
		}
	}
	if l == nil {
		var err error
		if l, err = net.Listen(network, address); err != nil {
			return nil, err
		}
	}
	open = append(open, socket{network, address, l})
	return &listener{l, address}, nil
}

// Inherits reports whether a socket for an address came from an earlier process.
func Inherits(network, address string) bool {
	mu.Lock()
	defer mu.Unlock()
	readOnce.Do(readInherited)
	for _, s := range inherited {
		if s.Network == network && s.Address == address && s.l != nil {
			return true
		}
	}
	return false
}

// listener forgets its socket when it is closed.
type listener struct {
	net.Listener
	address string
}

func (l *listener) Close() error {
	mu.Lock()
	for i, s := range open {
		if s.l == l.Listener {
			open = append(open[:i], open[i+1:]...)
			break
		}
	}
	mu.Unlock()
	return l.Listener.Close()
}

// Ready tells the process that this one takes the place of, and the service manager, that it
// serves.
func Ready() {
	var fd int
	if n, _ := fmt.Sscan(os.Getenv(readyVariable), &fd); n == 1 {
		os.Unsetenv(readyVariable)
		f := os.NewFile(uintptr(fd), "ready") // #nosec G115 -- a small number
		fmt.Fprintln(f, "ready")
		f.Close()
	}
	notify(fmt.Sprintf("MAINPID=%d\nREADY=1", os.Getpid()))
}

// notify tells the service manager something (sd_notify(3)).
func notify(text string) {
	path := os.Getenv("NOTIFY_SOCKET")
	if path == "" {
		return
	}
	if path[0] == '@' {
		path = "\x00" + path[1:]
	}
	c, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: path, Net: "unixgram"})
	if err != nil {
		return
	}
	defer c.Close()
	c.Write([]byte(text))
}

// readyLimit is how long a process may take until it serves.
const readyLimit = 20 * time.Second

// Next starts the program anew, as it lies on disk now, with all sockets that are open, and
// returns once it serves. From then on this process accepts nobody any more.
func Next(ctx context.Context, program string, args ...string) error {
	files, sockets, err := duplicates()
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	if err != nil {
		return err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer r.Close()
	text, err := json.Marshal(sockets)
	if err != nil {
		return err
	}
	c := exec.Command(program, args...)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	c.ExtraFiles = append(files, w)
	c.Env = append(os.Environ(), inheritedVariable+"="+string(text),
		fmt.Sprintf("%s=%d", readyVariable, firstInherited+len(files)))
	if err := c.Start(); err != nil {
		w.Close()
		return err
	}
	w.Close()
	if err := awaitReady(ctx, r); err != nil {
		c.Process.Kill()
		c.Wait()
		return err
	}
	go c.Wait()
	keepSockets()
	return nil
}

// duplicates are the files of all open sockets.
func duplicates() (files []*os.File, sockets []socket, err error) {
	mu.Lock()
	defer mu.Unlock()
	for _, s := range open {
		l, ok := s.l.(interface{ File() (*os.File, error) })
		if !ok {
			return files, nil, fmt.Errorf("the socket of %s cannot be handed over", s.Address)
		}
		f, err := l.File()
		if err != nil {
			return files, nil, err
		}
		files, sockets = append(files, f), append(sockets, s)
	}
	return files, sockets, nil
}

// keepSockets leaves the files of sockets to the next process.
func keepSockets() {
	mu.Lock()
	defer mu.Unlock()
	for _, s := range open {
		if u, ok := s.l.(*net.UnixListener); ok {
			u.SetUnlinkOnClose(false)
		}
	}
}

func awaitReady(ctx context.Context, r *os.File) error {
	ctx, cancel := context.WithTimeout(ctx, readyLimit)
	defer cancel()
	said := make(chan error, 1)
	go func() {
		line, err := bufio.NewReader(r).ReadString('\n')
		if err == nil && strings.TrimSpace(line) != "ready" {
			err = errors.New("it says something else")
		}
		said <- err
	}()
	select {
	case err := <-said:
		if err != nil {
			return fmt.Errorf("the new process ended before it served: %w", err)
		}
		return nil
	case <-ctx.Done():
		return fmt.Errorf("the new process does not serve within %s", readyLimit)
	}
}
