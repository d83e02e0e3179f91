// Package store keeps the service's records in one SQLite file: clusters and
// their terms, servers, operations with plan, steps and journal, the audit
// trail, tokens. One connection writes; a commit is on disk when it returns,
// because terms and journals must be (synchronous = FULL).
package store

import (
	"cmp"
	"context"
	"crypto/cipher"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound says that no such record exists.
var ErrNotFound = errors.New("not found")

// ErrTaken says that a name or a cluster is taken already.
var ErrTaken = errors.New("taken already")

// Store is the open file.
type Store struct {
	w, r *sqlx.DB
	// m writes samples. A crash of the machine may lose the last of them, so
	// they are not synced one by one: each second's sync would cost every
	// database that shares the disk.
	m    *sqlx.DB
	lock *os.File
	path string
	// seals seals secrets that have to be read again.
	seals cipher.AEAD

	touch   sync.Mutex
	touched map[string]time.Time // when a token's use was last recorded
}

// Open opens or makes the records in a directory, brings them to this binary's
// schema (after a copy of the file as it was), and keeps a second service out.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("another service works with the records in %s: stop it first, or give another --dir", dir)
	}
	s := &Store{lock: lock, path: filepath.Join(dir, "crosstwin.db"), touched: map[string]time.Time{}}
	if err := s.open(ctx); err != nil {
		s.Close()
		return nil, fmt.Errorf("records in %s: %w", s.path, err)
	}
	return s, nil
}

func (s *Store) open(ctx context.Context) error {
	const pragmas = "?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(5000)" +
		"&_pragma=foreign_keys(1)&_txlock=immediate"
	var err error
	if s.w, err = sqlx.Open("sqlite", "file:"+s.path+pragmas); err != nil {
		return err
	}
	s.w.SetMaxOpenConns(1)
	if s.r, err = sqlx.Open("sqlite", "file:"+s.path+pragmas); err != nil {
		return err
	}
	s.r.SetMaxOpenConns(4)
	if s.m, err = sqlx.Open("sqlite", "file:"+s.path+
		strings.Replace(pragmas, "synchronous(FULL)", "synchronous(NORMAL)", 1)); err != nil {
		return err
	}
	s.m.SetMaxOpenConns(1)
	// The files beside it take its mode (SQLite's documentation, "Temporary Files").
	f, err := os.OpenFile(s.path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Chmod(0o600), f.Close()); err != nil {
		return err
	}
	if err := s.migrate(ctx); err != nil {
		return err
	}
	if err := s.loadKey(); err != nil {
		return err
	}
	return s.sealAll(ctx)
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.w.DB, files)
	if err != nil {
		return err
	}
	have, err := p.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("this is not a file of crosstwin's, or it is damaged: %w", err)
	}
	sources := p.ListSources()
	newest := sources[len(sources)-1].Version
	switch {
	case have > newest:
		return fmt.Errorf(
			"the file was written by a newer crosstwin (schema %d, this one knows %d): install that version again; nothing "+
				"was changed", have, newest)
	case have == newest:
		return nil
	case have > 0:
		if err := s.Backup(ctx, fmt.Sprintf("%s.schema-%d", s.path, have)); err != nil {
			return fmt.Errorf("copy of the file before it is brought to schema %d: %w", newest, err)
		}
	}
	_, err = p.Up(ctx)
	return err
}

// Backup writes a consistent copy of the records while the service runs. The
// target must not exist.
func (s *Store) Backup(ctx context.Context, to string) error {
	// Made before it is filled, so that no other user can ever read it.
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s exists already", to)
	}
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	_, err = s.w.ExecContext(ctx, "vacuum into ?", to)
	return err
}

// TemporaryCopy makes a consistent copy beside the records and returns its name; the
// caller removes it.
func (s *Store) TemporaryCopy(ctx context.Context) (string, error) {
	f, err := os.CreateTemp(filepath.Dir(s.path), ".copy-*")
	if err != nil {
		return "", err
	}
	name := f.Name()
	if err := f.Close(); err != nil {
		return "", err
	}
	_, err = s.w.ExecContext(ctx, "vacuum into ?", name) // into an empty file, which is this user's alone
	return name, err
}

