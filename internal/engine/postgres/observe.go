package postgres

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/pgtool"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// observeSQL returns all facts of every second in one row of JSON. It is prepared once a
// connection: to plan it costs the server more than to answer it (measured). The functions
// of the one role raise an error in the other, so each stands behind a CASE.
const observeSQL = `select json_build_object(
 'clock', extract(epoch from clock_timestamp())::text, 'replica', r, 'version', current_setting('server_version'),
   'num', current_setting('server_version_num')::int,
 'system', (select system_identifier::text from pg_control_system()),
 'read_only', current_setting('default_transaction_read_only'),
 'ssl', current_setting('ssl'), 'ssl_cert', current_setting('ssl_cert_file'),
 'sync_names', current_setting('synchronous_standby_names'),
 'conninfo', current_setting('primary_conninfo'), 'slot', current_setting('primary_slot_name'),
 'written', case when not r then pg_current_wal_flush_lsn()::text end,
 'walfile', case when not r then pg_walfile_name(pg_current_wal_insert_lsn()) end,
 'received', case when r then pg_last_wal_receive_lsn()::text end,
 'applied', case when r then pg_last_wal_replay_lsn()::text end,
 'paused', case when r then pg_is_wal_replay_paused() else false end,
 'live', json_build_object('max_standby_streaming_delay', current_setting('max_standby_streaming_delay'),
   'max_standby_archive_delay', current_setting('max_standby_archive_delay'),
    'hot_standby_feedback', current_setting('hot_standby_feedback'), 'wal_keep_size',
      current_setting('wal_keep_size'), 'max_slot_wal_keep_size', current_setting('max_slot_wal_keep_size')),
 'delay', extract(epoch from current_setting('recovery_min_apply_delay')::interval),
 'replay', case when r then (select json_build_object('pid', pid, 'kind', wait_event_type, 'event', wait_event)
   from pg_stat_activity where backend_type = 'startup') end,
 'conflicts', case when r then (select json_build_object('tablespace', sum(confl_tablespace), 'lock',
   sum(confl_lock), 'snapshot', sum(confl_snapshot), 'bufferpin', sum(confl_bufferpin), 'deadlock', sum(confl_deadlock))
    from pg_stat_database_conflicts) end,
 'checkpoint', (select json_build_object('tli', timeline_id, 'redo', redo_lsn) from pg_control_checkpoint()),
 'min_tli', (select coalesce(min_recovery_end_timeline, 0) from pg_control_recovery()),
 'waiting', (select coalesce(json_agg(pid || ' ' || query_start), '[]') from pg_stat_activity
   where wait_event = 'SyncRep'),
 'granted', (select concat(current_setting('synchronous_standby_names'), ' ',
   max(case current_setting('synchronous_commit')
    when 'remote_apply' then replay_lsn when 'remote_write' then write_lsn else flush_lsn end))
    from pg_stat_replication where sync_state in ('sync', 'quorum')),
 'clients', (select count(*) from pg_stat_activity where backend_type = 'client backend' and pid <> pg_backend_pid()),
 'started', (select extract(epoch from pg_postmaster_start_time())::text),
 'checkpointer', (select coalesce(max(extract(epoch from backend_start))::text, '') from pg_stat_activity
   where backend_type = 'checkpointer'),
 'receiver', (select json_build_object('status', status, 'tli', received_tli, 'host', sender_host, 'port',
   sender_port, 'slot', slot_name,
    'idle', extract(epoch from clock_timestamp() - last_msg_receipt_time)) from pg_stat_wal_receiver),
 'senders', (select coalesce(json_agg(json_build_object('name', application_name, 'state', state, 'sent', sent_lsn,
   'write', write_lsn, 'flush', flush_lsn, 'replay', replay_lsn,
    'sync', sync_state)), '[]') from pg_stat_replication where state <> 'backup'
      and application_name not like '%basebackup%' and not (state = 'startup' and application_name = '')),
 'slots', (select coalesce(json_agg(json_build_object('name', slot_name, 'active', active, 'restart', restart_lsn,
   'state', wal_status, 'database', database,
    'kept', case when r then pg_last_wal_replay_lsn() else pg_current_wal_lsn() end - restart_lsn)), '[]')
      from pg_replication_slots where not temporary)
) from (select pg_is_in_recovery() as r) x`

