// Package host is what every engine needs of the operating system beside its
// database: the owner of the data, programs run as that owner, the processes
// that work in a data directory, files written so that they survive a crash.
//
// Invariant kept here: nothing of a database runs as root. Every program is
// started with the identity of the data directory's owner, and an owner root
// is refused.
package host

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"time"
)

// Data is a data directory on this host and what works in it.
type Data struct {
	Name    string // of the server in its cluster, for messages
	Dir     string
	BinDir  string
	Process string // name of the server's process
	Unit    string // service manager's unit that runs it; empty: none
	// Commands start and stop it where no unit does; none: its agent does.
	Commands Commands
	// OwnerName is the user for a directory that is not there yet; empty: the
	// agent's own, or DefaultOwner when the agent runs as root.
	OwnerName    string
	DefaultOwner string
	Env          []string // further environment of programs

	pinned struct {
		sync.Mutex
		uid      uint32 // 0: not known yet
		groups   []uint32
		groupsAt time.Time
	}
	size struct {
		sync.Mutex
		bytes int64
		at    time.Time
	}
}

// Identity is an operating system user.
type Identity struct{ UID, GID uint32 }

// Owner returns the user that everything of the database runs as: the owner of
// the data directory. It is never root.
func (d *Data) Owner() (Identity, error) {
	var id Identity
	if fi, err := os.Stat(d.Dir); err == nil {
		st := fi.Sys().(*syscall.Stat_t)
		id = Identity{st.Uid, st.Gid}
	} else {
		var err error
		if id, err = d.lookupOwner(); err != nil {
			return id, err
		}
	}
	if err := d.pin(id.UID); err != nil {
		return id, err
	}
	if id.UID == 0 {
		return id,
			fmt.Errorf("the data directory %s belongs to root: a database never runs as root; chown it to its own user", d.Dir)
	}
	if me := os.Geteuid(); me != 0 && uint32(me) != id.UID {
		return id,
			fmt.Errorf(
				"the data directory %s belongs to user %d and this agent runs as user %d: run the agent as root or as that user",
				d.Dir, id.UID, me)
	}
	return id, nil
}

// pin holds the owner to be the one that was named, or the first that was seen: the
// path may be made to lead to somebody else's directory.
func (d *Data) pin(uid uint32) error {
	d.pinned.Lock()
	defer d.pinned.Unlock()
	if d.pinned.uid == 0 {
		d.pinned.uid = uid
		if d.OwnerName != "" {
			id, err := d.lookupOwner()
			if err != nil {
				return err
			}
			d.pinned.uid = id.UID
		}
	}
	if uid != d.pinned.uid && uid != 0 {
		return fmt.Errorf("the data directory %s belongs to user %d, not to user %d as before: nothing is done there", d.Dir,
			uid, d.pinned.uid)
	}
	return nil
}

func (d *Data) lookupOwner() (Identity, error) {
	name := d.OwnerName
	if name == "" {
		if os.Geteuid() != 0 {
			return Identity{uint32(os.Geteuid()), uint32(os.Getegid())}, nil
		}
		name = d.DefaultOwner
	}
	u, err := user.Lookup(name)
	if err != nil {
		return Identity{}, fmt.Errorf("user %q, who is to own the database's files: %w", name, err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return Identity{uint32(uid), uint32(gid)}, nil
}

// groupsOf returns a user's further groups: a server may be allowed to read its
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

// Dial connects to a socket with the owner's identity, so that the server's
// own check of the connecting user lets the agent in when it runs as root. The
// kernel notes the identity of the connecting thread, so one locked thread
// takes it on and drops it again.
func (d *Data) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	id, err := d.Owner()
	if err != nil {
		return nil, err
	}
	var dialer net.Dialer
	if os.Geteuid() != 0 {
		return dialer.DialContext(ctx, network, addr)
	}
	type result struct {
		c   net.Conn
		err error
	}
	done := make(chan result, 1)
	go func() {
		runtime.LockOSThread()
		// Not unlocked on failure to change back: the runtime then ends the thread.
		if _, _, no := syscall.RawSyscall(syscall.SYS_SETRESUID, ^uintptr(0), uintptr(id.UID), ^uintptr(0)); no != 0 {
			done <- result{nil, fmt.Errorf("become user %d: %w", id.UID, no)}
			return
		}
		c, err := dialer.DialContext(ctx, network, addr)
		_, _, no := syscall.RawSyscall(syscall.SYS_SETRESUID, ^uintptr(0), 0, ^uintptr(0))
		done <- result{c, err}
		if no == 0 {
			runtime.UnlockOSThread()
		}
	}()
	r := <-done
	return r.c, r.err
}

// Path returns a path inside the data directory.
func (d *Data) Path(parts ...string) string {
	return filepath.Join(append([]string{d.Dir}, parts...)...)
}
