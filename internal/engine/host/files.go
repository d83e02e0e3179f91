package host

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"crosstwin/internal/core/observation"
)

// WriteOwned writes a file of the database's owner and syncs it and its
// directory, by way of a temporary name that nobody can foresee.
func (d *Data) WriteOwned(path string, content []byte) error {
	return d.AsOwner(func() error { return replaceFile(path, content, 0o600, nil) })
}

// GiveFile writes a file of the owner's into a directory that is not: the agent's.
func (d *Data) GiveFile(path string, content []byte) error {
	id, err := d.Owner()
	if err != nil {
		return err
	}
	return replaceFile(path, content, 0o600, &id)
}

// replaceFile writes a file anew and puts it in the place of another. The owner, when
// given, is changed of what was just made and nothing else.
func replaceFile(path string, content []byte, mode fs.FileMode, owner *Identity) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(mode))
	if owner != nil && os.Geteuid() == 0 {
		err = errors.Join(err, f.Chown(int(owner.UID), int(owner.GID)))
	}
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// SyncDir syncs a directory, so that a rename in it survives a crash.
func SyncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// RemoveSynced removes a file of the owner's if it is there.
func (d *Data) RemoveSynced(path string) error {
	return d.AsOwner(func() error {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return SyncDir(filepath.Dir(path))
	})
}

// Empty reports whether nothing stands in the data directory.
func (d *Data) Empty() bool {
	list, err := d.ReadDir(d.Dir)
	return err != nil || len(list) == 0
}

// Clear removes everything inside the data directory, which itself may be a
// mount point and stays.
func (d *Data) Clear() error {
	list, err := d.ReadDir(d.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, x := range list {
		if err := d.RemoveAll(d.Path(x.Name())); err != nil {
			return fmt.Errorf("clear %s: %w", d.Dir, err)
		}
	}
	return nil
}

// Make makes the data directory of the owner, readable by nobody else.
func (d *Data) Make() error {
	if err := d.MakeDir(d.Dir); err != nil {
		return err
	}
	return d.AsOwner(func() error { return os.Chmod(d.Dir, 0o700) }) // #nosec G302 -- a directory
}

// MakeDir makes a directory of the owner's, and those above it: as the owner where
// that is allowed, else as root in a directory that only root can change.
func (d *Data) MakeDir(path string) error {
	err := d.AsOwner(func() error { return os.MkdirAll(path, 0o700) })
	if !errors.Is(err, fs.ErrPermission) || os.Geteuid() != 0 {
		return err
	}
	id, err := d.Owner()
	if err != nil {
		return err
	}
	above := filepath.Dir(path)
	err = os.MkdirAll(above, 0o755) // #nosec G301 -- the parent of a data directory, as packages make it
	if err != nil {
		return err
	}
	dir, err := openRootsDir(above)
	if err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	defer dir.Close()
	name := filepath.Base(path)
	if err := unix.Mkdirat(int(dir.Fd()), name, 0o700); err != nil {
		return fmt.Errorf("make %s: %w", path, err)
	}
	fd, err := unix.Openat(int(dir.Fd()), name, unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	return unix.Fchown(fd, int(id.UID), int(id.GID))
}

// openRootsDir opens a directory that only root can change, by no link on the way.
func openRootsDir(path string) (*os.File, error) {
	how := unix.OpenHow{Flags: unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_NO_SYMLINKS}
	fd, err := unix.Openat2(unix.AT_FDCWD, path, &how)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	f := os.NewFile(uintptr(fd), path)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil || st.Uid != 0 || st.Mode&0o022 != 0 {
		f.Close()
		return nil, fmt.Errorf("%s can be changed by others than root, and not by the database's owner", path)
	}
	return f, nil
}

// DiskFree returns the bytes that are free where the data is; 0: not known.
func (d *Data) DiskFree() observation.Maybe[int64] {
	if _, err := d.Stat(d.Dir); err != nil {
		return FreeAt(filepath.Dir(d.Dir))
	}
	return FreeAt(d.Dir)
}

// FreeAt returns the bytes that are free on the file system of a path.
func FreeAt(path string) observation.Maybe[int64] {
	var st syscall.Statfs_t
	if syscall.Statfs(path, &st) != nil {
		return observation.Maybe[int64]{}
	}
	return observation.Known(int64(st.Bavail) * st.Bsize)
}

// sizeAge is how long a measured size is good enough.
const sizeAge = 5 * time.Minute

// Bytes sums the files of the data directory: anew when asked for, else each
// few minutes.
func (d *Data) Bytes(now bool) int64 {
	d.size.Lock()
	defer d.size.Unlock()
	if now || time.Since(d.size.at) > sizeAge {
		d.size.bytes, d.size.at = d.DirBytes(d.Dir), time.Now()
	}
	return d.size.bytes
}

// ForgetSize has the next Bytes measure anew.
func (d *Data) ForgetSize() {
	d.size.Lock()
	d.size.at = time.Time{}
	d.size.Unlock()
}

// DirBytes sums the files below a directory, as far as the owner sees them.
func (d *Data) DirBytes(dir string) int64 {
	var n int64
	d.AsOwner(func() error {
		return filepath.WalkDir(dir, func(_ string, x fs.DirEntry, err error) error {
			if err == nil && x.Type().IsRegular() {
				if fi, err := x.Info(); err == nil {
					n += fi.Size()
				}
			}
			return nil
		})
	})
	return n
}
