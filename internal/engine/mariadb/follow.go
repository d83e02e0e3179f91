package mariadb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// link is what the server says of the one connection through which it follows.
type link map[string]string

// link returns the state of replication; nil when it follows nobody.
func (e *Engine) link(ctx context.Context) (link, error) {
	rows, err := e.query(ctx, "show all slaves status")
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	for _, r := range rows {
		if r["Connection_name"] == "" {
			return r, nil
		}
	}
	return nil, fmt.Errorf("%s follows by a named connection (%s): only the unnamed one is handled", e.cfg.Name,
		rows[0]["Connection_name"])
}

func (l link) at(host string, port int) bool {
	return l["Master_Host"] == host && l["Master_Port"] == strconv.Itoa(port)
}

// Follow implements engine.Engine on a running server. What was received is
// applied before anything is changed: the server throws a relay log away when
// both threads stop.
func (e *Engine) Follow(ctx context.Context, a verb.Follow) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, ok := e.running(); !ok {
		return fmt.Errorf("%s does not run: it is started before it follows", e.cfg.Name)
	}
	l, err := e.link(ctx)
	if err != nil {
		return err
	}
	if a.Upstream.Host == "" {
		if l == nil {
			return nil
		}
		if err := e.drain(ctx); err != nil {
			return err
		}
		return e.exec(ctx, "stop all slaves; reset slave all")
	}
	if l != nil && l.at(a.Upstream.Host, a.Upstream.Port) && l["Slave_IO_Running"] == "Yes" &&
		l["Slave_SQL_Running"] == "Yes" && !byPosition(l) && (a.Upstream.Proof == "" || a.Upstream.Proof == e.insisted(l)) {
		return nil
	}
	var readOnly bool
	if err := e.db.QueryRowContext(ctx, "select @@global.read_only").Scan(&readOnly); err != nil {
		return e.explain(err)
	}
	if !readOnly {
		return fmt.Errorf("%s is open for writes: it must be closed before it follows", e.cfg.Name)
	}
	switch {
	case l == nil:
	case byPosition(l):
		return e.byGTID(ctx, l, a.Upstream)
	case delayed(l):
	default:
		if err := e.drain(ctx); err != nil {
			return err
		}
	}
	return e.attach(ctx, a.Upstream, a.Back)
}

// delayed reports whether the applier is held back on purpose. Such a replica is
// not made to apply before its time: what its relay log holds is fetched again
// from the new upstream, which has it.
func delayed(l link) bool { return l["SQL_Delay"] != "" && l["SQL_Delay"] != "0" }

// attach points the server at an upstream, from what its own log holds on; back where it
// followed a moment ago.
func (e *Engine) attach(ctx context.Context, up verb.Peer, back bool) error {
	e.seen.Lock()
	acc := e.seen.account
	e.seen.Unlock()
	if acc.User == "" {
		return fmt.Errorf("%s does not know the replication account yet", e.cfg.Name)
	}
	if !back {
		if err := e.sameOrigin(ctx, up); err != nil {
			return err
		}
	}
	at := e.heldAt(ctx)
	e.dropHold(ctx)
	var now string
	if err := e.db.QueryRowContext(ctx, "select @@global.gtid_binlog_pos").Scan(&now); err != nil {
		return e.explain(err)
	}
	if why, err := e.beyondData(ctx); err != nil || why != "" {
		return cmp.Or(err, fmt.Errorf("%s cannot follow: %s; crosstwin rejoin copies it again", e.cfg.Name, why))
	}
	if at != "" && at != now {
		return fmt.Errorf(
			"%s took a write after it was closed: it stands at %s, not at %s; crosstwin rejoin shows what it was", e.cfg.Name,
			now, at)
	}
	if err := e.disableEvents(ctx); err != nil {
		return fmt.Errorf("switch its events off: %w", err)
	}
	// Its own log is the truth about what it holds: every server logs what it
	// applies. Semi-sync on the replica's side makes it take back transactions
	// of its own server id, which it would pass over otherwise (measured).
	var slavePos string
	if err := e.db.QueryRowContext(ctx, "select @@global.gtid_slave_pos").Scan(&slavePos); err != nil {
		return e.explain(err)
	}
	statements := e.beforeFollowing() + "stop all slaves; set global rpl_semi_sync_slave_enabled = 1; set global " +
		"gtid_strict_mode = 1; "
	if p := later(now, slavePos); p != slavePos {
		statements += "set global gtid_slave_pos = " + literal(p) + "; "
	}
	if err := e.exec(ctx, statements); err != nil {
		return fmt.Errorf("follow %s: %w", up.Name, err)
	}
	change := fmt.Sprintf(
		"change master to master_host = %s, master_port = %d, master_user = %s, master_password = %s, master_use_gtid = "+
			"slave_pos, master_connect_retry = 1, master_heartbeat_period = 1, %s",
		literal(up.Host), up.Port, literal(acc.User), literal(acc.Password), e.insisting(up))
	err := e.quietly(ctx, change)
	if number(err) == noRelayLog {
		// What is in the earlier one is applied by now, or is fetched again.
		if err = e.exec(ctx, "reset slave"); err == nil {
			err = e.quietly(ctx, change)
		}
	}
	if err == nil {
		err = e.startSlave(ctx, "")
	}
	if err != nil {
		return fmt.Errorf("follow %s: %w", up.Name, err)
	}
	return nil
}

