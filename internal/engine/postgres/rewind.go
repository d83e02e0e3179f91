package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// private is a server opened read-only for the agent alone: no network, a
// socket that only the owner can reach, no upstream, nothing written to the
// log. It replays what its log holds and stands there.
type private struct {
	dir  string
	port int
	e    *Engine
}

// openPrivately starts the data as a standby that nobody else reaches.
func (e *Engine) openPrivately(ctx context.Context) (*private, error) {
	if err := e.waitGone(ctx); err != nil {
		return nil, err
	}
	if err := e.Close(); err != nil {
		return nil, err
	}
	dir, err := e.TempDir("crosstwin-private-")
	if err != nil {
		return nil, err
	}
	hba := filepath.Join(dir, "hba")
	if err := e.AsOwner(func() error {
		return os.WriteFile(hba, []byte("local all all trust\n"), 0o600)
	}); err != nil {
		return nil, err
	}
	p := &private{dir: dir, port: e.cfg.Port, e: e}
	// No log file may go while it is open: the rewind still reads them.
	err = e.launch(ctx, "-c", "listen_addresses=", "-c", "unix_socket_directories="+dir, "-c", "hba_file="+hba, "-c",
		"primary_conninfo=", "-c", "primary_slot_name=",
		"-c", "restore_command=", "-c", "archive_mode=off", "-c", "wal_keep_size=2147483647", "-c",
		"max_slot_wal_keep_size=-1", "-c", "hot_standby=on")
	if err != nil {
		e.RemoveAll(dir)
		return nil, err
	}
	if err := p.waitReplayed(ctx); err != nil {
		p.close(ctx)
		return nil, err
	}
	return p, nil
}

func (p *private) connect(ctx context.Context, database string) (*pgx.Conn, error) {
	return p.e.connect(ctx, database, p.dir, p.port)
}

// waitReplayed waits until the startup process says that it has nothing left to
// replay: it waits for log that nobody sends (documentation, "Wait Events of Type
// Timeout").
func (p *private) waitReplayed(ctx context.Context) error {
	c, err := p.connect(ctx, "postgres")
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for {
		var waits string
		if err := c.QueryRow(ctx,
			"select coalesce((select wait_event from pg_stat_activity where backend_type = 'startup'), '')").Scan(
			&waits); err != nil {
			return err
		}
		if waits == "RecoveryRetrieveRetryInterval" {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (p *private) close(ctx context.Context) error {
	defer p.e.RemoveAll(p.dir)
	if err := p.e.Stop(ctx); err != nil {
		return err
	}
	return p.e.waitGone(ctx)
}

// Settle implements engine.Rewinder: a server that crashed is opened as a
// standby, replays its own log to the end, and stops cleanly. It
// writes nothing of its own: pg_rewind's recovery would write a checkpoint
// and with it make a fork where there was none (measured).
func (e *Engine) Settle(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if u := e.memory.Unfinished(); u != "" {
		return nil // only another rewind or seed helps; nothing to settle
	}
	c, err := e.control(ctx)
	if err != nil {
		return err
	}
	if len(e.Processes()) == 0 && c.Clean() {
		return nil
	}
	if err := e.fence(ctx, true); err != nil {
		return err
	}
	if c, err = e.control(ctx); err != nil || c.Clean() {
		return err
	}
	p, err := e.openPrivately(ctx)
	if err != nil {
		return err
	}
	return p.close(ctx)
}

// rewindArgs are pg_rewind's arguments. Where the server has a restore_command, log of its own
// that is gone comes back from its archive.
func (e *Engine) rewindArgs(ctx context.Context, a verb.Rewind) []string {
	args := []string{"-D", e.cfg.DataDir, "--source-server=" + e.conninfo(a.Source, "dbname", "postgres"), "-P"}
	if e.apart() {
		args = append(args, "--config-file="+e.cfg.ConfigFile)
	}
	if e.restoreCommand(ctx) != "" {
		args = append(args, "--restore-target-wal")
	}
	return args
}

// Rewind implements engine.Rewinder. pg_rewind copies the source's settings
// over the server's own and leaves no trace when it is interrupted: the
// agent's memory holds both, the saved settings and the mark of an unfinished
// rewind, until everything is in place again.
func (e *Engine) Rewind(ctx context.Context, a verb.Rewind, progress engine.Progress) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if left := e.Processes(); len(left) > 0 {
		return fmt.Errorf("%s still runs (processes %v): stop it before it is rewound", e.cfg.Name, left)
	}
	before := e.memory.Unfinished()
	again := before == "rewind"
	if err := e.saveOwnFiles(again); err != nil {
		return err
	}
	if err := e.memory.SetUnfinished("rewind"); err != nil {
		return err
	}
	if err := e.memory.ForgetFingerprints(); err != nil {
		return err
	}
	progress("comparing blocks", 0, 0)
	said, touched := "", false
	err := e.RunWatched(ctx, func(line string) {
		touched = touched || strings.Contains(line, "need to copy")
		if done, total, ok := parseProgress(line); ok {
			touched = true
			progress("copying blocks back", done, total)
		} else {
			said += line + "\n"
			progress(strings.TrimPrefix(line, "pg_rewind: "), 0, 0)
		}
	}, host.Piped{}, "pg_rewind", e.rewindArgs(ctx, a)...)
	if err != nil {
		if !touched && ctx.Err() == nil {
			// It gave up before it changed a file: the data is what it was.
			return errors.Join(err, e.memory.SetUnfinished(before))
		}
		return err
	}
	if strings.Contains(said, "no rewind required") {
		// Said also of servers that share a number and not a history, and of
		// a source without a checkpoint on its new timeline: never a proof.
		e.memory.SetUnfinished(before)
		return fmt.Errorf(
			"pg_rewind found nothing to take out of %s, although its log parts from %s's at %s: rebuild it instead", e.cfg.Name,
			a.Source.Name, a.Fork)
	}
	if err := e.restoreOwnFiles(); err != nil {
		return err
	}
	if err := e.editAuto(func(s pgtool.Settings) {
		s["primary_conninfo"], s["primary_slot_name"] = e.conninfo(a.Source), verb.SlotName(e.cfg.Name)
	}); err != nil {
		return err
	}
	if err := e.Close(); err != nil {
		return err
	}
	if err := e.adopt(a.Line, a.Past); err != nil {
		return err
	}
	return e.memory.SetUnfinished("")
}
