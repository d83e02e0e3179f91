package mariadb

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// copyNote holds, in the copy itself, what the source's log held beyond the
// copy's own position.
const copyNote = "crosstwin-copy.json"

// Seed implements engine.Seeder. From the first change on the data directory
// counts as unfinished, until Verify has applied the copy's log to it.
func (e *Engine) Seed(ctx context.Context, a verb.Seed, progress engine.Progress) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if a.Way == "dump" {
		return e.seedDump(ctx, a, progress)
	}
	if left := e.Processes(); len(left) > 0 {
		return fmt.Errorf("%s still runs (processes %v): stop it before its data is replaced", e.cfg.Name, left)
	}
	if !e.Empty() && !a.Replace && e.memory.Unfinished() != "seed" {
		return fmt.Errorf("%s is not empty: nothing was touched; ask with --replace if what is in it may go", e.cfg.DataDir)
	}
	if err := e.beginSeed(); err != nil {
		return err
	}
	if err := e.Make(); err != nil {
		return err
	}
	progress("clearing "+e.cfg.DataDir, 0, 0)
	if err := e.Clear(); err != nil {
		return err
	}
	source, err := e.fetchState(ctx, a.Source)
	if err != nil {
		return err
	}
	r, err := e.peers.Fetch(ctx, a.Source, shareCopy, nil)
	if err != nil {
		return err
	}
	defer r.Close()
	counted := &countingReader{r: r}
	stop := every(500*time.Millisecond, func() { progress("copying", counted.n.Load(), source.Bytes) })
	err = e.unpack(ctx, counted)
	stop()
	if err != nil {
		return err
	}
	b, err := json.Marshal(source)
	if err != nil {
		return err
	}
	e.ForgetSize()
	return e.WriteOwned(e.Path(copyNote), b)
}

// beginSeed notes that the data is no server's any more.
func (e *Engine) beginSeed() error {
	logs, relay := e.memory.Fingerprint(rememberLogs), e.memory.Fingerprint(rememberRelay)
	if err := e.memory.SetUnfinished("seed"); err != nil {
		return err
	}
	if err := e.memory.ForgetFingerprints(); err != nil {
		return err
	}
	// Where the logs are, the configuration says: that is no property of the data.
	e.remember(rememberLogs, logs)
	e.remember(rememberRelay, relay)
	return nil
}

// unpack writes the stream's files. The stream ends with an error when the
// source's utility failed, and the unpacking program would not notice.
func (e *Engine) unpack(ctx context.Context, r io.Reader) error {
	in, w, err := host.LargePipe()
	if err != nil {
		return err
	}
	defer in.Close()
	fed := make(chan error, 1)
	go func() {
		_, err := io.CopyBuffer(struct{ io.Writer }{w}, r, make([]byte, host.PipePiece))
		w.Close()
		fed <- err
	}()
	err = e.RunWatched(ctx, func(string) {}, host.Piped{Stdin: in}, "mbstream", "-x", "-C", e.cfg.DataDir)
	in.Close()
	if err := errors.Join(<-fed, err); err != nil {
		return fmt.Errorf("copy to %s: %w", e.cfg.Name, err)
	}
	return nil
}

type countingReader struct {
	r io.Reader
	n atomic.Int64
}

func (c *countingReader) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n.Add(int64(n))
	return n, err
}

// every calls do at intervals until the returned function is called.
func every(d time.Duration, do func()) (stop func()) {
	done := make(chan struct{})
	go func() {
		t := time.NewTicker(d)
		defer t.Stop()
		for {
			select {
			case <-done:
				return
			case <-t.C:
				do()
			}
		}
	}()
	return func() { close(done) }
}

