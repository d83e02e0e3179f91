package mariadb

import (
	"cmp"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// probeTimeout bounds the queries of each second's observation.
const probeTimeout = 3 * time.Second

// observeSQL asks for the facts of every second, in one round trip. Sessions are shown, not
// selected: information_schema.processlist makes a table on disk each time it is named
// (measured), because a statement's text has no bound.
const observeSQL = `select unix_timestamp(sysdate(6)) clock, @@global.read_only ro, @@global.tx_read_only sessions_ro,
 @@version version,
 @@server_id server_id, @@global.gtid_binlog_pos binlog_pos, @@global.gtid_slave_pos slave_pos,
 @@global.gtid_binlog_state state,
 @@global.binlog_expire_logs_seconds expire, @@global.slave_parallel_threads threads,
   @@global.max_binlog_size file_size,
 (select group_concat(lower(substring(variable_name, 22)), ' ', variable_value)
   from information_schema.global_status where variable_name in ('rpl_semi_sync_master_yes_tx',
   'rpl_semi_sync_master_no_tx', 'rpl_semi_sync_master_status', 'rpl_semi_sync_master_clients')) sync_counts,
 @@global.rpl_semi_sync_master_enabled sync_on, ` + semiSyncSettings + `,
 @@have_ssl have_ssl, coalesce(@@ssl_cert, '') cert,
 @@log_bin log_bin, coalesce(@@log_bin_basename, '') log_base, coalesce(@@relay_log_basename, '') relay_base,
 connection_id() own;
show all slaves status;
show slave hosts;
show processlist`

// The states of a commit that waits, as the server words them (10.11.19; it shows the same in
// every language): for a replica, and for room on its disk. SQL's like does not mind
// capitals, commitWaits does.
const (
	waitsForReplica = "Waiting for semi-sync ACK"
	waitsForRoom    = "Waiting for someone to free space"
)

// commitWaits reports whether a session in a state waits so.
func commitWaits(state string) bool {
	state = strings.ToLower(state)
	return strings.HasPrefix(state, strings.ToLower(waitsForReplica)) ||
		strings.Contains(state, strings.ToLower(waitsForRoom))
}

// waitingSQL tells which commits wait.
const waitingSQL = "select coalesce(group_concat(id, ' ', query_id), '') from information_schema.processlist " +
	"where state like '" + waitsForReplica + "%' or state like '%" + waitsForRoom + "%'"

// Observe implements engine.Engine.
func (e *Engine) Observe(ctx context.Context, thorough bool) *observation.Server {
	o := &observation.Server{At: time.Now().UTC(), Engine: position.EngineMariaDB,
		Host: observation.Host{Address: e.address(), DiskFreeBytes: e.DiskFree()},
		Data: observation.Data{Empty: e.Empty(), Unfinished: e.memory.Unfinished()}}
	o.Process.Version, o.Log.KinAt = e.version, e.found().At
	if text, err := e.readConfig(); err == nil {
		o.Data.ClosedByDefault = closedByFile(text)
	}
	o.Config.Apart = e.apart()
	pid, running := e.running()
	o.Process.Running = running
	if o.Process.Running {
		o.Process.Identity = host.ProcessIdentity(pid)
		err := e.observeRunning(ctx, o)
		if err != nil {
			o.Process.Problem, o.Process.NotLetIn = host.Unanswered(probeTimeout, err, plain(err)), notLetIn(err)
		} else if thorough {
			if err = e.observeSettings(ctx, o); err != nil {
				o.Config.Settings, o.Config.Facts, o.Config.Problem = nil, nil, host.Words(err, plain(err))
			} else {
				e.noteDurability(o)
			}
		}
	}
	if !o.Process.Accepting && !o.Data.Empty {
		e.observeStopped(o)
		e.noteEnd(o)
		if o.Process.Running && e.wasOpen(o.Process.Identity) {
			// It hangs, and could go on at any moment: what it was open for
			// counts, not that it does not answer now.
			o.Process.Role, o.Process.Writable = observation.Primary, true
		}
	}
	o.Process.MajorVersion = major(o.Process.Version)
	o.Data.Bytes = observation.Known(e.Bytes(thorough))
	return o
}

// rememberOpen is the process that was last seen, or made, open for writes.
// Another process started closed.
const rememberOpen = "open process"

// noteRole keeps it: the process that was asked, which may have been replaced since.
func (e *Engine) noteRole(identity string, open bool) {
	value := "none"
	if open {
		value = identity
	}
	e.remember(rememberOpen, value)
}

// noteOpen has the process that runs now count as open for writes.
func (e *Engine) noteOpen() {
	pid, _ := e.running()
	e.noteRole(host.ProcessIdentity(pid), true)
}

func (e *Engine) wasOpen(identity string) bool {
	was := e.memory.Fingerprint(rememberOpen) // earlier agents kept the process's number alone
	return identity != "" && (was == identity || strings.HasPrefix(identity, was+" "))
}

// plain takes the wrapping off an error.
// notLetIn reports whether the server refused the agent: it answers with an error
// of its own, and its end is none (1053: shutdown in progress).
func notLetIn(err error) bool {
	n := number(err)
	return n != 0 && n != 1053 || errors.Is(err, os.ErrPermission)
}

func plain(err error) string { return strings.TrimSpace(err.Error()) }

// observeRunning asks the server. A session that was cut off fails at once, and
// the next one is tried; a server that has not answered in time is not asked
// again.
func (e *Engine) observeRunning(ctx context.Context, o *observation.Server) error {
	return e.silent.Ask(ctx, o.Process.Identity, probeTimeout, func(ctx context.Context) error {
		err := e.ask(ctx, o)
		if err != nil && ctx.Err() == nil {
			err = e.ask(ctx, o)
		}
		return err
	}, func(ctx context.Context) error { _, err := e.text(ctx, "select 1"); return err })
}

func (e *Engine) ask(ctx context.Context, o *observation.Server) error {
	o.Links.Downstreams, o.Log.Files = nil, nil
	asked := time.Now()
	rows, err := e.db.QueryContext(ctx, observeSQL)
	if err != nil {
		return err
	}
	defer rows.Close()
	answered := time.Now()
	o.Looked.Began, o.Looked.Ended = asked, answered
	var sets [4][]map[string]string
	for i := range sets {
		if sets[i], err = records(rows); err != nil {
			return err
		}
		if i < len(sets)-1 && !rows.NextResultSet() {
			return fmt.Errorf("the server gave %d answers of %d: %w", i+1, len(sets), rows.Err())
		}
	}
	rows.Close() // its session serves for what follows
	if len(sets[0]) != 1 {
		return fmt.Errorf("the server says nothing of itself")
	}
	o.Process.ClockAhead = host.ClockAhead(sets[0][0]["clock"], asked, answered)
	e.readFacts(o, sets[0][0], len(sets[1]) > 0)
	e.readLink(o, sets[1])
	for _, r := range sets[2] {
		o.Links.Downstreams = append(o.Links.Downstreams, observation.Downstream{Name: r["Host"], State: "streaming"})
	}
	if err := e.readSessions(ctx, o, sets[0][0], sets[3]); err != nil {
		return err
	}
	primary := o.Process.Role == observation.Primary && sets[0][0]["log_bin"] == "1"
	log, err := e.place(ctx, primary, sets[0][0]["sync_on"] == "1")
	if err != nil {
		return err
	}
	if len(log.status) == 1 {
		o.Log.WrittenAt = log.status[0]["File"] + ":" + log.status[0]["Position"]
	}
	o.Log.Filters = filters(append(slices.Clone(sets[1]), log.status...))
	o.Log.Bytes, o.Host.LogDiskFreeBytes = e.logSize()
	if o.Process.Role == observation.Primary {
		o.Log.Written, o.Log.Files = sets[0][0]["binlog_pos"], log.files
	} else {
		o.Log.ShutdownAt = e.heldAt(ctx)
	}
	o.Process.Accepting = true
	e.observeSynchronous(o, sets[0][0])
	e.rememberFacts(o, sets[0][0])
	return e.observeLine(ctx, o)
}

func (e *Engine) readFacts(o *observation.Server, f map[string]string, follows bool) {
	o.Process.Version, _, _ = strings.Cut(f["version"], "-")
	n, _ := strconv.ParseUint(f["server_id"], 10, 32)
	o.Log.ServerID = uint32(n)
	o.Log.GTIDState = f["state"]
	o.Encryption = &observation.Encryption{State: e.encryption.Proof(f["have_ssl"] == "YES", f["cert"])}
	o.Config.Live = map[string]string{"binlog_expire_logs_seconds": f["expire"], "slave_parallel_threads": f["threads"],
		"max_binlog_size": f["file_size"], verb.Delay: "0"}
	o.Process.Role, o.Process.Writable = observation.Primary, f["sessions_ro"] == "0"
	if f["ro"] != "0" {
		o.Process.Role, o.Process.Writable = observation.Replica, false
		// What it applied as a replica counts once it is committed; its own log
		// names a transaction a moment before.
		if o.Log.Applied = f["slave_pos"]; !follows {
			o.Log.Applied = later(f["binlog_pos"], f["slave_pos"])
		}
		o.Log.Received = o.Log.Applied
	}
}

// readSessions counts the clients among the sessions, and takes in for how long a commit has
// been waiting. Which commits wait is asked only when some do.
func (e *Engine) readSessions(ctx context.Context, o *observation.Server, facts map[string]string,
	sessions []map[string]string) error {
	waits := false
	for _, x := range sessions {
		if x["User"] != "system user" && x["User"] != "event_scheduler" && x["Command"] != "Binlog Dump" &&
			x["Command"] != "Daemon" && x["Id"] != facts["own"] {
			o.Process.ConnectedClients++
		}
		waits = waits || commitWaits(x["State"])
	}
	waiting := ""
	if waits {
		var err error
		if waiting, err = e.text(ctx, waitingSQL); err != nil {
			return err
		}
	}
	counts := syncCounts(facts)
	granted := counts["yes_tx"] + " " + counts["no_tx"]
	switch {
	case counts["status"] != "ON":
		granted = facts["binlog_pos"] // nobody is asked: a commit is done once it is in the log
	case waitsForEver(facts):
		granted = counts["yes_tx"] // one whose wait was cancelled is no sign that others go on
	}
	o.Process.CommitWaits = e.waits.Longest(time.Now(),
		strings.FieldsFunc(waiting, func(r rune) bool { return r == ',' }), granted)
	return nil
}

// readLink takes in what the server says of its upstream. Its own measure of
// lag is not read: it says 0 while megabytes behind, and nothing when stopped
// (measured).
func (e *Engine) readLink(o *observation.Server, rows []map[string]string) {
	for _, l := range rows {
		if name := l["Connection_name"]; name != "" {
			o.Links.Named = append(o.Links.Named, name)
			if len(rows) > 1 {
				continue // the unnamed one is what is handled
			}
		}
		port, _ := strconv.Atoi(l["Master_Port"])
		delay, _ := strconv.Atoi(l["SQL_Delay"])
		u := &observation.Upstream{Host: l["Master_Host"], Port: port, Connected: l["Slave_IO_Running"] == "Yes",
			State: strings.ToLower(l["Slave_IO_Running"]), DelaySeconds: delay,
			Proof: e.insisted(l), ByPosition: byPosition(l)}
		o.Config.Live[verb.Delay] = strconv.Itoa(delay)
		if n := l["Last_IO_Errno"]; n != "0" && n != "" {
			u.Problem = "error " + n + ": " + l["Last_IO_Error"]
			u.Refused = n == "1236" // ER_MASTER_FATAL_ERROR_READING_BINLOG
		} else if l["Slave_IO_Running"] == "No" {
			u.Problem = "the receiver is stopped"
		}
		if n := l["Last_SQL_Errno"]; n != "0" && n != "" {
			u.ApplierProblem, u.ApplierMayPass = "error "+n+": "+l["Last_SQL_Error"], mayPass(l)
		}
		o.Replay.Wait = l["Slave_SQL_Running_State"]
		o.Replay.Paused = l["Slave_SQL_Running"] != "Yes" && u.ApplierProblem == ""
		o.Links.Upstream = u
		if o.Process.Role == observation.Replica {
			o.Log.Received = later(o.Log.Applied, l["Gtid_IO_Pos"])
		}
		o.Log.ReceivedAt = l["Master_Log_File"] + ":" + l["Read_Master_Log_Pos"]
		o.Log.AppliedAt = l["Relay_Master_Log_File"] + ":" + l["Exec_Master_Log_Pos"]
	}
}

// filters lists every filter that the server names in the status of its links and
// of its own log: by database, table, domain and server.
func filters(status []map[string]string) (out []string) {
	for _, row := range status {
		for name, value := range row {
			if name = strings.ToLower(name); value != "" &&
				(strings.HasPrefix(name, "replicate_") || name == "binlog_do_db" || name == "binlog_ignore_db") {
				out = append(out, name+" = "+value)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// rememberFacts keeps what a stopped server cannot say.
func (e *Engine) rememberFacts(o *observation.Server, f map[string]string) {
	e.remember(rememberServerID, fmt.Sprint(o.Log.ServerID))
	e.remember(rememberLogs, f["log_base"])
	e.remember(rememberRelay, f["relay_base"])
	e.noteRole(o.Process.Identity, o.Process.Role == observation.Primary)
	e.markData()
}

// observeLine finds identity and history; a server that Cross Twin never
// prepared has none yet.
func (e *Engine) observeLine(ctx context.Context, o *observation.Server) error {
	l, err := e.line(ctx, e.db)
	if n := number(err); n == 1146 || n == 1049 || err != nil && strings.Contains(err.Error(), sql.ErrNoRows.Error()) {
		return nil
	}
	if err != nil {
		return err
	}
	o.Log.Line, o.Data.System = l, l.System
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	e.remember(rememberSystem, l.System)
	e.remember(rememberLine, string(b))
	return nil
}

// dataFile names, inside the data directory, what the agent remembers of the
// data: other data that was put in its place does not have it.
const (
	dataFile     = "crosstwin.id"
	rememberData = "data"
)

func (e *Engine) knownData() bool {
	b, err := e.ReadFile(e.Path(dataFile))
	return err == nil && string(b) == e.memory.Fingerprint(rememberData)
}

// markData leaves the mark on a running server's data, once.
func (e *Engine) markData() {
	if e.knownData() {
		return
	}
	if e.memory.Fingerprint(rememberData) != "" {
		// Other data than before: what was known of the old does not hold.
		e.memory.SetFingerprint(rememberSystem, "")
		e.memory.SetFingerprint(rememberLine, "")
		e.memory.SetFingerprint(rememberMark, "")
	}
	id := rand.Text()
	if e.WriteOwned(e.Path(dataFile), []byte(id)) == nil {
		e.remember(rememberData, id)
	}
}

// observeStopped tells what a server that does not answer holds, by its files
// and the agent's memory.
func (e *Engine) observeStopped(o *observation.Server) {
	if !o.Process.Running && !e.knownData() {
		o.Process.Problem = "its data directory holds other data than its agent knew"
		return
	}
	o.Data.System = e.memory.Fingerprint(rememberSystem)
	json.Unmarshal([]byte(e.memory.Fingerprint(rememberLine)), &o.Log.Line)
	n, _ := strconv.ParseUint(e.memory.Fingerprint(rememberServerID), 10, 32)
	o.Log.ServerID = uint32(n)
	st, err := e.stoppedLog()
	if err != nil {
		o.Process.Problem = cmp.Or(o.Process.Problem, "its log cannot be read: "+err.Error())
		return
	}
	o.Log.GTIDState = st.state.String()
	o.Data.State = stateCrashed
	if st.clean {
		o.Data.State = stateClean
		if !o.Process.Running {
			o.Log.ShutdownAt = st.at
		}
	}
}

// What a stopped server's log says of its end.
const (
	stateClean   = "shut down"
	stateCrashed = "its log was not closed"
)

// observedSettings are those that matter at a role change.
var observedSettings = []string{"log_bin", "bind_address", "log_slave_updates", "binlog_format", "binlog_row_image",
	"binlog_row_metadata", "gtid_domain_id", "gtid_strict_mode", "sync_binlog",
	"innodb_flush_log_at_trx_commit", "lower_case_table_names", "max_connections", "event_scheduler", "slave_exec_mode",
	"slave_skip_errors", "read_only", "tx_read_only", "rpl_semi_sync_master_enabled",
	"binlog_expire_logs_seconds", "slave_parallel_threads", "slave_parallel_mode", "innodb_buffer_pool_size",
	"max_allowed_packet", "character_set_server", "collation_server", "datadir"}

// systemSchemas are not the users' own.
const systemSchemas = "('mysql', 'information_schema', 'performance_schema', 'sys', 'crosstwin')"

// facts counts what a thorough observation counts.
var facts = map[string]string{
	"tables_without_key": "select count(*) from information_schema.tables t where table_type = 'BASE TABLE' " +
		"and table_schema not in " + systemSchemas + " and not exists (select * from " +
		"information_schema.table_constraints c where c.table_schema = t.table_schema and c.table_name = t.table_name " +
		"and constraint_type = 'PRIMARY KEY')",
	"tables_not_transactional": "select count(*) from information_schema.tables where table_type = 'BASE TABLE' and " +
		"engine <> 'InnoDB' and table_schema not in " + systemSchemas,
	"events_enabled": "select count(*) from information_schema.events where status = 'ENABLED'",
	"privileged_writers": "select count(distinct grantee) from information_schema.user_privileges where " +
		"privilege_type in ('READ_ONLY ADMIN', 'READ ONLY ADMIN') and grantee not like \"'root'@%\" and grantee not " +
		"like \"'mysql'@%\" and grantee not like \"'mariadb.sys'@%\"",
	"long_statements": "select count(*) from information_schema.processlist where command = 'Query' and " +
		"time_ms > 5000 and user <> 'system user'",
}

func (e *Engine) observeSettings(ctx context.Context, o *observation.Server) error {
	o.Config.Settings, o.Config.Facts = map[string]string{}, map[string]int64{}
	rows, err := e.query(ctx, "show global variables where variable_name in ('"+strings.Join(observedSettings, "','")+"')")
	if err != nil {
		return err
	}
	for _, r := range rows {
		o.Config.Settings[r["Variable_name"]] = r["Value"]
	}
	if e.memory.Fingerprint(rememberEvents) == "ON" {
		o.Config.Settings["event_scheduler"] = "ON" // switched off by us, and on again when it is primary
	}
	for k, q := range facts {
		s, err := e.text(ctx, q)
		if err != nil {
			return fmt.Errorf("%s: %w", k, err)
		}
		if o.Config.Facts[k], err = strconv.ParseInt(s, 10, 64); err != nil {
			return fmt.Errorf("%s: %w", k, err)
		}
	}
	if o.Config.Settings["accounts"], err = e.text(ctx,
		"select md5(group_concat(user, '@', host, md5(priv) order by user, host)) from mysql.global_priv where user not "+
			"in ('root', 'mysql', 'mariadb.sys')"); err != nil {
		return err
	}
	if o.Config.Settings["data_directories"], err = e.text(ctx,
		"select coalesce(group_concat(filename order by filename separator ', '), '') from "+
			"information_schema.innodb_sys_tablespaces where filename like '/%'"); err != nil {
		return err
	}
	if e.apart() {
		if o.Config.AtNextStart, err = e.atNextStart(ctx); err != nil {
			return err
		}
	}
	if len(o.Log.Files) > 0 {
		if o.Config.Settings["oldest_position"],
			err = e.text(ctx, "select binlog_gtid_pos(?, 4)", filepath.Base(o.Log.Files[0].Name)); err != nil {
			return err
		}
	}
	return nil
}