// Restore puts a copy of the records in their place while no service runs. What was
// there is kept beside it under the name that is returned.
func Restore(ctx context.Context, dir, from string) (kept string, err error) {
	if err := sound(ctx, from); err != nil {
		return "", fmt.Errorf("%s: %w; nothing was changed", from, err)
	}
	s, err := Open(ctx, dir) // also keeps a service out meanwhile
	if err != nil {
		return "", err
	}
	lock := s.lock
	s.lock = nil
	defer lock.Close()
	kept = fmt.Sprintf("%s.before-%s", s.path, time.Now().UTC().Format("20060102T150405.000000"))
	err = s.Backup(ctx, kept)
	if err = errors.Join(err, s.Close()); err != nil {
		return "", err
	}
	b, err := os.ReadFile(from)
	if err != nil {
		return "", err
	}
	next := s.path + ".new"
	if err := os.WriteFile(next, b, 0o600); err != nil {
		return "", err
	}
	for _, f := range []string{s.path + "-wal", s.path + "-shm"} {
		if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	return kept, os.Rename(next, s.path)
}

// sound refuses a file that is no whole copy of records.
func sound(ctx context.Context, file string) error {
	if _, err := os.Stat(file); err != nil {
		return err
	}
	db, err := sqlx.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	var verdict string
	if err := db.GetContext(ctx, &verdict, "pragma integrity_check"); err != nil || verdict != "ok" {
		return fmt.Errorf("it is no whole file of records: %w", cmp.Or(err, errors.New(verdict)))
	}
	var n int
	if err := db.GetContext(ctx, &n, "select count(*) from clusters"); err != nil {
		return fmt.Errorf("it holds no records of crosstwin's: %w", err)
	}
	return nil
}

// Close closes the file.
func (s *Store) Close() error {
	var errs []error
	if s.w != nil {
		errs = append(errs, s.w.Close())
	}
	for _, db := range []*sqlx.DB{s.m, s.r} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
}

// Ping reports whether the records can be written.
func (s *Store) Ping(ctx context.Context) error {
	var n int
	if err := s.w.GetContext(ctx, &n, "select 1"); err != nil {
		return err
	}
	var fs syscall.Statfs_t
	if err := syscall.Statfs(s.path, &fs); err == nil && int64(fs.Bavail)*fs.Bsize < leastFree {
		return s.full()
	}
	return nil
}

// leastFree is how much room the records need on their disk to go on being written.
const leastFree = 1 << 20

// full says that the disk is.
func (s *Store) full() error {
	return fmt.Errorf("the disk of %s is full: free some room there; nothing is begun until what is done can be written "+
		"down", s.path)
}

// Explain says of an error that comes from a full disk what is to be done.
func (s *Store) Explain(err error) error {
	var coded interface{ Code() int }
	if errors.As(err, &coded) && coded.Code()&0xff == sqliteFull {
		return fmt.Errorf("%w (%w)", s.full(), err)
	}
	return err
}

// sqliteFull is SQLite's code for a disk that is full (SQLITE_FULL).
const sqliteFull = 13

// timeText is how times stand in the file: UTC, to the microsecond, so that
// text order is time order.
const timeText = "2006-01-02T15:04:05.000000Z"

func now() string { return time.Now().UTC().Format(timeText) }

func parseTime(s sql.NullString) *time.Time {
	if !s.Valid {
		return nil
	}
	t, err := time.Parse(timeText, s.String)
	if err != nil {
		return nil
	}
	return &t
}

func must(s string) time.Time {
	t, _ := time.Parse(timeText, s)
	return t
}

// tx runs f in one write transaction.
func (s *Store) tx(ctx context.Context, f func(*sqlx.Tx) error) error { return inTx(ctx, s.w, f) }

func inTx(ctx context.Context, db *sqlx.DB, f func(*sqlx.Tx) error) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		tx.Rollback()
		return err
	}
	return tx.Commit()
}

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