type observedRow struct {
	SSL      string
	SSLCert  string `json:"ssl_cert"`
	Clock    string
	Replica  bool
	Version  string
	Num      int
	System   string
	ReadOnly string `json:"read_only"`
	// SyncNames are those that commits wait for.
	SyncNames string `json:"sync_names"`
	Conninfo  string
	Slot      string
	Written   *string
	WALFile   *string `json:"walfile"`
	Received  *string
	Applied   *string
	Paused    bool
	Live      map[string]string
	Delay     float64
	Replay    *struct {
		PID         int
		Kind, Event *string
	}
	Conflicts  map[string]int64
	MinTLI     uint32 `json:"min_tli"`
	Checkpoint struct {
		TLI  uint32
		Redo string
	}
	Clients int
	Waiting []string // sessions whose commit waits for a synchronous replica
	Granted string   // who may grant it, and up to where
	Started string
	// Checkpointer is when that process began: all begin anew, within one server
	// process, after any of them crashed.
	Checkpointer string
	Receiver     *struct {
		Status string
		TLI    uint32
		Host   *string
		Port   *int
		Slot   *string
		Idle   *float64
	}
	Senders []struct {
		Name, State                string
		Sent, Write, Flush, Replay *string
		Sync                       string
	}
	Slots []struct {
		Name    string
		Active  bool
		Restart *string
		State   *string
		Kept    *float64
		// Database is that of a logical slot.
		Database *string
	}
}

// probeTimeout bounds the queries of each second's observation.
const probeTimeout = 3 * time.Second

// Observe implements engine.Engine.
func (e *Engine) Observe(ctx context.Context, thorough bool) *observation.Server {
	o := &observation.Server{At: time.Now().UTC(), Engine: position.EnginePostgres,
		Host: observation.Host{Address: e.address()}}
	o.Process.MajorVersion, o.Process.Version = majorOf(e.cfg.BinDir), filepath.Base(filepath.Dir(e.cfg.BinDir))
	o.Data.Empty, o.Data.Unfinished = e.Empty(), e.memory.Unfinished()
	_, err := e.Stat(e.Path("standby.signal"))
	o.Data.ClosedByDefault = err == nil
	o.Host.DiskFreeBytes = e.DiskFree()
	o.Config.Apart = e.apart()
	o.Log.Bytes, o.Host.LogDiskFreeBytes = e.logSize()
	p, running := e.running()
	var orphans []int
	if !running && !o.Data.Empty {
		// A server that began to start between the two looks has its file by the
		// time at which it has children: it is no orphanage.
		if orphans = e.orphans(); len(orphans) > 0 {
			if p, running = e.running(); running {
				orphans = nil
			}
		}
	}
	o.Process.Running = running
	if running {
		o.Process.Identity = host.ProcessIdentity(p.pid)
	}
	if running && p.status != "starting" && p.status != "stopping" {
		err := e.observeRunning(ctx, o)
		if err != nil {
			o.Process.Problem, o.Process.NotLetIn = host.Unanswered(probeTimeout, err, plain(err)), notLetIn(err)
			// So its own file says that it has come up and lets nobody in: hot_standby is off.
			o.Process.NoReads = p.status == "standby" && !o.Process.NotLetIn
		} else if e.noteOpen(o); thorough {
			if err = e.observeSettings(ctx, o); err != nil {
				o.Config.Settings, o.Config.Facts, o.Config.Problem = nil, nil, host.Words(err, plain(err))
			}
		}
	} else if running {
		o.Process.Problem, o.Process.Passing = "it is "+p.status, true
		if p.status == "stopping" {
			if e.wasOpen(o.Process.Identity) {
				o.Process.Problem = "it is stopping: it lets nobody in, though sessions that are open may go on writing"
			}
			e.leave()
		}
	} else if len(orphans) > 0 {
		// Killed without its children, which go on committing (measured).
		o.Process.Running = true
		o.Process.Problem = fmt.Sprintf("its server process is gone, and %d of its children go on", len(orphans))
	}
	if !o.Process.Accepting && !o.Data.Empty {
		e.observeStopped(ctx, o)
		// One that stops waits for its sessions to end, which write until then. A copy that never
		// opened has the state of its source as well: what counts is what this process was.
		stops := running && p.status == "stopping" && e.wasOpen(o.Process.Identity)
		if (len(orphans) > 0 || stops || running && p.status == "ready") && o.Data.State == pgtool.StateInProduction {
			// It hangs, and could go on at any moment: what it is open for counts,
			// not that it does not answer now.
			o.Process.Role, o.Process.Writable = observation.Primary, true
		}
	}
	o.Data.Bytes = observation.Known(e.Bytes(thorough))
	o.Data.Spaces = e.spaces()
	for i := range o.Data.Spaces {
		if thorough {
			o.Data.Spaces[i].Bytes = observation.Known(e.DirBytes(o.Data.Spaces[i].Path))
		}
	}
	return o
}

