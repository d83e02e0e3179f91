package host

import (
	"crosstwin/internal/core/observation"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// WriteOwned writes a file of the database's owner and syncs it and its
// directory, by way of a temporary name.
func (d *Data) WriteOwned(path string, content []byte) error {
	id, err := d.Owner()
	if err != nil {
		return err
	}
	tmp := path + ".crosstwin-new"
	f, err := os.OpenFile(tmp, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil && os.Geteuid() == 0 {
		err = f.Chown(int(id.UID), int(id.GID))
	}
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		os.Remove(tmp)
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

// RemoveSynced removes a file if it is there.
func RemoveSynced(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return SyncDir(filepath.Dir(path))
}

// Empty reports whether nothing stands in the data directory.
func (d *Data) Empty() bool {
	list, err := os.ReadDir(d.Dir)
	return err != nil || len(list) == 0
}

// Clear removes everything inside the data directory, which itself may be a
// mount point and stays.
func (d *Data) Clear() error {
	list, err := os.ReadDir(d.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, x := range list {
		if err := os.RemoveAll(d.Path(x.Name())); err != nil {
			return fmt.Errorf("clear %s: %w", d.Dir, err)
		}
	}
	return nil
}

// Make makes the data directory of the owner, readable by nobody else.
func (d *Data) Make() error {
	id, err := d.Owner()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(d.Dir, 0o700); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		if err := os.Chown(d.Dir, int(id.UID), int(id.GID)); err != nil {
			return err
		}
	}
	return os.Chmod(d.Dir, 0o700)
}

// DiskFree returns the bytes that are free where the data is; 0: not known.
func (d *Data) DiskFree() observation.Maybe[int64] {
	if _, err := os.Stat(d.Dir); err != nil {
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
		d.size.bytes, d.size.at = DirBytes(d.Dir), time.Now()
	}
	return d.size.bytes
}

// ForgetSize has the next Bytes measure anew.
func (d *Data) ForgetSize() {
	d.size.Lock()
	d.size.at = time.Time{}
	d.size.Unlock()
}

func DirBytes(dir string) int64 {
	var n int64
	filepath.WalkDir(dir, func(_ string, x fs.DirEntry, err error) error {
		if err == nil && x.Type().IsRegular() {
			if fi, err := x.Info(); err == nil {
				n += fi.Size()
			}
		}
		return nil
	})
	return n
}
