package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// Commits wait for a replica by the server's own semi-synchronous replication, after the log is
// synced and before anybody sees the transaction (AFTER_SYNC), for ever, whether a replica is
// there or not. It stands in no configuration file: on a replica it holds the applier up, and
// every start is closed, so that switching it on before opening leaves no gap (handbook,
// "Synchronous replication", 30). Which replica acknowledges, the server does not choose.

// rememberList is what the agent was told, and what of it is proven.
const rememberList = "synchronous list"

// told is that.
type told struct {
	List synchronous.List
	// At is a position after which all commits waited; empty: from when it is opened on.
	At string
	// Process is the one that waits, and Base how many commits it had acknowledged without a
	// replica when it began to.
	Process string
	Base    int64
	// Taking: it is being told, and does one or the other.
	Taking bool
	Alone  int64 // commits that were acknowledged without a replica
	Last   time.Time
	LastAt string
}

func (e *Engine) told() told { return engine.Recall[told](e.memory, rememberList) }

func (e *Engine) keepTold(t told) error { return engine.Keep(e.memory, rememberList, t) }

// forever is the longest wait that the server takes, in milliseconds; from foreverFrom on it
// counts as one without an end.
const (
	forever     = "18446744073709551615"
	foreverFrom = 4294967295
)

// Synchronize implements engine.Synchronizer.
func (e *Engine) Synchronize(ctx context.Context, a verb.Synchronize) (problem error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if a.List.Need > 1 {
		return fmt.Errorf("%s: the server waits for one replica at most, not for %s", e.cfg.Name, a.List)
	}
	t := e.told()
	if _, running := e.running(); !running {
		t.List, t.At, t.Process = a.List, "", ""
		return e.keepTold(t)
	}
	open, err := e.text(ctx, "select @@global.read_only = 0")
	if err != nil {
		return err
	}
	if open != "1" {
		t.List, t.At, t.Process = a.List, "", "" // waited for from when it is opened on
		return e.keepTold(t)
	}
	if waits, err := e.waitsAlready(ctx, t); err != nil || waits && !a.List.IsZero() {
		// It waits for whoever acknowledges: only who may is another matter.
		if t.List = a.List; err == nil {
			if t.At, err = e.text(ctx, "select @@global.gtid_binlog_pos"); err == nil {
				err = e.keepTold(t)
			}
		}
		return err
	}
	t.List, t.Taking = a.List, true
	if err := e.keepTold(t); err != nil {
		return err
	}
	defer func() { // whatever came of it, what the server has from now on is by hand or ours
		if now := e.told(); now.Taking {
			now.Taking = false
			problem = errors.Join(problem, e.keepTold(now))
		}
	}()
	if a.List.IsZero() {
		err = e.exec(ctx, "set global rpl_semi_sync_master_enabled = 0")
	} else {
		err = e.waitForReplicas(ctx, &t)
	}
	if err != nil {
		return err
	}
	if t.At, err = e.text(ctx, "select @@global.gtid_binlog_pos"); err != nil {
		return err
	}
	t.Taking = false
	return e.keepTold(t)
}

// waitsAlready reports whether the process that runs waits as the agent set it.
func (e *Engine) waitsAlready(ctx context.Context, t told) (bool, error) {
	pid, _ := e.running()
	if t.List.IsZero() || t.Process != host.ProcessIdentity(pid) || t.Taking {
		return false, nil
	}
	rows, err := e.query(ctx, "select @@global.rpl_semi_sync_master_enabled sync_on, "+semiSyncSettings)
	if err != nil || len(rows) != 1 {
		return false, err
	}
	return waitsForEver(rows[0]), nil
}

// semiSyncSettings are what makes the wait one that nothing passes.
const semiSyncSettings = "@@global.rpl_semi_sync_master_timeout sync_timeout, " +
	"@@global.rpl_semi_sync_master_wait_point sync_point, @@global.rpl_semi_sync_master_wait_no_slave sync_absent"

func waitsForEver(f map[string]string) bool {
	timeout, err := strconv.ParseUint(f["sync_timeout"], 10, 64)
	return err == nil && timeout >= foreverFrom && f["sync_on"] == "1" && f["sync_point"] == "AFTER_SYNC" &&
		f["sync_absent"] == "1"
}

// syncCounts reads what an observation asks of the server's counts: yes_tx, no_tx, status, clients.
func syncCounts(f map[string]string) map[string]string {
	out := map[string]string{}
	for _, x := range strings.Split(f["sync_counts"], ",") {
		name, value, _ := strings.Cut(x, " ")
		out[name] = value
	}
	return out
}