// Verify implements engine.Seeder: it has the backup utility apply the copy's
// own log, which checks every page it touches, starts the server read-only and
// sets the positions that it begins from.
func (e *Engine) Verify(ctx context.Context, progress engine.Progress) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.memory.Unfinished() == "" {
		return nil // done before
	}
	b, err := e.ReadFile(e.Path(copyNote))
	if err != nil {
		return fmt.Errorf("the copy in %s did not come to its end; seed it again", e.cfg.DataDir)
	}
	var source sharedState
	if err := json.Unmarshal(b, &source); err != nil {
		return err
	}
	at, err := e.copiedUpTo()
	if err != nil {
		return err
	}
	if _, ok := e.running(); !ok {
		progress("applying the copy's own log", 0, 0)
		_, said, err := e.Run(ctx, "mariadb-backup", "--no-defaults", "--prepare", "--target-dir="+e.cfg.DataDir)
		if err != nil {
			return err
		}
		if !strings.Contains(said, "completed OK!") {
			return fmt.Errorf("mariadb-backup did not say that the copy in %s is complete: %s", e.cfg.DataDir,
				host.LastLines(said, 3))
		}
		progress("starting it read-only", 0, 0)
		if err := e.encryptFromStart(); err != nil {
			return err
		}
		if err := e.launch(ctx); err != nil {
			return err
		}
	}
	return e.beginAt(ctx, source.State, at)
}

// copiedUpTo returns the GTID position that the copy stands at: the third field
// of the file that the backup utility leaves.
func (e *Engine) copiedUpTo() (string, error) {
	for _, n := range []string{"xtrabackup_binlog_info", "mariadb_backup_binlog_info"} {
		b, err := e.ReadFile(e.Path(n))
		if err != nil {
			continue
		}
		f := strings.Fields(string(b))
		if len(f) < 3 {
			return "", fmt.Errorf("the copy says no GTID position: %q; is log_bin on at the source?",
				strings.TrimSpace(string(b)))
		}
		return f[2], nil
	}
	return "", fmt.Errorf("the copy in %s does not say at which position it stands", e.cfg.DataDir)
}

// beginAt empties the server's own log and has it begin at a position of the
// source's history. The state also names servers that wrote long ago: without
// them an old server's past would look like writes that nobody else has.
func (e *Engine) beginAt(ctx context.Context, sourceState, at string) error {
	state, err := position.ParseGTIDState(sourceState)
	if err != nil {
		return err
	}
	p, err := position.ParseGTIDPosition(at)
	if err != nil {
		return err
	}
	for _, g := range p.All() {
		state = state.With(g)
	}
	if err := e.exec(ctx,
		fmt.Sprintf(
			"stop all slaves; reset slave all; reset master; set global gtid_binlog_state = %s; set global gtid_slave_pos = %s",
			literal(state.String()), literal(p.String()))); err != nil {
		return fmt.Errorf("set the position of the copy: %w", err)
	}
	for _, prefix := range []string{utilityUser, oneReader} {
		if err := e.dropAccountsOf(ctx, prefix); err != nil {
			return err
		}
	}
	if err := e.disableEvents(ctx); err != nil {
		return fmt.Errorf("switch its events off: %w", err)
	}
	e.ForgetSize()
	return e.memory.SetUnfinished("")
}

