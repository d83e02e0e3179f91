package postgres

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

func (e *Engine) passFile() string { return filepath.Join(e.cfg.WorkDir, "pgpass") }

// Remember implements engine.Accounter: it writes the password file that the
// server reads when it connects to its upstream, so that no setting holds it.
func (e *Engine) Remember(accounts ...engine.Account) error {
	esc := func(s string) string { return strings.NewReplacer(`\`, `\\`, `:`, `\:`).Replace(s) }
	var lines strings.Builder
	for _, a := range accounts {
		lines.WriteString("*:*:*:" + esc(a.User) + ":" + esc(a.Password) + "\n")
	}
	e.seen.Lock()
	e.seen.user = accounts[0].User
	e.seen.Unlock()
	if b, err := os.ReadFile(e.passFile()); err == nil && string(b) == lines.String() {
		return nil
	}
	return e.GiveFile(e.passFile(), []byte(lines.String()))
}

// user is the account that this server follows by.
func (e *Engine) user() string {
	e.seen.Lock()
	defer e.seen.Unlock()
	return cmp.Or(e.seen.user, verb.ReplicationUser(e.cfg.Name))
}

func (e *Engine) conninfo(p verb.Peer, extra ...string) string {
	return pgtool.ConnInfo(slices.Concat([]string{"host", p.Host, "port", strconv.Itoa(p.Port), "user", e.user(),
		"application_name", e.cfg.Name, "passfile", e.passFile()}, e.insists(p), extra)...)
}

// Follow implements engine.Engine. A running replica re-points by a reload; on
// a running primary the settings wait for its next start.
func (e *Engine) Follow(ctx context.Context, a verb.Follow) (problem error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	info := ""
	if a.Upstream.Host != "" {
		info = e.conninfo(a.Upstream)
		stopped, err := e.dropUnfinished(ctx)
		if stopped {
			defer func() { problem = errors.Join(problem, e.launch(ctx)) }()
		}
		if err != nil {
			return err
		}
	}
	if _, ok := e.running(); !ok {
		if e.Empty() {
			return fmt.Errorf("%s holds no database that could follow", e.cfg.Name)
		}
		return e.editAuto(func(s pgtool.Settings) { s["primary_conninfo"], s["primary_slot_name"] = info, a.Slot })
	}
	for _, sql := range []string{"alter system set primary_conninfo = " + literal(info),
		"alter system set primary_slot_name = " + literal(a.Slot), "select pg_reload_conf()"} {
		if err := e.exec(ctx, sql); err != nil {
			return fmt.Errorf("set the upstream: %w", err)
		}
	}
	if info != "" {
		return nil
	}
	return e.endReceiver(ctx)
}

// endReceiver ends the receiver of a server that is to follow nobody. Where
// replay is paused nobody tells it to end, and it streams on; and
// pg_terminate_backend knows it not (both measured).
func (e *Engine) endReceiver(ctx context.Context) error {
	var pid int
	err := e.pool.QueryRow(ctx, "select coalesce(max(pid), 0) from pg_stat_wal_receiver").Scan(&pid)
	if err != nil {
		return fmt.Errorf("find the receiver: %w", err)
	}
	if pid <= 0 || !e.Ours(pid) {
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGTERM); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("end the receiver: %w", err)
	}
	return nil
}

const (
	hbaBegin = "# crosstwin begin: rules for the replication account, written by the agent"
	hbaEnd   = "# crosstwin end"
)

// encryptedOnly is the kind of rule for encrypted connections.
const encryptedOnly = "hostssl"

// hbaRules replaces our block at the top of an access file. It stands first
// because the first rule that matches a connection decides. Kind is that of the
// connections: encryptedOnly where the server takes encrypted ones, else host. Shared
// tells that the account of all, from before each had its own, is there still.
func hbaRules(content, kind string, peers []verb.Peer, shared bool) string {
	content = withoutRules(content)
	var b strings.Builder
	fmt.Fprintln(&b, hbaBegin)
	done := map[string]bool{}
	rule := func(format string, args ...any) {
		if line := fmt.Sprintf(format, args...); !done[line] {
			done[line] = true
			fmt.Fprintln(&b, line)
		}
	}
	for _, p := range peers {
		if cluster.CheckHost(p.Host) != nil || cluster.CheckName(p.Name) != nil {
			continue // nothing that could mean more than one host is written here
		}
		host, literal := p.Host, net.ParseIP(p.Host)
		switch {
		case literal == nil:
		case literal.To4() != nil:
			host += "/32"
		default:
			host += "/128"
		}
		users := []string{verb.ReplicationUser(p.Name)}
		if shared {
			users = append(users, verb.SharedUser)
		}
		for _, user := range users {
			for _, db := range []string{"replication", "postgres"} {
				rule("%s %s %s %s scram-sha-256", kind, db, user, host)
			}
		}
		// What the administrator's own rules let in does not let the account in: from
		// elsewhere, as far as a host's name leaves no doubt of where it is, or unencrypted.
		for _, db := range []string{"replication", "all"} {
			if literal != nil {
				rule("host %s %s all reject", db, users[0])
			} else if kind == encryptedOnly {
				rule("hostnossl %s %s all reject", db, users[0])
			}
		}
	}
	fmt.Fprintln(&b, hbaEnd)
	return b.String() + content
}

// withoutRules returns an access file without our block.
func withoutRules(content string) string { return host.WithoutBlock(content, hbaBegin, hbaEnd) }

// rewindRights let the account read files for a rewind (documentation, pg_rewind).
var rewindRights = []string{"pg_ls_dir(text, boolean, boolean)", "pg_stat_file(text, boolean)",
	"pg_read_binary_file(text)", "pg_read_binary_file(text, bigint, bigint, boolean)"}

// Prepare implements engine.Accounter.
func (e *Engine) Prepare(ctx context.Context, a verb.Prepare) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	proof, err := e.encrypt(ctx)
	if err != nil {
		return fmt.Errorf("encrypt connections to %s: %w", e.cfg.Name, err)
	}
	kind := encryptedOnly
	if proof == observation.ProofNone {
		kind = "host"
	}
	if err := e.makeReader(ctx); err != nil {
		return fmt.Errorf("make the account %s on %s: %w", verb.ReaderUser, e.cfg.Name, err)
	}
	var shared bool
	if err := e.pool.QueryRow(ctx, "select exists (select from pg_roles where rolname = "+literal(verb.SharedUser)+
		")").Scan(&shared); err != nil {
		return e.explain(err)
	}
	rules := func(now string) string { return hbaRules(now, kind, a.Peers, shared) }
	if err := e.rewriteAccess(ctx, "hba_file", rules); err != nil {
		return err
	}
	var bad, file string
	err = e.pool.QueryRow(ctx,
		"select current_setting('hba_file'), coalesce(string_agg(format('line %s: %s', line_number, error), '; '), '') "+
			"from pg_hba_file_rules where error is not null").Scan(&file, &bad)
	if err == nil && bad != "" {
		return fmt.Errorf("%s: the server ignores %s because of %s", e.cfg.Name, file, bad)
	}
	return e.explain(err)
}

// rewriteAccess changes the file that a setting names: the access file, or that of user
// names.
func (e *Engine) rewriteAccess(ctx context.Context, setting string, change func(now string) string) error {
	var file string
	if err := e.pool.QueryRow(ctx, "show "+setting).Scan(&file); err != nil {
		return e.explain(err)
	}
	b, err := e.ReadFile(file)
	if err != nil {
		return err
	}
	text := change(string(b))
	if text == string(b) {
		return nil
	}
	if err := e.RewriteTrusted(file, []byte(text)); err != nil {
		return err
	}
	return e.exec(ctx, "select pg_reload_conf()")
}

// Secret implements engine.Accounter.
func (e *Engine) Secret(password string) (string, error) { return scramVerifier(password) }

// Grant implements engine.Accounter. Where the account is let in from, the rules say. No
// statement, and no log or view of statements, holds the password itself.
func (e *Engine) Grant(ctx context.Context, server, secret, _ string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err := cluster.CheckName(server); err != nil {
		return engine.BadInput("%q is no name of a server: %v", server, err)
	}
	if !verifierText.MatchString(secret) {
		return engine.BadInput("what %s's agent gave is no verifier of a password", server)
	}
	user := verb.ReplicationUser(server)
	var have bool
	if err := e.pool.QueryRow(ctx, "select exists (select from pg_roles where rolname = "+literal(user)+
		")").Scan(&have); err != nil {
		return e.explain(err)
	}
	sql := "create role "
	if have {
		sql = "alter role "
	}
	statements := []string{"select " + unsynced, "set log_statement = 'none'", "set log_min_duration_statement = -1",
		"set log_min_error_statement = 'panic'", sql + user + " login replication password " + literal(secret)}
	for _, f := range rewindRights {
		statements = append(statements, "grant execute on function pg_catalog."+f+" to "+user)
	}
	return e.exec(ctx, strings.Join(statements, "; "))
}

// Probe implements engine.Accounter: it connects as a replica would.
func (e *Engine) Probe(ctx context.Context, peer verb.Peer, acc engine.Account) verb.Probed {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	cfg, err := pgconn.ParseConfig(pgtool.ConnInfo(append([]string{"host", peer.Host, "port", strconv.Itoa(peer.Port),
		"user", acc.User, "password", acc.Password, "replication", "true", "connect_timeout", "4"}, e.insists(peer)...)...))
	if err != nil {
		return verb.Probed{Problem: err.Error()}
	}
	c, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		var refusal *pgconn.PgError
		return verb.Probed{Answered: errors.As(err, &refusal), Problem: plain(err)}
	}
	defer c.Close(ctx)
	res, err := c.Exec(ctx, "IDENTIFY_SYSTEM").ReadAll()
	if err != nil || len(res) == 0 || len(res[0].Rows) == 0 {
		return verb.Probed{Problem: fmt.Sprint("no answer to IDENTIFY_SYSTEM: ", err)}
	}
	return verb.Probed{OK: true, Answered: true, System: string(res[0].Rows[0][0])}
}

// markPrefix marks our messages in the log.
const markPrefix = "crosstwin"

// unsynced makes a statement's commit return without waiting for replicas:
// the agent's own writes must not hang on an absent synchronous one.
const unsynced = "set_config('synchronous_commit', 'local', true)"

// Mark implements engine.Engine: a transactional logical message, which is
// replicated like any write and can be found in a replica's own log.
func (e *Engine) Mark(ctx context.Context, id string, _ int64, text string) (verb.Marked, error) {
	var at, file string
	var system string
	payload, _ := json.Marshal(map[string]string{"id": id, "text": text})
	err := e.pool.QueryRow(ctx, "select "+unsynced+", pg_logical_emit_message(true, '"+markPrefix+"', "+
		literal(string(payload))+
		")::text, pg_walfile_name(pg_current_wal_insert_lsn()), (select system_identifier::text from "+
		"pg_control_system())").Scan(nil, &at, &file, &system)
	if err != nil {
		return verb.Marked{}, e.explain(err)
	}
	tli, err := strconv.ParseUint(file[:8], 16, 32)
	if err != nil {
		return verb.Marked{}, err
	}
	line, _, err := e.lineOf(ctx, system, uint32(tli))
	return verb.Marked{ID: id, At: at, Line: line}, err
}

// markWindow is how far before a mark's end its record can begin; a page
// header may lie between.
const markWindow = 1024

// FindMark implements engine.Engine: it looks for the mark in this server's
// own log files, once the server has applied that position.
func (e *Engine) FindMark(ctx context.Context, m verb.Marked) error {
	at, err := position.ParseLSN(m.At)
	if err != nil {
		return err
	}
	for {
		var passed bool
		err := e.pool.QueryRow(ctx, "select case when pg_is_in_recovery() then pg_last_wal_replay_lsn() >= "+literal(m.At)+
			" else true end").Scan(&passed)
		if err != nil {
			return e.explain(err)
		}
		if passed {
			break
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s has not applied position %s in time", e.cfg.Name, m.At)
		case <-time.After(10 * time.Millisecond):
		}
	}
	// The log before a file's border may be empty (the border was forced by a
	// copy), and a record may cross it: so first from the file's beginning,
	// then from before it.
	near := max(m.Line.Began, at-min(at, markWindow))
	starts := []position.LSN{near}
	if border := (at - 1) &^ (position.LSN(max(e.segmentBytes(), 1<<20)) - 1); border > near {
		starts = []position.LSN{border, near}
	}
	var said string
	for _, from := range starts {
		found := false
		stderr, _ := e.dump(ctx, m.Line.Number, from, at+8, func(r pgtool.Record) {
			prefix, text, ok := r.Message()
			found = found || ok && prefix == markPrefix && strings.Contains(text, m.ID)
		})
		if found {
			return nil
		}
		said = stderr
	}
	return fmt.Errorf("%s does not hold mark %s at %s of timeline %d: its log there is another one (%s)", e.cfg.Name, m.ID,
		m.At, m.Line.Number, strings.TrimSpace(said))
}

// querier is what both a connection and a pool can do.
type querier interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// eachDatabase opens every database that takes connections, one after the other.
func (e *Engine) eachDatabase(ctx context.Context, do func(querier) error) error {
	names, err := e.databases(ctx, e.pool)
	if err != nil {
		return err
	}
	for _, n := range names {
		c, err := e.connect(ctx, n, e.cfg.SocketDir, e.cfg.Port)
		if errors.Is(err, context.DeadlineExceeded) {
			return fmt.Errorf("database %s on %s has not opened a session for the agent in time", n, e.cfg.Name)
		}
		if err != nil {
			return fmt.Errorf("database %s on %s: %w", n, e.cfg.Name, err)
		}
		err = do(c)
		c.Close(ctx)
		if err != nil {
			return fmt.Errorf("database %s on %s: %w", n, e.cfg.Name, err)
		}
	}
	return nil
}

func (e *Engine) databases(ctx context.Context, q querier) ([]string, error) {
	rows, err := q.Query(ctx, "select datname from pg_database where datallowconn and not datistemplate order by 1")
	if err != nil {
		return nil, e.explain(err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}