// noRelayLog is the error of a server that cannot open the relay log it was at: its name or
// place in the configuration was changed, or files of it were removed.
const noRelayLog = 1201

// startSlave starts a thread of replication; empty: both. A number of events to skip that was
// set for the next start is taken back (invariant: nothing is skipped): what is skipped differs
// from then on, and no position shows it.
func (e *Engine) startSlave(ctx context.Context, thread string) error {
	n, err := e.text(ctx, "select @@global.sql_slave_skip_counter")
	if err == nil && n != "0" {
		err = e.exec(ctx, "set global sql_slave_skip_counter = 0")
	}
	if err != nil {
		return err
	}
	return e.exec(ctx, "start slave "+thread)
}

// quietly executes a statement that holds a password, in a session that the server's
// general and slow logs leave out: it masks nothing there (measured).
func (e *Engine) quietly(ctx context.Context, statement string) error {
	c, err := e.db.Conn(ctx)
	if err != nil {
		return e.explain(err)
	}
	defer end(c) // nobody gets the session back from the pool unlogged
	for _, s := range []string{"set session sql_log_off = 1", "set session slow_query_log = 0", statement} {
		if _, err := c.ExecContext(ctx, s); err != nil {
			return e.explain(err)
		}
	}
	return nil
}

// sameOrigin refuses to follow a server whose data has another origin: the
// server itself would apply the one's writes to the other's tables.
func (e *Engine) sameOrigin(ctx context.Context, up verb.Peer) error {
	mine, err := e.line(ctx, e.db)
	if err != nil {
		return fmt.Errorf("%s holds nothing of Cross Twin's by which it could be known: seed it (%w)", e.cfg.Name, err)
	}
	if up.Agent == "" {
		return nil // a fellow replica, for a moment
	}
	theirs, err := e.fetchState(ctx, up)
	if err != nil {
		return err
	}
	if mine.System != theirs.System {
		return fmt.Errorf("%s is a copy of another cluster: its identifier is %s, not %s", e.cfg.Name, mine.System,
			theirs.System)
	}
	return nil
}

// drainLimit bounds the wait for a relay log to be applied.
const drainLimit = 10 * time.Minute