// waitForReplicas switches the wait on, and notes by which process and from which count on.
func (e *Engine) waitForReplicas(ctx context.Context, t *told) error {
	if err := e.exec(ctx, "set global rpl_semi_sync_master_timeout = "+forever+
		"; set global rpl_semi_sync_master_wait_point = 'AFTER_SYNC'; set global rpl_semi_sync_master_wait_no_slave = 1; "+
		"set global rpl_semi_sync_master_enabled = 1"); err != nil {
		return fmt.Errorf("have commits wait for a replica: %w", err)
	}
	n, err := e.text(ctx, "select variable_value from information_schema.global_status "+
		"where variable_name = 'rpl_semi_sync_master_no_tx'")
	if err != nil {
		return err
	}
	pid, _ := e.running()
	t.Process = host.ProcessIdentity(pid)
	t.Base, _ = strconv.ParseInt(n, 10, 64)
	return nil
}

// beforeOpening has commits wait, where they are to, before the first one can be made.
func (e *Engine) beforeOpening(ctx context.Context) error {
	t := e.told()
	if t.List.IsZero() {
		return nil
	}
	if err := e.waitForReplicas(ctx, &t); err != nil {
		return err
	}
	return e.keepTold(t)
}

// beforeFollowing are the statements that end the wait of a server that becomes a replica: its
// applier would wait.
func (e *Engine) beforeFollowing() string {
	if e.told().List.IsZero() {
		return ""
	}
	return "set global rpl_semi_sync_master_enabled = 0; "
}

// observeSynchronous tells whom commits wait for.
func (e *Engine) observeSynchronous(o *observation.Server, f map[string]string) {
	t := e.told()
	s := &observation.Synchronous{Set: t.List}
	o.Synchronous = s
	waits := waitsForEver(f)
	switch {
	case f["sync_on"] != "1":
	case waits:
		s.Value, s.Need = "AFTER_SYNC, for ever", 1
	default:
		s.Value = f["sync_point"] + ", for " + f["sync_timeout"] + " ms at most"
		if f["sync_absent"] != "1" {
			s.Value += ", and not without a replica"
		}
	}
	s.Clients, _ = strconv.Atoi(syncCounts(f)["clients"])
	if o.Process.Role != observation.Primary {
		s.ByHand = f["sync_on"] == "1" && !t.Taking // where it holds the applier up
		return
	}
	s.ByHand = !t.Taking && (f["sync_on"] == "1") == t.List.IsZero() || !t.Taking && !t.List.IsZero() && !waits
	if t.List.IsZero() || t.Taking {
		return
	}
	pid, _ := e.running()
	if s.Live = waits && t.Process == host.ProcessIdentity(pid); s.Live {
		e.countAlone(o, f, &t)
	}
	s.ProvenAt, s.Alone, s.LastAlone, s.AloneAt = t.At, t.Alone, t.Last, t.LastAt
}

// countAlone takes in what the server counts as acknowledged without a replica, and from where
// on an opened server has waited. The count is the one proof: that the server calls its wait
// "ON" says nothing (measured).
func (e *Engine) countAlone(o *observation.Server, f map[string]string, t *told) {
	n, err := strconv.ParseInt(syncCounts(f)["no_tx"], 10, 64)
	changed := t.At == ""
	if changed {
		t.At = o.Log.Written
	}
	if err == nil && n > t.Base {
		t.Alone, t.Base, t.Last, t.LastAt, changed = t.Alone+n-t.Base, n, time.Now().UTC(), o.Log.Written, true
	}
	if changed {
		e.keepTold(*t) // lost, they are counted again
	}
}

// TimeCommits implements engine.Synchronizer, in a table of its own, which is dropped again.
func (e *Engine) TimeCommits(ctx context.Context) (verb.Timed, error) {
	if err := e.ensureSchema(ctx); err != nil {
		return verb.Timed{}, err
	}
	if err := e.exec(ctx,
		"create or replace table crosstwin.timed (n bigint auto_increment primary key) engine = innodb"); err != nil {
		return verb.Timed{}, err
	}
	ctx = context.WithoutCancel(ctx)
	defer func() { // a commit as well, behind the one that waits
		dropped := make(chan error, 1)
		go func() { dropped <- e.exec(ctx, "drop table if exists crosstwin.timed") }()
		select {
		case <-dropped:
		case <-time.After(dropLimit):
		}
	}()
	return host.TimeCommits(func() error { return e.exec(ctx, "insert into crosstwin.timed values (null)") }, nil)
}

// dropLimit is how long the measurement's table may take to go; then it goes when it can.
const dropLimit = time.Second

// nobodyAcknowledges reports whether commits wait for replicas just now that are not there or do
// not answer. A change of an account would wait too, and hold all others up that look at accounts
// meanwhile (measured).
func (e *Engine) nobodyAcknowledges(ctx context.Context) bool {
	if e.told().List.IsZero() {
		return false
	}
	n, err := e.text(ctx, "select (select variable_value = 0 from information_schema.global_status "+
		"where variable_name = 'rpl_semi_sync_master_clients') or exists (select * from information_schema.processlist "+
		"where state like '"+waitsForReplica+"%' and time >= 1)")
	return err == nil && n == "1"
}
