package mariadb

import (
	"context"
	"fmt"
	"strings"

	"crosstwin/internal/core/verb"
)

// OpenByDefault implements engine.Leaver. What the configuration says besides our
// own block is the administrator's.
func (e *Engine) OpenByDefault() error {
	b, err := e.ReadTrusted(e.cfg.ConfigFile)
	if err != nil {
		return err
	}
	text := strings.ReplaceAll(string(b), closedBlock, "")
	if text != string(b) {
		if err := e.rewriteConfig(text); err != nil {
			return err
		}
	}
	if closedByFile(text) {
		return fmt.Errorf("%s sets read_only by a line that is not Cross Twin's", e.cfg.ConfigFile)
	}
	return nil
}

// Drop implements engine.Leaver. There are no reservations of log here, and the
// account is data: it is dropped on the primary.
func (e *Engine) Drop(ctx context.Context, a verb.Leave) []verb.Leftover {
	if !a.Account {
		return nil
	}
	l := verb.Leftover{What: verb.MadeAccount, Name: verb.ReplicationUser}
	replica, err := e.text(ctx, "select @@global.read_only")
	if err == nil && replica != "0" {
		return nil
	}
	if err == nil {
		err = e.dropAccount(ctx)
	}
	if err != nil {
		l.Problem = err.Error()
	}
	l.Gone = err == nil
	return []verb.Leftover{l}
}

func (e *Engine) dropAccount(ctx context.Context) error {
	users, err := e.text(ctx, "select group_concat(distinct host separator ', ') from information_schema.processlist "+
		"where user = ?",
		verb.ReplicationUser)
	if err != nil {
		return err
	}
	if users != "" {
		return fmt.Errorf("somebody is connected by it from %s", users)
	}
	if err := e.exec(ctx, "drop user if exists "+literal(verb.ReplicationUser)+"@'%'; drop table if exists "+
		"crosstwin.cluster, crosstwin.mark, crosstwin.undone"); err != nil {
		return err
	}
	// What somebody else put beside our tables is not ours to drop.
	others, err := e.text(ctx, "select "+
		"(select count(*) from information_schema.tables where table_schema = 'crosstwin') + "+
		"(select count(*) from information_schema.routines where routine_schema = 'crosstwin') + "+
		"(select count(*) from information_schema.events where event_schema = 'crosstwin')")
	if err != nil || others != "0" {
		return err
	}
	return e.exec(ctx, "drop database if exists crosstwin")
}