// rememberOpen is the process that was last seen as a primary. It begins with the identity
// of the process; a server that answers adds when it began by its own account.
const rememberOpen = "open process"

func (e *Engine) noteOpen(o *observation.Server) {
	if o.Process.Role == observation.Primary && e.memory.Fingerprint(rememberOpen) != o.Process.Identity {
		e.memory.SetFingerprint(rememberOpen, o.Process.Identity)
	}
}

func (e *Engine) wasOpen(identity string) bool {
	return identity != "" && strings.HasPrefix(e.memory.Fingerprint(rememberOpen)+" ", identity+" ")
}

// plain takes the wrapping off a connection error.
func plain(err error) string {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		return pe.Message + furtherWords(err)
	}
	return strings.TrimSpace(err.Error())
}

// notLetIn reports whether a server that says of itself that it is ready refused
// the agent, or cannot be found where the agent looks. One that starts, stops or
// recovers (class 57) tells how it is.
func notLetIn(err error) bool {
	var refusal *pgconn.PgError
	if errors.As(err, &refusal) {
		return !strings.HasPrefix(refusal.Code, "57")
	}
	return errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission) || errors.Is(err, syscall.ECONNREFUSED)
}

// observeRunning asks the server. A connection of the pool may be a leftover of
// an earlier server process, which fails at once: the second try is on a fresh
// one. A server that has not answered in time is not asked again.
func (e *Engine) observeRunning(ctx context.Context, o *observation.Server) error {
	return e.silent.Ask(ctx, o.Process.Identity, probeTimeout, func(ctx context.Context) error {
		err := e.ask(ctx, o)
		if err != nil && ctx.Err() == nil {
			e.pool.Reset()
			err = e.ask(ctx, o)
		}
		return err
	}, func(ctx context.Context) error { _, err := e.pool.Exec(ctx, "select 1"); return err })
}

