package host

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Files below the data directory, and wherever else the database's owner may write,
// are handled with the owner's own rights, never with root's (invariant: an agent
// that runs as root can be led no further by links and names in such a directory than
// the owner could go alone). What is made there belongs to the owner from the
// beginning, so nothing has to change owners.

// AsOwner does something with files as the owner of the data. Everything in do has to
// happen in its own goroutine.
func (d *Data) AsOwner(do func() error) error {
	id, err := d.Owner()
	if err != nil {
		return err
	}
	if os.Geteuid() != 0 {
		return do()
	}
	done := make(chan error, 1)
	go func() {
		// The kernel keeps these rights for each thread. Not unlocked when they cannot
		// be given back: the runtime then ends the thread.
		runtime.LockOSThread()
		back, err := become(id.UID, id.GID, d.groups(id.UID))
		if err == nil {
			err = do()
		}
		if back() == nil {
			runtime.UnlockOSThread()
		}
		done <- err
	}()
	return <-done
}

// groups returns a user's further groups, as they were within the last minute: reading
// them takes longer than most of what is done with them.
func (d *Data) groups(uid uint32) []uint32 {
	d.pinned.Lock()
	defer d.pinned.Unlock()
	if time.Since(d.pinned.groupsAt) > time.Minute {
		d.pinned.groups, d.pinned.groupsAt = groupsOf(uid), time.Now()
	}
	return d.pinned.groups
}

// become gives this thread another user's rights to files; back gives them back. The
// kernel takes root's capabilities over files away with them (capabilities(7),
// "Effect of user ID changes on capabilities").
func become(uid, gid uint32, groups []uint32) (back func() error, err error) {
	before, err := syscall.Getgroups()
	if err != nil {
		return func() error { return nil }, err
	}
	own := make([]uint32, len(before))
	for i, g := range before {
		own[i] = uint32(g)
	}
	back = func() error {
		syscall.Setfsuid(0)
		syscall.Setfsgid(0)
		if err := setThreadGroups(own); err != nil {
			return err
		}
		return isNow(0, 0)
	}
	if err := setThreadGroups(groups); err != nil {
		return back, fmt.Errorf("take on the groups of user %d: %w", uid, err)
	}
	syscall.Setfsgid(int(gid))
	syscall.Setfsuid(int(uid))
	return back, isNow(uid, gid)
}

// isNow checks the thread's rights: setfsuid itself reports no failure.
func isNow(uid, gid uint32) error {
	u, err := unix.SetfsuidRetUid(-1)
	if err != nil {
		return err
	}
	g, err := unix.SetfsgidRetGid(-1)
	if err != nil {
		return err
	}
	if uint32(u) != uid || uint32(g) != gid {
		return fmt.Errorf("files would be handled as user %d and group %d, not %d and %d", u, g, uid, gid)
	}
	return nil
}

// setThreadGroups sets the groups of this thread alone; the function of the standard
// library sets those of all threads.
func setThreadGroups(groups []uint32) error {
	var first *uint32
	if len(groups) > 0 {
		first = &groups[0]
	}
	list := uintptr(unsafe.Pointer(first)) // #nosec G103 -- an argument of a system call
	if _, _, no := syscall.RawSyscall(syscall.SYS_SETGROUPS, uintptr(len(groups)), list, 0); no != 0 {
		return no
	}
	return nil
}

// as returns what a function yields that handles files as the owner.
func as[T any](d *Data, do func() (T, error)) (out T, err error) {
	err = d.AsOwner(func() (err error) { out, err = do(); return err })
	return out, err
}

// ReadFile reads a file as the owner.
func (d *Data) ReadFile(path string) ([]byte, error) {
	return as(d, func() ([]byte, error) { return os.ReadFile(path) })
}

// ReadDir lists a directory as the owner.
func (d *Data) ReadDir(path string) ([]fs.DirEntry, error) {
	return as(d, func() ([]fs.DirEntry, error) { return os.ReadDir(path) })
}

// Stat looks at a file as the owner.
func (d *Data) Stat(path string) (fs.FileInfo, error) {
	return as(d, func() (fs.FileInfo, error) { return os.Stat(path) })
}

// Lstat looks at a file, or at a link itself, as the owner.
func (d *Data) Lstat(path string) (fs.FileInfo, error) {
	return as(d, func() (fs.FileInfo, error) { return os.Lstat(path) })
}

// Readlink reads a link as the owner.
func (d *Data) Readlink(path string) (string, error) {
	return as(d, func() (string, error) { return os.Readlink(path) })
}

// Glob finds files as the owner.
func (d *Data) Glob(pattern string) ([]string, error) {
	return as(d, func() ([]string, error) { return filepath.Glob(pattern) })
}

// Open opens a file for reading as the owner.
func (d *Data) Open(path string) (*os.File, error) {
	return as(d, func() (*os.File, error) { return os.Open(path) })
}

// TempDir makes an empty directory of the owner's, which nobody else can foresee or
// read.
func (d *Data) TempDir(prefix string) (string, error) {
	return as(d, func() (string, error) { return os.MkdirTemp("", prefix) })
}

