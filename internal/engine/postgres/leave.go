package postgres

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"strings"
	"time"

	"crosstwin/internal/core/verb"
)

// OpenByDefault implements engine.Leaver.
func (e *Engine) OpenByDefault() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	err := e.AsOwner(func() error { return os.Remove(e.Path("standby.signal")) })
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Drop implements engine.Leaver. Accounts are dropped on a primary; the rules for them
// are a file of each server, where the sessions end too.
func (e *Engine) Drop(ctx context.Context, a verb.Leave) (out []verb.Leftover) {
	e.mu.Lock()
	defer e.mu.Unlock()
	var replica bool
	err := e.pool.QueryRow(ctx, "select pg_is_in_recovery()").Scan(&replica)
	for _, server := range a.Revoke {
		l := verb.Leftover{What: verb.MadeAccount, Name: verb.ReplicationUser(server), For: server}
		had, err := e.revoke(ctx, l.Name, !replica)
		if err != nil {
			l.Problem = err.Error()
		}
		if l.Gone = err == nil; had && !replica || err != nil {
			out = append(out, l)
		}
	}
	for _, n := range a.Slots {
		l := verb.Leftover{What: verb.MadeSlot, Name: n}
		if err := e.dropUnread(ctx, n, len(a.Revoke) > 0); err != nil {
			l.Problem = err.Error()
		}
		l.Gone = l.Problem == ""
		out = append(out, l)
	}
	if !a.Account {
		return out
	}
	l := verb.Leftover{What: verb.MadeAccount, Name: verb.AccountsOfAll}
	if err == nil {
		err = e.dropAccounts(ctx, replica)
	}
	if err == nil {
		err = e.rewriteAccess(ctx, "hba_file", func(now string) string { return withoutReader(withoutRules(now)) })
	}
	if err == nil {
		err = e.rewriteAccess(ctx, "ident_file", withoutReader)
	}
	if err == nil {
		err = e.dropSynchronous(ctx)
	}
	if err != nil {
		l.Problem = err.Error()
	}
	if l.Gone = err == nil; replica && l.Gone {
		return out // the primary says it
	}
	return append(out, l)
}

// dropUnread drops a slot. One that is read from is not dropped: the server refuses it.
// With leaving, its reader's session was ended just now.
func (e *Engine) dropUnread(ctx context.Context, name string, leaving bool) error {
	for end := time.Now().Add(leaveLimit); leaving && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		var active bool
		if err := e.pool.QueryRow(ctx, "select coalesce(bool_or(active), false) from pg_replication_slots "+
			"where slot_name = "+literal(name)).Scan(&active); err != nil || !active {
			break // the drop says what is wrong
		}
	}
	return e.exec(ctx, "select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = "+
		literal(name))
}

// leaveLimit is how long a session that was told to end is waited for.
const leaveLimit = 2 * time.Second

// revoke lets an account in no more: the rules for it go, what is connected by it ends,
// and on a primary the account is dropped. Had tells whether there was one.
func (e *Engine) revoke(ctx context.Context, user string, primary bool) (had bool, err error) {
	if err := e.pool.QueryRow(ctx, "select exists (select from pg_roles where rolname = "+literal(user)+
		")").Scan(&had); err != nil {
		return false, e.explain(err)
	}
	if err := e.rewriteAccess(ctx, "hba_file", func(now string) string { return withoutUser(now, user) }); err != nil {
		return had, err
	}
	if had && primary {
		if err := e.exec(ctx, "select "+unsynced+"; alter role "+user+" nologin"); err != nil {
			return had, err
		}
	}
	// A session goes on when its account is dropped, here or by replay, and has no name then.
	if err := e.exec(ctx, "select pg_terminate_backend(pid) from pg_stat_activity where usename = "+literal(user)+
		" or usesysid is not null and usename is null and backend_type = 'walsender'"); err != nil || !had || !primary {
		return had, err
	}
	return had, e.exec(ctx, "select "+unsynced+"; drop owned by "+user+"; drop role "+user)
}

// withoutUser takes the rules for one account out of our block of an access file.
func withoutUser(content, user string) string {
	before, rest, ours := strings.Cut(content, hbaBegin)
	block, after, whole := strings.Cut(rest, hbaEnd)
	if !ours || !whole {
		return content
	}
	var kept strings.Builder
	for line := range strings.Lines(block) {
		if f := strings.Fields(line); len(f) < 3 || f[2] != user {
			kept.WriteString(line)
		}
	}
	return before + hbaBegin + kept.String() + hbaEnd + after
}

// dropAccounts drops the accounts by which servers follow, on a primary that nobody
// follows by them.
func (e *Engine) dropAccounts(ctx context.Context, replica bool) error {
	const ours = "in (select rolname from pg_roles where rolname = '" + verb.SharedUser + "' or rolname = '" +
		verb.ReaderUser + "' or starts_with(rolname, '" + verb.AccountPrefix + "'))"
	var users string
	if err := e.pool.QueryRow(ctx, "select coalesce((select string_agg(distinct "+
		"coalesce(nullif(application_name, ''), client_addr::text, 'a session'), ', ') from pg_stat_activity "+
		"where usename "+ours+"), '')").Scan(&users); err != nil {
		return e.explain(err)
	}
	switch {
	case users != "":
		return errors.New("connected now: " + users)
	case replica:
		return nil
	}
	return e.exec(ctx, "select "+unsynced+"; do $$ declare r name; "+
		"begin for r in select rolname from pg_catalog.pg_roles where rolname "+ours+
		" loop execute pg_catalog.format('drop owned by %I', r); execute pg_catalog.format('drop role %I', r); "+
		"end loop; end $$")
}
