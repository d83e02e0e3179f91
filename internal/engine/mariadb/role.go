package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"time"

	"crosstwin/internal/core/position"
)

// The stated deadlines of the moment at which writes end.
const (
	// patience is how long statements at work may finish by themselves.
	patience = 300 * time.Millisecond
	// deadline is when the attempt is given up and writes continue.
	deadline = 5 * time.Second
)

// Stop implements engine.Engine: in place. The server goes on running, and
// takes no further write from anybody until it is told to follow or opened
// again.
func (e *Engine) Stop(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, ok := e.running(); !ok {
		return nil
	}
	return e.quiesce(ctx)
}

// quiesce ends writes: read_only for ordinary accounts, the global read lock
// for those that may write despite it, and every session's end, because a
// commit that waits for the lock would go through once it is released
// (measured). Statements at work are cut off after a moment: while read_only
// waits for one, all other writers wait too.
func (e *Engine) quiesce(ctx context.Context) error {
	e.held.Lock()
	defer e.held.Unlock()
	if e.held.conn != nil {
		if e.held.conn.PingContext(ctx) == nil {
			return nil
		}
		end(e.held.conn)
		e.held.conn, e.held.at = nil, ""
	}
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	c, err := e.db.Conn(ctx)
	if err != nil {
		return fmt.Errorf("end writes on %s: %w", e.cfg.Name, err)
	}
	var scheduler, readOnly string
	if err := c.QueryRowContext(ctx, "select @@global.event_scheduler, @@global.read_only").Scan(&scheduler,
		&readOnly); err != nil {
		c.Close()
		return e.explain(err)
	}
	if scheduler == "ON" {
		e.remember(rememberEvents, "ON")
	}
	at, err := e.endWrites(ctx, c)
	if err != nil {
		// Writers must not wait for an attempt that was given up.
		back, cancel := context.WithTimeout(context.WithoutCancel(ctx), deadline)
		defer cancel()
		end(c)
		if stuck := e.exec(back, "set global read_only = "+readOnly+"; set global event_scheduler = "+
			scheduler); stuck != nil {
			return fmt.Errorf("could not end writes on %s: %w; and it could not be undone: %w", e.cfg.Name, err, stuck)
		}
		return fmt.Errorf("end writes on %s: %w; writes continue", e.cfg.Name, err)
	}
	e.held.conn, e.held.at = c, at
	return nil
}

func (e *Engine) endWrites(ctx context.Context, c *sql.Conn) (string, error) {
	done := make(chan struct{})
	defer close(done)
	killer, err := e.db.Conn(ctx)
	if err != nil {
		return "", err
	}
	defer killer.Close()
	var mine, its int64
	if err := c.QueryRowContext(ctx, "select connection_id()").Scan(&mine); err != nil {
		return "", err
	}
	if err := killer.QueryRowContext(ctx, "select connection_id()").Scan(&its); err != nil {
		return "", err
	}
	pressed := make(chan struct{})
	go func() {
		defer close(pressed)
		for wait := patience; ; wait = 20 * time.Millisecond {
			select {
			case <-done:
				return
			case <-time.After(wait):
				killClients(ctx, killer, mine, its)
			}
		}
	}()
	statements := fmt.Sprintf(
		"set session lock_wait_timeout = %d; set session wait_timeout = 86400; set global event_scheduler = off; set "+
			"global read_only = 1; flush tables with read lock", int(deadline.Seconds()))
	if _, err := c.ExecContext(ctx, statements); err != nil {
		return "", err
	}
	done <- struct{}{}
	<-pressed
	if err := killClients(ctx, killer, mine, its); err != nil {
		return "", err
	}
	var at string
	return at, c.QueryRowContext(ctx, "select @@global.gtid_binlog_pos").Scan(&at)
}

// killClients ends every session but those that feed replicas, the server's
// own, and the two given.
func killClients(ctx context.Context, c *sql.Conn, but ...int64) error {
	rows, err := c.QueryContext(ctx,
		"select id from information_schema.processlist where user not in ('system user', 'event_scheduler') and command "+
			"not in ('Binlog Dump', 'Daemon', 'Slave_IO', 'Slave_SQL', 'Slave_worker')")
	if err != nil {
		return err
	}
	var kill []string
next:
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			rows.Close()
			return err
		}
		for _, b := range but {
			if id == b {
				continue next
			}
		}
		kill = append(kill, fmt.Sprintf("kill %d", id))
	}
	rows.Close()
	for _, k := range kill {
		c.ExecContext(ctx, k) // one that has ended meanwhile is no error
	}
	return rows.Err()
}