func (e *Engine) ask(ctx context.Context, o *observation.Server) error {
	var text string
	asked := time.Now()
	if err := e.pool.QueryRow(ctx, observeSQL, pgx.QueryExecModeCacheStatement).Scan(&text); err != nil {
		return err
	}
	answered := time.Now()
	o.Looked.Began, o.Looked.Ended = asked, answered
	var r observedRow
	if err := json.Unmarshal([]byte(text), &r); err != nil {
		return fmt.Errorf("what the server says of itself cannot be read: %w", err)
	}
	o.Process.ClockAhead = host.ClockAhead(r.Clock, asked, answered)
	o.Process.Accepting, o.Process.Version, o.Process.MajorVersion, o.Data.System = true, strings.Fields(r.Version)[0],
		r.Num/10000, r.System
	o.Process.Identity += " " + r.Checkpointer
	o.Process.CommitWaits = e.waits.Longest(time.Now(), r.Waiting, e.granted(&r))
	o.Process.Role, o.Process.Writable = observation.Primary, r.ReadOnly == "off"
	if r.Replica {
		o.Process.Role, o.Process.Writable, o.Data.State = observation.Replica, false, pgtool.StateInRecovery
	}
	o.Replay.Paused, o.Process.ConnectedClients, o.Data.Redo = r.Paused, r.Clients, r.Checkpoint.Redo
	o.Log.Written, o.Log.Received, o.Log.Applied = deref(r.Written), deref(r.Received), deref(r.Applied)
	if r.Replica {
		// After a restart with no upstream the received position is empty or
		// the start of a segment: what was applied is then the better bound.
		o.Log.Received = later(o.Log.Received, o.Log.Applied)
	}
	o.Encryption = &observation.Encryption{State: e.encryption.Proof(r.SSL == "on", r.SSLCert),
		Placeholder: r.SSLCert == packageCertificate}
	e.observeLinks(o, &r)
	e.observeReplay(o, &r)
	e.observeSynchronous(o, r.SyncNames)
	e.observeLine(ctx, o, &r)
	e.leaveOutUnfinished(o)
	return nil
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

func later(a, b string) string {
	x, err1 := position.ParseLSN(a)
	y, err2 := position.ParseLSN(b)
	if err1 != nil || err2 == nil && y > x {
		return b
	}
	return a
}

func (e *Engine) observeLinks(o *observation.Server, r *observedRow) {
	if r.Conninfo != "" {
		ci := pgtool.ParseConnInfo(r.Conninfo)
		port, _ := strconv.Atoi(ci["port"])
		o.Links.Upstream = &observation.Upstream{Host: ci["host"], Port: port, Slot: r.Slot, As: ci["application_name"],
			Proof: e.insisted(ci)}
	}
	if x := r.Receiver; x != nil {
		if o.Links.Upstream == nil {
			o.Links.Upstream = &observation.Upstream{}
		}
		u := o.Links.Upstream
		u.State, u.IdleSeconds = x.Status, deref(x.Idle)
		u.Connected = x.Status == streaming && deref(x.Host) == u.Host && deref(x.Port) == u.Port
	}
	if o.Links.Upstream != nil && !o.Links.Upstream.Connected && r.Replica && o.Links.Upstream.Host != "" {
		o.Links.Upstream.Problem = e.receiverProblem()
	}
	for _, x := range r.Senders {
		o.Links.Downstreams = append(o.Links.Downstreams,
			observation.Downstream{Name: x.Name, State: x.State, Sent: deref(x.Sent), Received: deref(x.Write),
				Safe: deref(x.Flush), Applied: deref(x.Replay),
				Synchronous: x.Sync == "sync" || x.Sync == "quorum"})
	}
	for _, x := range r.Slots {
		_, ours := verb.SlotOwner(x.Name)
		o.Links.Slots = append(o.Links.Slots,
			observation.Slot{Name: x.Name, Active: x.Active, Restart: deref(x.Restart), State: deref(x.State),
				KeptBytes: int64(deref(x.Kept)), Ours: ours && x.Database == nil, Database: deref(x.Database)})
	}
}

// observeReplay takes in what the one process that replays waits for, and how
// busy it is: replay uses one core at most.
func (e *Engine) observeReplay(o *observation.Server, r *observedRow) {
	o.Replay.Conflicts, o.Config.Live = r.Conflicts, r.Live
	o.Config.Live[verb.Delay] = strconv.Itoa(int(r.Delay))
	if o.Links.Upstream != nil {
		o.Links.Upstream.DelaySeconds = int(r.Delay)
	}
	if x := r.Replay; x != nil {
		o.Replay.Wait = strings.TrimSpace(deref(x.Kind) + " " + deref(x.Event))
		o.Replay.Busy = e.busy.Share(x.PID, o.At)
	}
}

// logSize returns the bytes of the log's files and the room beside them. Files
// are not looked into: each but the history files has the size of a segment.
func (e *Engine) logSize() (size, free observation.Maybe[int64]) {
	bytes := int64(0)
	names, err := e.ReadDir(e.Path("pg_wal"))
	if err != nil {
		return size, free
	}
	for _, n := range names {
		if len(n.Name()) == len("000000010000000000000001") {
			bytes += int64(e.segmentBytes())
		}
	}
	return observation.Known(bytes), host.FreeAt(e.Path("pg_wal"))
}

// receiverProblem returns the newest reason in the server's log why nothing is
// received. The server has no view for it.
func (e *Engine) receiverProblem() string {
	f, err := e.OpenLog(e.cfg.LogFile, os.O_RDONLY)
	if err != nil {
		return ""
	}
	defer f.Close()
	const tail = 64 << 10
	if fi, err := f.Stat(); err == nil && fi.Size() > tail {
		f.Seek(-tail, 2)
	}
	b, _ := io.ReadAll(io.LimitReader(f, tail))
	return pgtool.LinkProblem(string(b))
}

type lineCache struct {
	line position.Line
	past []position.Branch
}

// observeLine finds the history the server is on. The control data names the
// old timeline until the first checkpoint after a promotion, so a primary's
// is read off its newest log file's name, a replica's off its receiver.
func (e *Engine) observeLine(ctx context.Context, o *observation.Server, r *observedRow) {
	tli := max(r.Checkpoint.TLI, r.MinTLI)
	if r.WALFile != nil && len(*r.WALFile) >= 8 {
		if n, err := strconv.ParseUint((*r.WALFile)[:8], 16, 32); err == nil {
			tli = uint32(n)
		}
	}
	e.seen.Lock()
	cached, last, fresh := e.seen.line, e.seen.lastTimeline, e.seen.startedAt == r.Started
	e.seen.Unlock()
	if r.Receiver != nil {
		tli = max(tli, r.Receiver.TLI)
	} else if r.Replica && fresh {
		tli = max(tli, last)
	} else if redo, err := position.ParseLSN(r.Checkpoint.Redo); r.Replica && err == nil {
		tli = e.newestInLog(ctx, tli, redo) // nobody sends, and it was started since
	}
	if fresh && cached.line.Number == tli && (tli == 1 || cached.line.Fingerprint != "") {
		o.Log.Line, o.Log.Past = cached.line, cached.past
		return
	}
	line, past, err := e.lineOf(ctx, r.System, tli)
	if err != nil {
		o.Process.Problem = "its history cannot be read: " + err.Error()
		o.Log.Line = position.Line{System: r.System, Number: tli}
		return
	}
	o.Log.Line, o.Log.Past = line, past
	e.seen.Lock()
	e.seen.line, e.seen.startedAt, e.seen.lastTimeline = lineCache{line, past}, r.Started, tli
	e.seen.Unlock()
}

// lineOf reads a timeline's history file and the fingerprint of its first
// record; the fingerprint is remembered, because the log file goes in time.
func (e *Engine) lineOf(ctx context.Context, system string, tli uint32) (position.Line, []position.Branch, error) {
	h, err := e.history(tli)
	if err != nil {
		return position.Line{}, nil, err
	}
	for i := range h.Past {
		l, _ := h.LineOf(system, h.Past[i].Timeline, "")
		if h.Past[i].Fingerprint, err = e.fingerprint(ctx, l, false); err != nil {
			return position.Line{}, nil, err
		}
	}
	line := position.Line{System: system, Number: tli, Began: h.Began()}
	line.Fingerprint, err = e.fingerprint(ctx, line, true)
	return line, h.Past, err
}

func fingerprintKey(l position.Line) string {
	return fmt.Sprintf("%s/%d/%s", l.System, l.Number, l.Began)
}

// fingerprint reads a line's first record while its log file is there, and
// the agent's memory of it afterwards. What is known is looked at again only
// when asked for: it costs a run of pg_waldump.
func (e *Engine) fingerprint(ctx context.Context, l position.Line, again bool) (string, error) {
	if l.Number <= 1 {
		return "", nil
	}
	known := e.memory.Fingerprint(fingerprintKey(l))
	if known != "" && !again {
		return known, nil
	}
	found := e.firstRecord(ctx, l.Number, l.Began)
	if found == "" || found == known {
		return known, nil
	}
	return found, e.memory.SetFingerprint(fingerprintKey(l), found)
}

func (e *Engine) history(tli uint32) (position.History, error) {
	if tli <= 1 {
		return position.History{Current: 1}, nil
	}
	b, err := e.ReadFile(e.Path("pg_wal", fmt.Sprintf("%08X.history", tli)))
	if err != nil {
		return position.History{}, err
	}
	return position.ParseHistory(tli, string(b))
}

// firstRecord returns the fingerprint of a timeline's first record, empty when
// its log file is gone.
func (e *Engine) firstRecord(ctx context.Context, tli uint32, began position.LSN) string {
	if _, err := e.Stat(e.Path("pg_wal", position.SegmentName(tli, began, e.segmentBytes()))); err != nil {
		return ""
	}
	const enough = 256 // the first record is a short one
	found := ""
	e.dump(ctx, tli, began, began+enough, func(r pgtool.Record) {
		if found == "" {
			found = r.Fingerprint()
		}
	})
	return found
}

type controlCache struct {
	changed time.Time
	control pgtool.Control
}

// segmentBytes returns the size of the log's files. It is fixed when a cluster
// is made, so the control data is read once.
func (e *Engine) segmentBytes() uint64 {
	e.seen.Lock()
	n := e.seen.segment
	e.seen.Unlock()
	if n != 0 {
		return n
	}
	c, err := e.control(context.Background())
	if err != nil {
		return 16 << 20
	}
	e.seen.Lock()
	e.seen.segment = c.SegmentBytes
	e.seen.Unlock()
	return c.SegmentBytes
}

// observeStopped reads the control data of a server that does not answer. The
// utility runs again only after the file has changed.
func (e *Engine) observeStopped(ctx context.Context, o *observation.Server) {
	fi, err := e.Stat(e.Path("global", "pg_control"))
	if err != nil {
		o.Process.Problem = cmp.Or(o.Process.Problem, "its data directory holds no control data: "+err.Error())
		return
	}
	e.seen.Lock()
	c, ok := e.seen.control.control, e.seen.control.changed.Equal(fi.ModTime())
	e.seen.Unlock()
	if !ok {
		if c, err = e.control(ctx); err != nil {
			o.Process.Problem = cmp.Or(o.Process.Problem, err.Error())
			return
		}
		e.seen.Lock()
		e.seen.control = controlCache{fi.ModTime(), c}
		e.seen.Unlock()
	}
	o.Data.System, o.Data.State = c.System, c.State
	if c.State == pgtool.StateShutDown {
		o.Log.ShutdownAt = c.Checkpoint.String()
	}
	if b, err := e.ReadFile(e.Path(autoFile)); err == nil {
		if s, err := pgtool.ParseSettings(string(b)); err == nil && s["primary_conninfo"] != "" {
			ci := pgtool.ParseConnInfo(s["primary_conninfo"])
			port, _ := strconv.Atoi(ci["port"])
			o.Links.Upstream = &observation.Upstream{Host: ci["host"], Port: port, Slot: s["primary_slot_name"],
				Proof: e.insisted(ci)}
		}
	}
	e.stoppedLine(ctx, o, c)
}

// stoppedLine returns the history of a server that does not answer: what was last
// seen of it while it ran, if its data says the same.
func (e *Engine) stoppedLine(ctx context.Context, o *observation.Server, c pgtool.Control) {
	tli := e.stoppedTimeline(ctx, o, c)
	e.seen.Lock()
	cached := e.seen.line
	e.seen.Unlock()
	if cached.line.Number == tli && cached.line.System == c.System {
		o.Log.Line, o.Log.Past = cached.line, cached.past
		return
	}
	line, past, err := e.lineOf(ctx, c.System, tli)
	if err != nil {
		return
	}
	o.Log.Line, o.Log.Past = line, past
	e.seen.Lock()
	e.seen.line, e.seen.startedAt = lineCache{line, past}, "" // looked at again at the next start
	e.seen.Unlock()
}

// observedSettings are those that matter at a role change.
var observedSettings = []string{"max_connections", "max_worker_processes", "max_wal_senders",
	"max_locks_per_transaction", "max_prepared_transactions",
	"wal_level", "max_replication_slots", "data_checksums", "wal_log_hints", "wal_keep_size", "full_page_writes", "fsync",
	"synchronous_commit",
	"default_transaction_read_only", "synchronous_standby_names", "hot_standby", "hot_standby_feedback",
	"max_slot_wal_keep_size", "archive_mode",
	"config_file", "hba_file", "data_directory", "listen_addresses"}

const factsSQL = `select json_build_object(
 'prepared_transactions', (select count(*) from pg_prepared_xacts),
 'unwaited_defaults', (select count(*) from pg_db_role_setting where exists (select from unnest(setconfig) c
   where c in ('synchronous_commit=off', 'synchronous_commit=local'))),
 'hba_errors', (select count(*) from pg_hba_file_rules where error is not null),
 'archive_failing', (select case when current_setting('archive_mode') <> 'off'
   and last_failed_time > coalesce(last_archived_time, '-infinity') then 1 else 0 end from pg_stat_archiver),
 'collation_mismatches', (select count(*) from pg_database where datcollversion is distinct
   from pg_database_collation_actual_version(oid)))`

// rulesSQL gives the access rules that let applications in or keep them out, one a line:
// not those for replicas, and none of ours. Their order is left out, and so are their
// options, which may hold passwords.
const rulesSQL = `select coalesce(string_agg(distinct concat_ws(' ', type, array_to_string(database, ','),
   array_to_string(user_name, ','), address, netmask, auth_method), chr(10)), '')
 from pg_hba_file_rules where error is null and not 'replication' = any(database)
   and not exists (select from unnest(user_name) u where starts_with(u, 'crosstwin_'))`

// copiedSQL finds what a copy's configuration would bring along, or lack: paths of
// this server in its files, and limits that the running server has and its files do
// not (given on its command line, or changed since it started). A configuration outside of
// the data directory is no part of a copy.
const copiedSQL = `select
 coalesce((select string_agg(distinct name || ' = ' || setting, ', ') from pg_file_settings
    where name in ('data_directory', 'config_file', 'hba_file', 'ident_file', 'external_pid_file')
    and starts_with(sourcefile, current_setting('data_directory') || '/')), ''),
 coalesce((select string_agg(format('%s is %s, and %s in its files', s.name, s.setting, coalesce(f.setting,
   s.boot_val)), ', ' order by s.name)
    from pg_settings s left join lateral (select setting from pg_file_settings
      where name = s.name order by seqno desc limit 1) f on true
    where s.name in ('max_connections', 'max_worker_processes', 'max_wal_senders', 'max_locks_per_transaction',
      'max_prepared_transactions')
    and s.setting::int > coalesce(f.setting, s.boot_val)::int), '')`

func (e *Engine) observeSettings(ctx context.Context, o *observation.Server) error {
	var settings, facts string
	if err := e.pool.QueryRow(ctx, "select json_object_agg(name, setting) from pg_settings where name in ('"+
		strings.Join(observedSettings, "','")+"')").Scan(&settings); err != nil {
		return err
	}
	if err := json.Unmarshal([]byte(settings), &o.Config.Settings); err != nil {
		return err
	}
	if err := e.pool.QueryRow(ctx, factsSQL).Scan(&facts); err != nil {
		return err
	}
	if err := json.Unmarshal([]byte(facts), &o.Config.Facts); err != nil {
		return err
	}
	var rules string
	if err := e.pool.QueryRow(ctx, rulesSQL).Scan(&rules); err != nil {
		return err
	}
	o.Config.Settings["access_rules"] = rules
	var paths, limits string
	if err := e.pool.QueryRow(ctx, copiedSQL).Scan(&paths, &limits); err != nil {
		return err
	}
	o.Config.Settings["copied_paths"], o.Config.Settings["lost_limits"] = paths, limits
	if e.apart() {
		o.Config.AtNextStart = e.wanted(o.Config.Settings)
	}
	return e.eachDatabase(ctx, func(c querier) error {
		var unlogged, unwaited int64
		err := c.QueryRow(ctx, perDatabaseSQL).Scan(&unlogged, &unwaited)
		o.Config.Facts["unlogged_tables"] += unlogged
		o.Config.Facts[observation.UnwaitedDefaults] += unwaited
		return err
	})
}

// perDatabaseSQL counts what each database has of its own: unlogged tables, and functions whose
// commits wait for no replica.
const perDatabaseSQL = `select
 (select count(*) from pg_class where relkind = 'r' and relpersistence = 'u'),
 (select count(*) from pg_proc where exists (select from unnest(proconfig) c
   where c in ('synchronous_commit=off', 'synchronous_commit=local')))`
