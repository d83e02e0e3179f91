package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/core/view"
)

// legs is how many rows a long transaction writes.
const legs = 6000

// longTransactions has writers run transactions that take longer than the limit of a switchover,
// one of them of statements without a pause, the others with pauses between them. The function that it
// returns ends them, and looks that each transaction is there whole or not at all, and that all
// that were told to be committed are there.
func (w *world) longTransactions(writers int) (end func()) {
	w.t.Helper()
	if w.mariadb() {
		w.sql("gull", "create table cargo.voyage (run int, leg int, primary key (run, leg))")
	} else {
		w.sql("gull", "create table voyage (run int, leg int, primary key (run, leg))",
			"grant select, insert on voyage to skerry")
	}
	first, closeFirst := w.through(w.Writers()[0])
	ctx, cancel := context.WithCancel(w.ctx)
	var runs, cut atomic.Int64
	var acked sync.Map
	var wg sync.WaitGroup
	for i := range writers {
		c, close := w.through(w.Writers()[i%2])
		wg.Go(func() {
			defer close()
			for ctx.Err() == nil {
				run := runs.Add(1)
				err := w.voyage(ctx, c, run, i > 0)
				switch {
				case err == nil:
					acked.Store(run, true)
				case ctx.Err() == nil && code(err) != w.retry():
					w.t.Errorf("a long transaction was told %v", err)
					return
				case ctx.Err() == nil:
					cut.Add(1)
				}
			}
		})
	}
	return func() {
		w.t.Helper()
		defer closeFirst()
		w.await(func(view.View) bool { n := 0; acked.Range(func(any, any) bool { n++; return true }); return n > 0 })
		cancel()
		wg.Wait()
		if cut.Load() == 0 {
			w.t.Error("no transaction was longer than the limit: nothing was tried")
		}
		parts := fmt.Sprintf("select count(*) from (select run from voyage group by run having count(*) <> %d) x", legs)
		if got := one(w.ctx, first, parts); got != "0" {
			w.t.Errorf("%s transactions are there in part", got)
		}
		acked.Range(func(run, _ any) bool {
			got := one(w.ctx, first, fmt.Sprintf("select count(*) from voyage where run = %d", run))
			if got != fmt.Sprint(legs) {
				w.t.Errorf("of transaction %v, which was acknowledged, %s of %d rows are there", run, got, legs)
			}
			return true
		})
	}
}

// voyage is one long transaction.
func (w *world) voyage(ctx context.Context, c *sql.Conn, run int64, pauses bool) error {
	if _, err := c.ExecContext(ctx, "begin"); err != nil {
		return err
	}
	step := 1
	if pauses {
		step = legs / 60
	}
	for leg := 0; leg < legs; leg += step {
		sql := "insert into voyage values "
		for i := range step {
			if i > 0 {
				sql += ", "
			}
			sql += fmt.Sprintf("(%d, %d)", run, leg+i)
		}
		if _, err := c.ExecContext(ctx, sql); err != nil {
			c.ExecContext(ctx, "rollback")
			return err
		}
		if pauses {
			time.Sleep(rand.N(150 * time.Millisecond))
		}
	}
	_, err := c.ExecContext(ctx, "commit")
	return err
}
