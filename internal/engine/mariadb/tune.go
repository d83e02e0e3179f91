package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crosstwin/internal/core/verb"
)

// tunable are the settings that an operation may change. All take effect on
// the running server; the parallel threads once the applier starts again.
var tunable = []string{"binlog_expire_logs_seconds", "slave_parallel_threads", "max_binlog_size"}

// Set implements engine.Tuner. The value is kept in the configuration file as
// well, so that it lasts; a delay is kept by the server itself.
func (e *Engine) Set(ctx context.Context, a verb.Set) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	n, err := strconv.ParseInt(a.Value, 10, 64)
	if err != nil || n < 0 {
		return fmt.Errorf("set %s on %s: %q is not a number", a.Name, e.cfg.Name, a.Value)
	}
	switch {
	case a.Name == verb.Delay:
		return e.setDelay(ctx, n)
	case a.Name == "slave_parallel_threads":
		err = e.whileStopped(ctx, "sql_thread", "Slave_SQL_Running", fmt.Sprintf("set global slave_parallel_threads = %d", n))
	case slices.Contains(tunable, a.Name):
		err = e.exec(ctx, fmt.Sprintf("set global %s = %d", a.Name, n))
	default:
		return fmt.Errorf("%s: the setting %q is not one that is changed here: %s and delay are", e.cfg.Name, a.Name,
			strings.Join(tunable, ", "))
	}
	if err != nil {
		return fmt.Errorf("set %s: %w", a.Name, err)
	}
	return e.keepSetting(a.Name, a.Value)
}

// setDelay stops both threads, which the statement asks for; the relay log goes
// with that, and what was in it is fetched again from the upstream. The plan
// makes sure that there is one.
func (e *Engine) setDelay(ctx context.Context, seconds int64) error {
	return e.whileStopped(ctx, "", "Slave_SQL_Running", fmt.Sprintf("change master to master_delay = %d", seconds))
}

// whileStopped executes a statement while a thread of replication is stopped
// (empty: both), and starts it again, whatever came of it, if it ran before. On
// a server that follows nobody there is nothing to stop.
func (e *Engine) whileStopped(ctx context.Context, thread, running, statement string) error {
	l, err := e.link(ctx)
	if err != nil {
		return err
	}
	if l == nil || l[running] != "Yes" {
		return e.exec(ctx, statement)
	}
	if err := e.exec(ctx, "stop slave "+thread); err != nil {
		return err
	}
	return errors.Join(e.exec(ctx, statement), e.startSlave(ctx, thread))
}

// keepSetting puts a value into the configuration file.
func (e *Engine) keepSetting(name, value string) error {
	text, err := e.readConfig()
	if err != nil {
		return err
	}
	return e.rewriteConfig(setInFile(text, name, value))
}
