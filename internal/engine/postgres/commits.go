package postgres

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// committer has a connection of its own for commits that are tried: one of the pool could
// be waited for, and that would say of the disk that it hangs.
type committer struct {
	turn chan struct{} // one at a time
	conn *pgx.Conn     // kept between two
}

func newCommitter() committer { return committer{turn: make(chan struct{}, 1)} }

// Commits implements engine.Engine. The message goes into the log and nowhere else (an
// empty transaction would write nothing); with synchronous_commit = local its commit waits
// for the own disk alone.
func (e *Engine) Commits(ctx context.Context) error {
	c := &e.committer
	select {
	case c.turn <- struct{}{}:
		defer func() { <-c.turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	if c.conn != nil && e.commit(ctx, c.conn) == nil {
		return nil
	}
	if c.conn != nil {
		c.conn.Close(ctx) // the server may have been restarted since
		c.conn = nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	// How long it may take, the caller says: a disk that hangs can hold up this as well.
	conn, err := e.connectAs(ctx, e.cfg.Superuser, "postgres", e.cfg.SocketDir, e.cfg.Port,
		func(c *pgx.ConnConfig) { c.ConnectTimeout = 0 })
	if err != nil {
		return err
	}
	if err := e.commit(ctx, conn); err != nil {
		conn.Close(ctx)
		return err
	}
	c.conn = conn
	return nil
}

// leave ends the connection, unless a commit is being tried by it.
func (c *committer) leave() {
	select {
	case c.turn <- struct{}{}:
	default:
		return
	}
	if c.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		c.conn.Close(ctx)
		cancel()
		c.conn = nil
	}
	<-c.turn
}

func (e *Engine) commit(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, "begin; set local synchronous_commit = local; "+
		"select pg_logical_emit_message(true, 'crosstwin', ''); commit")
	return e.explain(err)
}