// drain applies all that was received. The applier must run for it: started
// while the receiver still tries to connect it goes on where it was, but once
// both have stopped the server would throw the relay log away, so then its
// transactions are handed over by hand (measured).
func (e *Engine) drain(ctx context.Context) error {
	l, err := e.link(ctx)
	if err != nil || l == nil {
		return err
	}
	if delayed(l) {
		// With nobody to fetch it from again, what is held back is applied now.
		if err := e.exec(ctx, "stop slave"); err != nil {
			return err
		}
		return e.rescue(ctx, l)
	}
	if l["Slave_SQL_Running"] != "Yes" && l["Slave_IO_Running"] != "No" && mayPass(l) {
		if l, err = e.startApplier(ctx, l); err != nil {
			return err
		}
	}
	if l["Slave_SQL_Running"] != "Yes" {
		return e.rescue(ctx, l)
	}
	// The receiver stops first, so that the end of the relay log does not move.
	// It ends its session on its upstream by another connection, and waits for that: 2 s where
	// packets are lost, and no less than 1 s (measured). To find out beforehand whether they are
	// would take time as well.
	const wait = "rpl_semi_sync_slave_kill_conn_timeout"
	if err := e.exec(ctx, "set @wait = @@global."+wait+"; set global "+wait+" = 1; stop slave io_thread; set global "+wait+
		" = @wait"); err != nil {
		return err
	}
	if l, err = e.link(ctx); err != nil {
		return err
	}
	received := l["Gtid_IO_Pos"]
	if received == "" {
		// A restarted replica does not say what it had received: its files do.
		held, err := e.text(ctx, "select @@global.gtid_binlog_pos")
		if err != nil {
			return err
		}
		if _, received, _, err = e.unapplied(ctx, held); err != nil || received == "" {
			return err
		}
	}
	end := time.Now().Add(drainLimit)
	for {
		at, err := e.text(ctx, "select concat(master_gtid_wait("+literal(received)+", 1), '')")
		if err == nil && at == "0" {
			return nil
		}
		if now, lerr := e.link(ctx); lerr == nil && now["Slave_SQL_Running"] != "Yes" {
			return fmt.Errorf("%s stopped applying what it had received: error %s: %s", e.cfg.Name, now["Last_SQL_Errno"],
				now["Last_SQL_Error"])
		}
		if ctx.Err() != nil || time.Now().After(end) {
			return fmt.Errorf("%s has not applied what it received, up to %s, in time", e.cfg.Name, received)
		}
	}
}

// mayPass reports whether an applier that stopped may go on when it is started again: it was
// stopped by hand, or by a want of room, memory or a lock that may be over.
func mayPass(l link) bool {
	return slices.Contains([]string{"0", "3", "5", "1021", "1026", "1037", "1038", "1041", "1114", "1205", "1213"},
		l["Last_SQL_Errno"])
}

