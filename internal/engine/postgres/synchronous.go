package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// The list of replicas that commits wait for stands in a file of the agent's own, which the
// server's configuration includes where it is there: a rewind or a copy brings the source's
// postgresql.auto.conf along, which would be another server's list.

const (
	synchronousBegin = "# crosstwin begin: synchronous replication, written by the agent"
	synchronousEnd   = "# crosstwin end"
)

// rememberList is what the agent was told, and what of it is proven.
const rememberList = "synchronous list"

// told is that.
type told struct {
	List     synchronous.List
	Standbys []string
	// Proven: a server had Value and was seen to obey it. At is a position after which all
	// commits waited; empty: from when the server is primary on.
	Proven bool
	At     string
	// Taking: the server is being told, and has the value Before until it reads its settings.
	Taking bool
	Before string
}

func (t told) value() string {
	return pgtool.Standbys{Need: t.List.Need, Names: t.Standbys}.String()
}

// told returns what the agent was told last.
func (e *Engine) told() told { return engine.Recall[told](e.memory, rememberList) }

func (e *Engine) keepTold(t told) error { return engine.Keep(e.memory, rememberList, t) }

func (e *Engine) synchronousFile() string { return filepath.Join(e.cfg.WorkDir, "synchronous.conf") }

// synchronousBlock returns a configuration with our block at its end.
func (e *Engine) synchronousBlock(content string) string {
	content = host.WithoutBlock(content, synchronousBegin, synchronousEnd)
	return strings.TrimRight(content, "\n") + "\n" + synchronousBegin + "\ninclude_if_exists = '" +
		strings.ReplaceAll(e.synchronousFile(), "'", "''") + "'\n" + synchronousEnd + "\n"
}

// claimSynchronous has a configuration that came with a copy name this server's own file, and
// no other server's list.
func (e *Engine) claimSynchronous() error {
	if e.told().List.IsZero() { // a copy was made over what was told
		if err := os.Remove(e.synchronousFile()); err != nil && !os.IsNotExist(err) {
			return err
		}
	}
	file := e.configFile()
	b, err := e.ReadFile(file)
	if err != nil || !strings.Contains(string(b), synchronousBegin) {
		return nil // whether there is one at all, the server says
	}
	if text := e.synchronousBlock(string(b)); text != string(b) {
		return e.RewriteTrusted(file, []byte(text))
	}
	return nil
}

// Synchronize implements engine.Synchronizer. What waits by the list before is freed by those of
// the new one; a session that reads its settings later than others cannot let a commit through,
// because the senders alone count acknowledgements (handbook, "Synchronous replication", 10).
func (e *Engine) Synchronize(ctx context.Context, a verb.Synchronize) (problem error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(a.Standbys) != len(a.List.Names) || slices.Contains(a.Standbys, "*") || slices.Contains(a.Standbys, "") {
		return fmt.Errorf("%s: %q are no names for %s", e.cfg.Name, a.Standbys, a.List)
	}
	t := told{List: a.List, Standbys: a.Standbys}
	_, running := e.running()
	if running {
		var replica bool
		if err := e.pool.QueryRow(ctx, "select current_setting('synchronous_standby_names'), pg_is_in_recovery()").Scan(
			&t.Before, &replica); err != nil {
			return e.explain(err)
		}
		before := e.told()
		if !replica && before.Proven && before.List.Equal(t.List) && slices.Equal(before.Standbys, t.Standbys) {
			// Asked again: what was proven stays so. Not on a replica, for which another time as
			// primary begins: what others acknowledged since is no part of what was proven then.
			t.Proven, t.At = true, before.At
		}
		t.Taking = true
		defer func() { // whatever came of it, what the server has from now on is by hand or ours
			if now := e.told(); now.Taking {
				now.Taking, now.Before = false, ""
				problem = errors.Join(problem, e.keepTold(now))
			}
		}()
	}
	if err := e.keepTold(t); err != nil {
		return err
	}
	if err := e.GiveFile(e.synchronousFile(), []byte("synchronous_standby_names = "+literal(t.value())+"\n")); err != nil {
		return err
	}
	if !running {
		return nil // it reads it when it starts
	}
	if t.List.IsZero() && t.Before == "" {
		t.Proven = true
		return e.keepTold(t)
	}
	if err := e.includeSynchronous(ctx); err != nil {
		return err
	}
	if err := e.takeUp(ctx, t.value(), a.Adopt); err != nil {
		return err
	}
	return e.prove(ctx, t)
}

// includeSynchronous has the running server's configuration include our file.
func (e *Engine) includeSynchronous(ctx context.Context) error {
	var file string
	if err := e.pool.QueryRow(ctx, "show config_file").Scan(&file); err != nil {
		return e.explain(err)
	}
	b, err := e.ReadFile(file)
	if err != nil {
		return err
	}
	if text := e.synchronousBlock(string(b)); text != string(b) {
		return e.RewriteTrusted(file, []byte(text))
	}
	return nil
}