// seedDump loads a logical copy into a server that runs, or that is made new:
// for another layout of files, or another host's way of keeping them.
func (e *Engine) seedDump(ctx context.Context, a verb.Seed, progress engine.Progress) error {
	if !e.Empty() && !a.Replace && e.memory.Unfinished() != "seed" {
		return fmt.Errorf("%s is not empty: nothing was touched; ask with --replace if what is in it may go", e.cfg.DataDir)
	}
	if err := e.beginSeed(); err != nil {
		return err
	}
	if e.Empty() {
		progress("making an empty server", 0, 0)
		if err := e.Make(); err != nil {
			return err
		}
		// A directory of its own for temporary files: the program clears the
		// leftovers there, a neighbour's in use too (measured).
		tmp := e.Path("tmp")
		if _, _, err := e.Run(ctx, "mkdir", tmp); err != nil {
			return err
		}
		defer e.RemoveAll(tmp)
		if _, _, err := e.Run(ctx, "env", "TMPDIR="+tmp, filepath.Join(e.BinDir, "mariadb-install-db"), "--no-defaults",
			"--datadir="+e.cfg.DataDir, "--auth-root-authentication-method=socket", "--auth-root-socket-user="+e.cfg.Superuser,
			"--skip-test-db"); err != nil {
			return err
		}
	}
	if err := e.encryptFromStart(); err != nil {
		return err
	}
	if err := e.launch(ctx); err != nil {
		return err
	}
	if err := e.exec(ctx, "set global read_only = 1"); err != nil {
		return err
	}
	source, err := e.fetchState(ctx, a.Source)
	if err != nil {
		return err
	}
	if err := e.dropDatabases(ctx); err != nil {
		return err
	}
	r, err := e.peers.Fetch(ctx, a.Source, shareDump, nil)
	if err != nil {
		return err
	}
	defer r.Close()
	counted := &countingReader{r: r}
	stop := every(500*time.Millisecond, func() { progress("loading", counted.n.Load(), source.Bytes) })
	found, err := e.load(ctx, counted)
	stop()
	if err != nil {
		return err
	}
	// What the source's agent reads the position from, for a later Verify.
	if err := e.WriteOwned(e.Path("xtrabackup_binlog_info"), []byte("dump 0 "+found+"\n")); err != nil {
		return err
	}
	b, err := json.Marshal(source)
	if err != nil {
		return err
	}
	return e.WriteOwned(e.Path(copyNote), b)
}

// dropDatabases removes what the plan showed and a person agreed to: the
// databases that stand where the copy goes.
func (e *Engine) dropDatabases(ctx context.Context) error {
	// Its own log goes too: a position before what it says could not be set.
	if err := e.exec(ctx, "stop all slaves; reset slave all; reset master"); err != nil {
		return err
	}
	rows, err := e.query(ctx,
		"select schema_name n from information_schema.schemata where schema_name not in ('mysql', 'information_schema', "+
			"'performance_schema', 'sys')")
	if err != nil {
		return err
	}
	c, err := e.db.Conn(ctx)
	if err != nil {
		return e.explain(err)
	}
	defer end(c) // a session with its log off must not go back to the pool
	statements := "set session sql_log_bin = 0; set session foreign_key_checks = 0"
	for _, r := range rows {
		statements += "; drop database " + name(r["n"])
	}
	_, err = c.ExecContext(ctx, statements+"; set session foreign_key_checks = 1; set session sql_log_bin = 1")
	return e.explain(err)
}

// load pipes a dump into the server and gives the position that it stands at,
// which the dump says in a statement of its own.
func (e *Engine) load(ctx context.Context, dump io.Reader) (string, error) {
	r, w, err := os.Pipe()
	if err != nil {
		return "", err
	}
	defer r.Close()
	fed := make(chan error, 1)
	watch := &positionWatch{}
	go func() {
		_, err := io.WriteString(w, "set session sql_log_bin = 0;\n")
		if err == nil {
			_, err = io.Copy(io.MultiWriter(w, watch), dump)
		}
		if err == nil {
			_, err = io.WriteString(w, "\nflush privileges;\n")
		}
		w.Close()
		fed <- err
	}()
	err = e.execute(ctx, r, "--default-character-set=utf8mb4")
	r.Close()
	if err := errors.Join(<-fed, err); err != nil {
		return "", fmt.Errorf("load the copy into %s: %w", e.cfg.Name, err)
	}
	if watch.found == "" {
		return "", fmt.Errorf("the copy says no GTID position: is log_bin on at the source?")
	}
	return watch.found, nil
}

// positionWatch finds the statement that sets gtid_slave_pos in a dump.
type positionWatch struct {
	rest  []byte
	found string
}

func (p *positionWatch) Write(b []byte) (int, error) {
	const statement = "SET GLOBAL gtid_slave_pos='"
	p.rest = append(p.rest, b...)
	if i := strings.Index(string(p.rest), statement); i >= 0 {
		after := string(p.rest[i+len(statement):])
		if at, _, ok := strings.Cut(after, "'"); ok {
			p.found = at
		} else {
			p.rest = p.rest[i:]
			return len(b), nil
		}
	}
	p.rest = append([]byte(nil), p.rest[max(0, len(p.rest)-len(statement)):]...)
	return len(b), nil
}
