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
	now, err := e.readConfig()
	if err != nil {
		return err
	}
	text := strings.ReplaceAll(strings.ReplaceAll(now, acknowledgingBlock, ""), closedBlock, "")
	if text != now {
		if err := e.rewriteConfig(text); err != nil {
			return err
		}
	}
	if closedByFile(text) {
		return fmt.Errorf("%s sets read_only by a line that is not Cross Twin's", e.writtenFile())
	}
	return nil
}

// Drop implements engine.Leaver. There are no reservations of log here, and accounts
// are data: they are dropped on the primary. Sessions of those that are revoked end on
// every server.
func (e *Engine) Drop(ctx context.Context, a verb.Leave) (out []verb.Leftover) {
	readOnly, err := e.text(ctx, "select @@global.read_only")
	primary := err == nil && readOnly == "0"
	for _, server := range a.Revoke {
		l := verb.Leftover{What: verb.MadeAccount, Name: verb.ReplicationUser(server), For: server}
		had, err := e.revoke(ctx, l.Name, primary)
		if err != nil {
			l.Problem = err.Error()
		}
		if l.Gone = err == nil; primary && (had || err != nil) {
			out = append(out, l)
		}
	}
	if !a.Account || err == nil && !primary {
		return out
	}
	l := verb.Leftover{What: verb.MadeAccount, Name: verb.AccountsOfAll}
	if err == nil {
		err = e.dropAccounts(ctx)
	}
	if err != nil {
		l.Problem = err.Error()
	}
	l.Gone = err == nil
	return append(out, l)
}

// revoke ends what is connected by an account and, on the primary, drops it. Had tells
// whether there was one.
func (e *Engine) revoke(ctx context.Context, user string, primary bool) (had bool, err error) {
	var drops string
	list, err := e.followers(ctx)
	for _, f := range list {
		if f.user == user {
			had = true
			drops += "drop user if exists " + f.who() + "; "
		}
	}
	if err != nil {
		return had, err
	}
	if had && primary {
		if err := e.exec(ctx, strings.TrimSuffix(drops, "; ")); err != nil {
			return had, err
		}
	}
	rows, err := e.query(ctx, "select id from information_schema.processlist where user = ?", user)
	for _, r := range rows {
		if err := e.exec(ctx, "kill "+r["id"]); err != nil && number(err) != unknownThread {
			return had, err
		}
	}
	return had, err
}

// unknownThread is the error of a session that has ended by itself (ER_NO_SUCH_THREAD).
const unknownThread = 1094

// dropAccounts drops the accounts by which servers follow, unless one does.
func (e *Engine) dropAccounts(ctx context.Context) error {
	const ours = "(user = ? or left(user, ?) = ?)"
	args := []any{verb.SharedUser, len(verb.AccountPrefix), verb.AccountPrefix}
	users, err := e.text(ctx, "select group_concat(distinct user, ' from ', host separator ', ') "+
		"from information_schema.processlist where "+ours, args...)
	if err != nil {
		return err
	}
	if users != "" {
		return fmt.Errorf("connected now: %s", users)
	}
	rows, err := e.query(ctx, "select user, host from mysql.global_priv where "+ours, args...)
	if err != nil {
		return err
	}
	var drops strings.Builder
	for _, r := range rows {
		drops.WriteString("drop user if exists " + literal(r["user"]) + "@" + literal(r["host"]) + "; ")
	}
	if err := e.exec(ctx, drops.String()+"drop table if exists crosstwin.cluster, crosstwin.mark, "+
		"crosstwin.undone"); err != nil {
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