// startApplier starts an applier and waits until it has gone on, or has stopped again: with
// both threads stopped the server would throw away what was received.
func (e *Engine) startApplier(ctx context.Context, was link) (link, error) {
	if err := e.startSlave(ctx, "sql_thread"); err != nil {
		return nil, err
	}
	for end := time.Now().Add(applierPatience); ; {
		l, err := e.link(ctx)
		if err != nil || was["Last_SQL_Errno"] == "0" || l["Slave_SQL_Running"] != "Yes" ||
			l["Exec_Master_Log_Pos"] != was["Exec_Master_Log_Pos"] || time.Now().After(end) {
			return l, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// applierPatience is how long an applier may take until it stops at the same transaction again.
const applierPatience = 5 * time.Second

// rescue applies the complete transactions of the relay log with the server's
// own dump utility, which keeps their GTIDs. An applier that stopped at an
// error that does not pass would stop at it again: then it is an error here.
func (e *Engine) rescue(ctx context.Context, l link) error {
	held, err := e.text(ctx, "select @@global.gtid_binlog_pos")
	if err != nil {
		return err
	}
	files, last, more, err := e.unapplied(ctx, held)
	if err != nil {
		return err
	}
	if more == 0 {
		return nil
	}
	if !mayPass(l) {
		return fmt.Errorf("%s holds %d received transactions that it cannot apply: error %s: %s", e.cfg.Name, more,
			l["Last_SQL_Errno"], l["Last_SQL_Error"])
	}
	// What is handed over is logged as it was, and counts as applied only when it is
	// said so: a log that was ahead of the data before stays in doubt.
	if why, err := e.beyondData(ctx); err != nil || why != "" {
		return cmp.Or(err, fmt.Errorf("%s holds %d received transactions, and %s; crosstwin rejoin copies it again",
			e.cfg.Name,
			more, why))
	}
	if err := e.applyFiles(ctx, files, held, later(held, last)); err != nil {
		return err
	}
	var logged, applied string
	if err := e.db.QueryRowContext(ctx, "select @@global.gtid_binlog_pos, @@global.gtid_slave_pos").Scan(&logged,
		&applied); err != nil {
		return e.explain(err)
	}
	return e.exec(ctx, "stop all slaves; set global gtid_slave_pos = "+literal(later(logged, applied)))
}

// unapplied reads the relay log: its files, the position of its last complete
// transactions beyond the held one ("" if none) and how many those are.
func (e *Engine) unapplied(ctx context.Context, held string) (files []string, last string, more int, err error) {
	have, err := position.ParseGTIDPosition(held)
	if err != nil {
		return nil, "", 0, err
	}
	base, err := e.relayBase(ctx)
	if err != nil || base == "" {
		return nil, "", 0, err
	}
	if files, err = indexed(e.Data, base+".index"); err != nil {
		return nil, "", 0, err
	}
	had := upTo(have)
	err = eachGroup(e.Data, files, all, func(_ string, g *binlog.Group) error {
		if g.Complete && !had(g.GTID.GTID) {
			more++
			last = later(last, g.GTID.String())
		}
		return nil
	})
	if err != nil {
		return nil, "", 0, fmt.Errorf("read the relay log of %s: %w", e.cfg.Name, err)
	}
	return files, last, more, nil
}

// relayBase returns the path of the relay log without its number, "" when there is
// none. Invariant: it is the log that was written last, wherever that lies: a server whose
// relay_log was changed opens none (error 1201), and what it received is in the earlier one.
// The server names it only where relay_log is set, which the packages' configuration does not;
// else its index lies in the data directory.
func (e *Engine) relayBase(ctx context.Context) (string, error) {
	if noted, err := e.notedRelayBase(ctx); err != nil || noted != "" {
		return noted, err
	}
	base, err := e.text(ctx, "select coalesce(@@global.relay_log_basename, '')")
	if err != nil || base != "" {
		return base, err
	}
	list, err := e.Glob(e.Path("*-relay-bin.index"))
	switch {
	case err != nil || len(list) == 0:
		return "", err
	case len(list) > 1:
		return "", fmt.Errorf("%s has %d relay logs in %s: which of them is in use cannot be told; set relay_log", e.cfg.Name,
			len(list), e.cfg.DataDir)
	}
	return strings.TrimSuffix(list[0], ".index"), nil
}

// notedRelayBase returns the relay log that the server itself noted to be at, in its second
// line after how many there are; "" when it noted none, or that is gone.
func (e *Engine) notedRelayBase(ctx context.Context) (string, error) {
	name, err := e.text(ctx, "select @@global.relay_log_info_file")
	if err != nil {
		return "", err
	}
	text, err := e.ReadFile(e.inData(name))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	} else if err != nil {
		return "", fmt.Errorf("read where %s is in its relay log: %w", e.cfg.Name, err)
	}
	lines := strings.Split(string(text), "\n")
	if len(lines) < 2 || filepath.Ext(lines[1]) == "" {
		return "", nil
	}
	base := strings.TrimSuffix(e.inData(lines[1]), filepath.Ext(lines[1]))
	if _, err := e.Stat(base + ".index"); err != nil {
		return "", nil
	}
	return base, nil
}

// inData returns the path of a file that a server names relative to its data directory.
func (e *Engine) inData(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return e.Path(name)
}

// applyFiles pipes log files from a GTID position on into the server. They are applied once it
// has all their transactions, up to another position: a file that ends within an event, as on
// a disk that ran full, is an error to the utility that reads it, after everything else.
func (e *Engine) applyFiles(ctx context.Context, files []string, after, upTo string) error {
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	defer r.Close()
	args := append([]string{"--no-defaults", "--start-position=" + after}, files...)
	dumped := make(chan error, 1)
	go func() {
		err := e.RunWatched(ctx, func(string) {}, host.Piped{Stdout: w}, "mariadb-binlog", args...)
		w.Close()
		dumped <- err
	}()
	err = e.execute(ctx, r)
	r.Close() // what still writes to it ends
	if err = errors.Join(err, <-dumped); err != nil {
		at, failed := e.text(ctx, "select @@global.gtid_binlog_pos")
		if reaches, known := position.Reaches(position.EngineMariaDB, at, upTo); failed == nil && known && reaches {
			return nil
		}
		return fmt.Errorf("apply the relay log of %s: %w", e.cfg.Name, err)
	}
	return nil
}

// base returns the path of the log without its number: as the server says, or as
// it said when it last ran.
func (e *Engine) logBase() string {
	if b := e.memory.Fingerprint(rememberLogs); b != "" {
		return b
	}
	// Never seen running: the one index in the data directory that is not the
	// relay log's.
	list, _ := e.Glob(e.Path("*-bin.index"))
	if len(list) == 1 {
		return list[0][:len(list[0])-len(".index")]
	}
	return ""
}
