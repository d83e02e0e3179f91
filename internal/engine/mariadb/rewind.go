package mariadb

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// What an undo is about, in the agent's memory while it is not finished.
const (
	rememberFork  = "undo fork"
	rememberEnd   = "undo end"
	rememberState = "undo state"
)

// Rewind implements engine.Rewinder. It undoes the tail, newest transaction
// first, from the before images in this server's own log: all of it in one
// transaction, together with a row that says so. A crash at any moment leaves
// it done or not done, and asked again it goes on from there. Then the log is
// emptied and begins anew at the fork.
func (e *Engine) Rewind(ctx context.Context, a verb.Rewind, progress engine.Progress) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	progress("starting it read-only", 0, 0)
	again := e.memory.Unfinished() == "rewind"
	if err := e.launch(ctx); err != nil {
		return err
	}
	if err := e.exec(ctx, "set global read_only = 1; stop all slaves"); err != nil {
		return err
	}
	if !again {
		if err := e.planUndo(ctx, a); err != nil {
			return err
		}
	}
	if err := e.undoTail(ctx, progress); err != nil {
		return err
	}
	progress("emptying its log back to the fork", 0, 0)
	state, err := position.ParseGTIDState(e.memory.Fingerprint(rememberState))
	if err != nil {
		return err
	}
	err = e.exec(ctx,
		fmt.Sprintf("reset slave all; reset master; set global gtid_binlog_state = %s; set global gtid_slave_pos = %s",
			literal(state.String()), literal(e.memory.Fingerprint(rememberFork))))
	if err != nil {
		return fmt.Errorf("empty its log: %w", err)
	}
	if err := e.forgetUndone(ctx); err != nil {
		return err
	}
	return e.memory.SetUnfinished("")
}

// planUndo looks once more at what is to be undone, on the running server, and
// writes it down before anything is changed.
func (e *Engine) planUndo(ctx context.Context, a verb.Rewind) error {
	primary, err := e.fetchState(ctx, a.Source)
	if err != nil {
		return err
	}
	c, err := e.compareLogs(ctx, a.Source, primary)
	if err != nil {
		return err
	}
	x := &verb.Examination{}
	c.report(x)
	switch {
	case x.Fork != a.Fork || x.End != a.End:
		return fmt.Errorf("%s holds %s up to %s now, the plan was made for %s up to %s: look again", e.cfg.Name, x.Fork,
			x.End, a.Fork, a.End)
	case !x.Rewindable:
		return fmt.Errorf("the tail of %s cannot be undone: %s", e.cfg.Name, x.WhyNot)
	}
	if err := e.ensureUndone(ctx); err != nil {
		return err
	}
	for key, value := range map[string]string{rememberFork: x.Fork, rememberEnd: x.End, rememberState: c.state.String()} {
		if err := e.memory.SetFingerprint(key, value); err != nil {
			return err
		}
	}
	return e.memory.SetUnfinished("rewind")
}

// ensureUndone makes the table that says that an undo was done; this server's
// alone, so it is not logged.
func (e *Engine) ensureUndone(ctx context.Context) error {
	return e.unlogged(ctx, func(c *sql.Conn) error {
		_, err := c.ExecContext(ctx,
			"create database if not exists crosstwin; create table if not exists crosstwin.undone (id int not null primary "+
				"key, fork text not null, tail_end text not null); delete from crosstwin.undone")
		return err
	})
}

func (e *Engine) forgetUndone(ctx context.Context) error {
	return e.unlogged(ctx, func(c *sql.Conn) error {
		_, err := c.ExecContext(ctx, "delete from crosstwin.undone")
		return err
	})
}

// unlogged runs statements that no replica is to repeat.
func (e *Engine) unlogged(ctx context.Context, do func(*sql.Conn) error) error {
	c, err := e.db.Conn(ctx)
	if err != nil {
		return e.explain(err)
	}
	// The session ends with it: nobody gets it back from the pool unlogged.
	defer end(c)
	if _, err := c.ExecContext(ctx, "set session sql_log_bin = 0"); err != nil {
		return e.explain(err)
	}
	return e.explain(do(c))
}