// RemoveAll removes a tree as the owner.
func (d *Data) RemoveAll(path string) error {
	return d.AsOwner(func() error { return os.RemoveAll(path) })
}

// OpenLog opens a log file that may be the owner's or root's: as the owner where that
// is allowed, else as root, but then by no link on the whole way, and only a file that
// stands there under one name. With flags for reading or appending; it makes none.
func (d *Data) OpenLog(path string, flags int) (*os.File, error) {
	f, err := as(d, func() (*os.File, error) { return os.OpenFile(path, flags, 0) })
	if !errors.Is(err, fs.ErrPermission) || os.Geteuid() != 0 {
		return f, err
	}
	how := unix.OpenHow{Flags: uint64(flags | unix.O_CLOEXEC | unix.O_NONBLOCK), Resolve: unix.RESOLVE_NO_SYMLINKS}
	fd, no := unix.Openat2(unix.AT_FDCWD, path, &how)
	if no != nil {
		return nil, fmt.Errorf("open %s (not the database's own; a link on the way is not followed): %w", path, no)
	}
	f = os.NewFile(uintptr(fd), path)
	var st syscall.Stat_t
	if err := syscall.Fstat(fd, &st); err != nil || st.Mode&syscall.S_IFMT != syscall.S_IFREG || st.Nlink != 1 {
		f.Close()
		return nil, fmt.Errorf("%s is not a plain file under one name: it is not opened for the database", path)
	}
	return f, nil
}

// ReadTrusted reads a file that may be the owner's or root's, as OpenLog opens it.
func (d *Data) ReadTrusted(path string) ([]byte, error) {
	f, err := d.OpenLog(path, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// appendLog opens a log file for appending, and makes it where it is missing: of the
// owner's, also where only root may make it.
func (d *Data) appendLog(path string) (*os.File, error) {
	f, err := d.OpenLog(path, os.O_APPEND|os.O_WRONLY)
	if !errors.Is(err, fs.ErrNotExist) {
		return f, err
	}
	const flags = os.O_APPEND | os.O_WRONLY | os.O_CREATE | os.O_EXCL
	f, err = as(d, func() (*os.File, error) { return os.OpenFile(path, flags, 0o600) })
	if !errors.Is(err, fs.ErrPermission) || os.Geteuid() != 0 {
		return f, err
	}
	id, err := d.Owner()
	if err != nil {
		return nil, err
	}
	dir, err := openRootsDir(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	fd, err := unix.Openat(int(dir.Fd()), filepath.Base(path), flags|unix.O_CLOEXEC|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, fmt.Errorf("make %s: %w", path, err)
	}
	f = os.NewFile(uintptr(fd), path)
	return f, f.Chown(int(id.UID), int(id.GID))
}

// mayMake tells whether appendLog could make a log file.
func (d *Data) mayMake(path string) error {
	err := d.AsOwner(func() error {
		f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*")
		if err != nil {
			return err
		}
		return errors.Join(f.Close(), os.Remove(f.Name()))
	})
	if !errors.Is(err, fs.ErrPermission) || os.Geteuid() != 0 {
		return err
	}
	dir, err := openRootsDir(filepath.Dir(path))
	if err != nil {
		return err
	}
	return dir.Close()
}

// overwrite puts another text into a file, where no other file may be put in its place.
func overwrite(path string, content []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Truncate(int64(len(content))), f.Sync(), f.Close())
}

// RewriteTrusted puts another text in the place of a file that is the owner's or
// root's, with its mode as it was: as the owner where that is allowed, else as root,
// and then only in a directory that only root can change.
func (d *Data) RewriteTrusted(path string, content []byte) error {
	fi, err := d.Stat(path)
	if err != nil {
		if fi, err = os.Lstat(path); err != nil {
			return err
		}
	}
	err = d.AsOwner(func() error {
		real, err := filepath.EvalSymlinks(path) // a link stays one
		if err != nil {
			return err
		}
		return replaceFile(real, content, fi.Mode().Perm(), nil)
	})
	if !errors.Is(err, fs.ErrPermission) {
		return err // the owner's own, or in a directory where the owner may replace it
	}
	if os.Geteuid() != 0 {
		return overwrite(path, content) // one that was made for this user in a directory of root's
	}
	if l, err := os.Lstat(path); err != nil || l.Mode()&fs.ModeSymlink != 0 {
		return errors.Join(err, fmt.Errorf("%s is a link to a file of root's: name that file itself", path))
	}
	st := fi.Sys().(*syscall.Stat_t)
	dir, err := openRootsDir(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer dir.Close()
	return replaceFile(path, content, fi.Mode().Perm(), &Identity{st.Uid, st.Gid})
}

// MakeTrusted makes a file that is missing, for everybody to read: as the owner where that
// is allowed, else as root, and then only in a directory that only root can change.
func (d *Data) MakeTrusted(path string, content []byte) error {
	err := d.AsOwner(func() error { return replaceFile(path, content, 0o644, nil) })
	if !errors.Is(err, fs.ErrPermission) || os.Geteuid() != 0 {
		return err
	}
	dir, err := openRootsDir(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer dir.Close()
	return replaceFile(path, content, 0o644, nil)
}