// takeUp has the running server read its settings until it has a value. One that was set by
// ALTER SYSTEM wins over ours, and is reset, where it may give way, once ours stands below it:
// the server never has neither.
func (e *Engine) takeUp(ctx context.Context, value string, adopt bool) error {
	if err := e.exec(ctx, "select pg_reload_conf()"); err != nil {
		return err
	}
	reset := false
	for end := time.Now().Add(reloadLimit); ; time.Sleep(5 * time.Millisecond) {
		var have, source, file string
		err := e.pool.QueryRow(ctx, "select setting, source, coalesce(sourcefile, '') from pg_settings "+
			"where name = 'synchronous_standby_names'").Scan(&have, &source, &file)
		if err != nil {
			return e.explain(err)
		}
		if have == value && (source == "configuration file" || value == "") && file != e.Path("postgresql.auto.conf") {
			return nil
		}
		switch auto := file == e.Path("postgresql.auto.conf"); {
		case auto && !adopt:
			return fmt.Errorf("%s: synchronous_standby_names was set by hand, to %q (ALTER SYSTEM)", e.cfg.Name, have)
		case auto && !reset:
			reset = true
			if err := e.exec(ctx, "alter system reset synchronous_standby_names"); err != nil {
				return err
			}
			if err := e.exec(ctx, "select pg_reload_conf()"); err != nil {
				return err
			}
		}
		if time.Now().After(end) {
			return fmt.Errorf("%s does not take up %s: synchronous_standby_names is %q, from %s", e.cfg.Name,
				e.synchronousFile(), have, cmp.Or(file, source))
		}
	}
}

// prove makes sure that a value is in force: a new session shows it, and then a checkpoint
// returns. Until the checkpointer has read it, commits pass unwaited, for as long as a
// checkpoint takes that runs already (measured).
func (e *Engine) prove(ctx context.Context, t told) error {
	c, err := e.connect(ctx, "postgres", e.cfg.SocketDir, e.cfg.Port)
	if err != nil {
		return e.explain(err)
	}
	defer c.Close(ctx)
	if value, err := e.shown(ctx, c); err != nil || value != t.value() {
		return cmp.Or(err, fmt.Errorf("%s: a new session shows %q, not %q", e.cfg.Name, value, t.value()))
	}
	if t.Proven {
		return nil
	}
	if !t.List.IsZero() {
		if _, err := c.Exec(ctx, "checkpoint"); err != nil {
			return e.explain(err)
		}
	}
	// With a record of ours that waits for nobody, replicas that are asked for the first time
	// answer at once, not with their next report (measured: 46 to 477 ms, not up to 10 s).
	err = c.QueryRow(ctx, "select coalesce((select pg_current_wal_insert_lsn()::text where not r), '') "+
		"from (select pg_is_in_recovery() as r) x").Scan(&t.At)
	if err != nil {
		return e.explain(err)
	}
	if t.At != "" {
		if err := e.commit(ctx, c); err != nil {
			return err
		}
	}
	t.Proven = true
	return e.keepTold(t)
}

func (e *Engine) shown(ctx context.Context, c *pgx.Conn) (value string, err error) {
	return value, e.explain(c.QueryRow(ctx, "show synchronous_standby_names").Scan(&value))
}

// observeSynchronous tells whom commits wait for.
func (e *Engine) observeSynchronous(o *observation.Server, value string) {
	t := e.told()
	s := &observation.Synchronous{Set: t.List, Value: value, ByHand: value != t.value() && !(t.Taking &&
		value == t.Before)}
	if p, err := pgtool.ParseStandbys(value); err == nil {
		s.Standbys, s.Need = p.Names, p.Need
	}
	o.Synchronous = s
	if t.List.IsZero() {
		return
	}
	if s.Live = value == t.value() && t.Proven; s.Live && t.At == "" && o.Process.Role == observation.Primary {
		// It had the list before it was opened: all of its own commits have waited.
		t.At = o.Log.Written
		if err := e.keepTold(t); err != nil {
			s.Live = false
		}
	}
	s.ProvenAt = t.At
	if o.Process.Role == observation.Primary {
		s.Alone, s.LastAlone, s.AloneAt = e.alone(o.Log.Written)
	}
}

// granted tells how far commits were acknowledged: as far as enough of the list have the log.
func (e *Engine) granted(r *observedRow) string {
	need := e.told().List.Need
	if need == 0 {
		return r.Granted
	}
	var have []position.LSN
	for _, s := range r.Senders {
		if at, err := position.ParseLSN(deref(s.Flush)); err == nil && s.Sync == "quorum" {
			have = append(have, at)
		}
	}
	if len(have) < need {
		return "nobody"
	}
	slices.SortFunc(have, func(a, b position.LSN) int { return cmp.Compare(b, a) })
	return have[need-1].String()
}

