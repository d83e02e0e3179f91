package postgres

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strconv"

	"crosstwin/internal/core/pgtool"
)

func lockThread() { runtime.LockOSThread() }

// writeOwned writes a file of the database's owner and syncs it and its
// directory, by way of a temporary name.
func (e *Engine) writeOwned(path string, content []byte) error {
	id, err := e.owner()
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
		err = f.Chown(int(id.uid), int(id.gid))
	}
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		os.Remove(tmp)
		return err
	}
	return syncDir(filepath.Dir(path))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

func removeSynced(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return syncDir(filepath.Dir(path))
}

// dataEmpty tells whether no database stands in the data directory.
func (e *Engine) dataEmpty() bool {
	d, err := os.ReadDir(e.cfg.DataDir)
	return err != nil || len(d) == 0
}

// editAuto changes postgresql.auto.conf of a server that does not run.
func (e *Engine) editAuto(change func(pgtool.Settings)) error {
	path := e.path("postgresql.auto.conf")
	b, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	s, err := pgtool.ParseSettings(string(b))
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	change(s)
	if text := s.String(); text != string(b) {
		return e.writeOwned(path, []byte(text))
	}
	return nil
}

// claimIdentity writes the settings that are this server's own and that a copy
// or a rewind brings along from another server.
func (e *Engine) claimIdentity() error {
	return e.editAuto(func(s pgtool.Settings) {
		s["port"] = strconv.Itoa(e.cfg.Port)
		s["listen_addresses"] = e.cfg.Listen
		s["unix_socket_directories"] = e.cfg.SocketDir
		s["cluster_name"] = e.cfg.Name
	})
}

// ownFiles are the files with a server's own settings, which a rewind
// overwrites with the source's.
var ownFiles = []string{"postgresql.conf", "postgresql.auto.conf", "pg_hba.conf", "pg_ident.conf"}

func (e *Engine) ownDir() string { return filepath.Join(e.cfg.WorkDir, "own-settings") }

// saveOwnFiles copies them aside. What an interrupted rewind saved before is
// kept: the files in the data directory may be the source's by now.
func (e *Engine) saveOwnFiles(again bool) error {
	if _, err := os.Stat(e.ownDir()); err == nil && again {
		return nil
	}
	tmp := e.ownDir() + ".new"
	if err := os.RemoveAll(tmp); err != nil {
		return err
	}
	if err := os.MkdirAll(tmp, 0o700); err != nil {
		return err
	}
	for _, n := range ownFiles {
		b, err := os.ReadFile(e.path(n))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = os.WriteFile(filepath.Join(tmp, n), b, 0o600)
		}
		if err != nil {
			return fmt.Errorf("save the settings of %s: %w", e.cfg.Name, err)
		}
	}
	if err := os.RemoveAll(e.ownDir()); err != nil {
		return err
	}
	if err := os.Rename(tmp, e.ownDir()); err != nil {
		return err
	}
	return syncDir(e.cfg.WorkDir)
}

func (e *Engine) restoreOwnFiles() error {
	for _, n := range ownFiles {
		b, err := os.ReadFile(filepath.Join(e.ownDir(), n))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = e.writeOwned(e.path(n), b)
		}
		if err != nil {
			return fmt.Errorf("put back the settings of %s: %w", e.cfg.Name, err)
		}
	}
	return nil
}

// clearData removes everything inside the data directory, which itself may be
// a mount point and stays.
func (e *Engine) clearData() error {
	d, err := os.ReadDir(e.cfg.DataDir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, x := range d {
		if err := os.RemoveAll(e.path(x.Name())); err != nil {
			return fmt.Errorf("clear %s: %w", e.cfg.DataDir, err)
		}
	}
	return nil
}

func (e *Engine) makeDataDir() error {
	id, err := e.owner()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(e.cfg.DataDir, 0o700); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		if err := os.Chown(e.cfg.DataDir, int(id.uid), int(id.gid)); err != nil {
			return err
		}
	}
	return os.Chmod(e.cfg.DataDir, 0o700)
}

// dirBytes sums the files of a directory.
func dirBytes(dir string) int64 {
	var n int64
	filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if fi, err := d.Info(); err == nil {
				n += fi.Size()
			}
		}
		return nil
	})
	return n
}