// undoTail applies the reversed tail in one transaction, unless the row says
// that this was done.
func (e *Engine) undoTail(ctx context.Context, progress engine.Progress) error {
	fork, err := position.ParseGTIDPosition(e.memory.Fingerprint(rememberFork))
	if err != nil {
		return err
	}
	return e.unlogged(ctx, func(c *sql.Conn) error {
		var n int
		if err := c.QueryRowContext(ctx, "select count(*) from crosstwin.undone").Scan(&n); err != nil || n > 0 {
			return err
		}
		if _, err := c.ExecContext(ctx,
			"set session foreign_key_checks = 0; set session unique_checks = 0; "+
				"set session slave_exec_mode = 'STRICT'"); err != nil && number(err) != 1229 {
			return err
		}
		if _, err := c.ExecContext(ctx, "set global slave_exec_mode = 'STRICT'; start transaction"); err != nil {
			return err
		}
		done := 0
		err := e.eachReversed(ctx, fork, func(statement string) error {
			done++
			progress(fmt.Sprintf("undoing, %d changes so far", done), 0, 0)
			_, err := c.ExecContext(ctx, statement)
			return err
		})
		if err != nil {
			c.ExecContext(context.WithoutCancel(ctx), "rollback")
			return fmt.Errorf("undo the tail: %w; nothing of it was undone", err)
		}
		if _, err := c.ExecContext(ctx, "insert into crosstwin.undone values (1, ?, ?)", e.memory.Fingerprint(rememberFork),
			e.memory.Fingerprint(rememberEnd)); err != nil {
			return err
		}
		_, err = c.ExecContext(ctx, "commit")
		return err
	})
}

// eachReversed hands over the statements that undo the own log back to the
// fork, as the server's dump utility reverses them: newest file first, and of
// the file with the fork only what comes after it. Only the row images are
// taken over, without the utility's own transactions.
func (e *Engine) eachReversed(ctx context.Context, fork position.GTIDPosition, do func(statement string) error) error {
	files, from, err := e.tailFiles(fork)
	if err != nil {
		return err
	}
	for i := len(files) - 1; i >= 0; i-- {
		args := []string{"--no-defaults", "--flashback"}
		if i == 0 && from > 0 {
			args = append(args, fmt.Sprintf("--start-position=%d", from))
		}
		if err := e.eachImage(ctx, append(args, files[i]), do); err != nil {
			return fmt.Errorf("%s: %w", filepath.Base(files[i]), err)
		}
	}
	return nil
}

// tailFiles returns the files that hold the tail, and where it begins in the
// first.
func (e *Engine) tailFiles(fork position.GTIDPosition) (files []string, from uint32, err error) {
	seen := map[string]uint32{}
	var order []string
	all, err := e.logFiles()
	if err != nil {
		return nil, 0, err
	}
	err = e.groupsAfter(fork, func(file string, g *binlog.Group) error {
		if _, ok := seen[file]; !ok {
			seen[file] = g.From
			order = append(order, file)
		}
		return nil
	})
	if err != nil || len(order) == 0 {
		return nil, 0, err
	}
	for i, f := range all {
		if f == order[0] {
			return all[i:], seen[order[0]], nil
		}
	}
	return nil, 0, fmt.Errorf("%s is not in the index of the log", order[0])
}

// eachImage runs the dump utility and hands over its BINLOG statements.
func (e *Engine) eachImage(ctx context.Context, args []string, do func(string) error) error {
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer r.Close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	go func() {
		err := e.RunWatched(ctx, func(string) {}, host.Piped{Stdout: w}, "mariadb-binlog", args...)
		w.Close()
		ended <- err
	}()
	err = readImages(bufio.NewReaderSize(r, 1<<20), do)
	if err != nil {
		cancel()
	}
	r.Close()
	return errors.Join(err, <-ended)
}

// readImages finds "BINLOG '…'" in the utility's output. The text between the
// quotes is base64 and holds no quote of its own.
func readImages(r *bufio.Reader, do func(string) error) error {
	var open *strings.Builder
	for {
		line, err := r.ReadString('\n')
		switch {
		case open == nil && strings.TrimSpace(line) == "BINLOG '":
			open = &strings.Builder{}
			open.WriteString(line)
		case open != nil && strings.HasPrefix(line, "'"):
			open.WriteString("'")
			if err := do(open.String()); err != nil {
				return err
			}
			open = nil
		case open != nil:
			open.WriteString(line)
		}
		if err != nil {
			if open != nil {
				return errors.New("the dump utility's output ends within a statement")
			}
			return nil
		}
	}
}
