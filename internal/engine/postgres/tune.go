package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"crosstwin/internal/core/verb"
)

// tunable are the settings that an operation may change, and that take effect
// without a restart (pg_settings.context is sighup).
var tunable = []string{"max_standby_streaming_delay", "max_standby_archive_delay", "hot_standby_feedback",
	"wal_keep_size", "max_slot_wal_keep_size"}

// Set implements engine.Tuner.
func (e *Engine) Set(ctx context.Context, a verb.Set) error {
	name, value := a.Name, a.Value
	if name == verb.Delay {
		name, value = "recovery_min_apply_delay", a.Value+"s"
	} else if !slices.Contains(tunable, name) {
		return fmt.Errorf("%s: the setting %q is not one that is changed here: %s and delay are", e.cfg.Name, name,
			strings.Join(tunable, ", "))
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, err := e.pool.Exec(ctx, "alter system set "+name+" = "+literal(value)); err != nil {
		return fmt.Errorf("set %s on %s: %w", name, e.cfg.Name, err)
	}
	if _, err := e.pool.Exec(ctx, "select pg_reload_conf()"); err != nil {
		return fmt.Errorf("set %s on %s: %w", name, e.cfg.Name, err)
	}
	return nil
}
