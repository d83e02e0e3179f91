package postgres

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/engine/host"
)

// editAuto changes postgresql.auto.conf of a server that does not run.
func (e *Engine) editAuto(change func(pgtool.Settings)) error {
	path := e.Path(autoFile)
	b, err := e.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	s, err := pgtool.ParseSettings(string(b))
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	change(s)
	if text := s.String(); text != string(b) {
		return e.WriteOwned(path, []byte(text))
	}
	return nil
}

// claimIdentity writes the settings that are this server's own and that a copy
// or a rewind brings along from another server. A configuration outside of the data
// directory has them already, but for what the packages leave out.
func (e *Engine) claimIdentity(ctx context.Context) error {
	if e.apart() {
		return e.claimWanted(ctx)
	}
	return e.editAuto(func(s pgtool.Settings) {
		s["port"] = strconv.Itoa(e.cfg.Port)
		s["listen_addresses"] = e.cfg.Listen
		s["unix_socket_directories"] = e.cfg.SocketDir
		s["cluster_name"] = e.cfg.Name
	})
}

// claimWanted sets what a server whose configuration is its administrator's lacks to be
// followed and rewound.
func (e *Engine) claimWanted(ctx context.Context) error {
	now := map[string]string{}
	for _, name := range []string{"listen_addresses", "wal_log_hints"} {
		said, _, err := e.Run(ctx, "postgres", e.serverArgs("-C", name)...)
		if err != nil {
			return err
		}
		now[name] = strings.TrimSpace(said)
	}
	wanted := e.wanted(now)
	if len(wanted) == 0 {
		return nil
	}
	return e.editAuto(func(s pgtool.Settings) { maps.Copy(s, wanted) })
}

// wanted returns the settings that a server lacks, given what it has: to listen at the
// address at which its peers reach it, beside those that are set, and to log hints, without
// which it could not be rewound.
func (e *Engine) wanted(now map[string]string) map[string]string {
	out := map[string]string{}
	if listen := now["listen_addresses"]; host.HasAddress(e.cfg.Host) && !listensAt(listen, e.cfg.Listen) {
		out["listen_addresses"] = strings.Trim(listen+", "+e.cfg.Listen, ", ")
	}
	if now["wal_log_hints"] == "off" && now["data_checksums"] != "on" {
		out["wal_log_hints"] = "on"
	}
	return out
}

// listensAt reports whether listen_addresses cover all addresses of another such list.
func listensAt(now, wanted string) bool { return host.Listens(now, wanted, "*") }

// autoFile holds what ALTER SYSTEM has set.
const autoFile = "postgresql.auto.conf"

// ownFiles are the files with a server's own settings in its data directory, which a
// rewind overwrites with the source's.
func (e *Engine) ownFiles() []string {
	if e.apart() {
		return []string{autoFile}
	}
	return []string{"postgresql.conf", autoFile, "pg_hba.conf", "pg_ident.conf"}
}

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
	for _, n := range e.ownFiles() {
		b, err := e.ReadFile(e.Path(n))
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
	return host.SyncDir(e.cfg.WorkDir)
}

func (e *Engine) restoreOwnFiles() error {
	for _, n := range e.ownFiles() {
		b, err := os.ReadFile(filepath.Join(e.ownDir(), n))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = e.WriteOwned(e.Path(n), b)
		}
		if err != nil {
			return fmt.Errorf("restore the settings of %s: %w", e.cfg.Name, err)
		}
	}
	return nil
}