// cancelledWait is what the server's log says of a commit that was acknowledged although no
// replica had it: its wait was cancelled (measured: the only trace of it). A session that is
// ended instead gets no acknowledgement, and other words.
const cancelledWait = "canceling wait for synchronous replication due to user request"

// statementLabel begins a line that quotes what a client sent.
const statementLabel = "STATEMENT:  "

// tellsAlone reports whether a line of the server's log says so, in any language that the server
// has: it is told in that of lc_messages, or of LANGUAGE in its environment. The words end a line
// that begins with no tab, which one that goes on does.
func (w logWords) tellsAlone(line string) bool {
	line = strings.TrimRight(line, "\r\n")
	ends := func(text string) bool { return strings.HasSuffix(line, ":  "+text) }
	quotes := func(label string) bool { return strings.Contains(line, label) }
	return !strings.HasPrefix(line, "\t") && slices.ContainsFunc(w.alone, ends) &&
		!slices.ContainsFunc(w.statement, quotes)
}

// logWords are these two in all languages.
type logWords struct{ alone, statement []string }

// readLogWords looks them up in the server's own catalogs, where Debian, or who built it, put
// them.
func readLogWords(binDir string) logWords {
	w := logWords{[]string{cancelledWait}, []string{statementLabel}}
	for _, dir := range []string{"/usr/share/locale", filepath.Join(binDir, "../share/locale")} {
		files, _ := filepath.Glob(filepath.Join(dir, "*", "LC_MESSAGES", fmt.Sprintf("postgres-%d.mo", majorOf(binDir))))
		for _, f := range files {
			catalog, err := os.ReadFile(f)
			if err != nil {
				continue
			}
			if text, ok := pgtool.Translation(catalog, cancelledWait); ok {
				w.alone = append(w.alone, text)
			}
			if text, ok := pgtool.Translation(catalog, statementLabel); ok {
				w.statement = append(w.statement, text)
			}
		}
	}
	return w
}

// rememberAlone is how far the server's log was read for those, and what was found.
const rememberAlone = "commits alone"

type alone struct {
	Read  host.LogPlace
	Count int64
	Last  time.Time
	At    string
}

// alone reads on in the server's log. What cannot be read says nothing.
func (e *Engine) alone(written string) (count int64, last time.Time, at string) {
	e.seen.Lock()
	defer e.seen.Unlock()
	if e.seen.alone == nil {
		e.seen.words = readLogWords(e.cfg.BinDir)
		kept := engine.Recall[alone](e.memory, rememberAlone)
		e.seen.alone = &kept // it is read on from there; the first time, from the end
		if kept.Read == (host.LogPlace{}) && e.ReadOn(e.cfg.LogFile, &kept.Read, nil) == nil {
			e.keepAlone()
		}
	}
	a := e.seen.alone
	found := int64(0)
	err := e.ReadOn(e.cfg.LogFile, &a.Read, func(line string) {
		if e.seen.words.tellsAlone(line) {
			found++
		}
	})
	if err == nil && found > 0 {
		a.Count, a.Last, a.At = a.Count+found, time.Now().UTC(), written
		e.keepAlone()
	}
	return a.Count, a.Last, a.At
}

// keepAlone: where it cannot, the lines are counted again.
func (e *Engine) keepAlone() { engine.Keep(e.memory, rememberAlone, e.seen.alone) }

// TimeCommits implements engine.Synchronizer: small commits that wait as a client's do.
func (e *Engine) TimeCommits(ctx context.Context) (verb.Timed, error) {
	c, err := e.connect(ctx, "postgres", e.cfg.SocketDir, e.cfg.Port)
	if err != nil {
		return verb.Timed{}, e.explain(err)
	}
	defer c.Close(ctx)
	end := fmt.Sprintf("select pg_terminate_backend(%d)", c.PgConn().PID())
	return host.TimeCommits(func() error {
		_, err := c.Exec(context.WithoutCancel(ctx), "select pg_logical_emit_message(true, 'crosstwin', '')")
		return e.explain(err)
	}, func() {
		after, cancel := context.WithTimeout(context.WithoutCancel(ctx), probeTimeout)
		defer cancel()
		e.pool.Exec(after, end)
	})
}

// dropSynchronous takes the list out of the server's configuration.
func (e *Engine) dropSynchronous(ctx context.Context) error {
	var file string
	if err := e.pool.QueryRow(ctx, "show config_file").Scan(&file); err != nil {
		return e.explain(err)
	}
	b, err := e.ReadFile(file)
	if err != nil {
		return err
	}
	if text := host.WithoutBlock(string(b), synchronousBegin, synchronousEnd); text != string(b) {
		if err := e.RewriteTrusted(file, []byte(text)); err != nil {
			return err
		}
	}
	if err := os.Remove(e.synchronousFile()); err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := e.memory.SetFingerprint(rememberList, ""); err != nil {
		return err
	}
	return e.exec(ctx, "select pg_reload_conf()")
}