// dropHold releases the read lock; read_only stays.
func (e *Engine) dropHold(ctx context.Context) {
	e.held.Lock()
	defer e.held.Unlock()
	if e.held.conn != nil {
		e.held.conn.ExecContext(ctx, "unlock tables")
		end(e.held.conn)
		e.held.conn, e.held.at = nil, ""
	}
}

// forgetHold is for a server that is being killed.
func (e *Engine) forgetHold() {
	e.held.Lock()
	defer e.held.Unlock()
	if c := e.held.conn; c != nil {
		e.held.conn, e.held.at = nil, ""
		go end(c)
	}
}

// heldAt returns the last GTID of a server that its agent holds closed. A lock
// that was lost says nothing any more.
func (e *Engine) heldAt(ctx context.Context) string {
	e.held.Lock()
	defer e.held.Unlock()
	if e.held.conn == nil || e.held.conn.PingContext(ctx) != nil {
		return ""
	}
	return e.held.at
}

// Promote implements engine.Engine. The relay log is applied to its end first.
func (e *Engine) Promote(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	var readOnly bool
	if err := e.db.QueryRowContext(ctx, "select @@global.read_only").Scan(&readOnly); err != nil {
		return fmt.Errorf("promote %s: %w", e.cfg.Name, err)
	}
	if readOnly {
		// Writes pause, and to note it takes as long as to drain: it counts as open from now on.
		var noted sync.WaitGroup
		noted.Go(e.noteOpen)
		err := e.drain(ctx)
		noted.Wait()
		if err != nil {
			return fmt.Errorf("promote %s: %w", e.cfg.Name, err)
		}
		if err := e.beforeOpening(ctx); err != nil {
			return fmt.Errorf("promote: %w", err)
		}
		if err := e.exec(ctx, "stop all slaves; set global read_only = 0"); err != nil {
			return fmt.Errorf("promote: %w", err)
		}
	}
	return e.exec(ctx, "stop all slaves; reset slave all")
}

// Events implements engine.Scheduler: a primary runs the events that the one
// before it ran. On a replica they are known as switched off by replication.
func (e *Engine) Events(ctx context.Context) error {
	rows, err := e.query(ctx,
		"select event_schema s, event_name n from information_schema.events where status = 'SLAVESIDE_DISABLED'")
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := e.exec(ctx, "alter event "+name(r["s"])+"."+name(r["n"])+" enable"); err != nil {
			return fmt.Errorf("enable event %s.%s: %w", r["s"], r["n"], err)
		}
	}
	return e.restoreEvents(ctx)
}

func (e *Engine) restoreEvents(ctx context.Context) error {
	if e.memory.Fingerprint(rememberEvents) != "ON" {
		return nil
	}
	return e.exec(ctx, "set global event_scheduler = on")
}

// disableEvents switches off what would run on a replica by itself: a copy
// brings events along as enabled (measured).
func (e *Engine) disableEvents(ctx context.Context) error {
	rows, err := e.query(ctx,
		"select event_schema s, event_name n from information_schema.events where status = 'ENABLED'")
	if err != nil || len(rows) == 0 {
		return err
	}
	c, err := e.db.Conn(ctx)
	if err != nil {
		return e.explain(err)
	}
	defer end(c) // a session with its log off must not go back to the pool
	statements := "set session sql_log_bin = 0"
	for _, r := range rows {
		statements += "; alter event " + name(r["s"]) + "." + name(r["n"]) + " disable on slave"
	}
	_, err = c.ExecContext(ctx, statements+"; set session sql_log_bin = 1")
	return e.explain(err)
}

// later returns the position that has come further in each domain.
func later(a, b string) string {
	x, err1 := position.ParseGTIDPosition(a)
	y, err2 := position.ParseGTIDPosition(b)
	if err1 != nil || err2 != nil {
		return a
	}
	for _, g := range x.Missing(y) {
		x = x.With(g)
	}
	return x.String()
}
