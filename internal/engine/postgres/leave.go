package postgres

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"strings"

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

// Drop implements engine.Leaver. The account is dropped on a primary; the rules
// for it are a file of each server.
func (e *Engine) Drop(ctx context.Context, a verb.Leave) (out []verb.Leftover) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, n := range a.Slots {
		l := verb.Leftover{What: verb.MadeSlot, Name: n}
		// One that is read from meanwhile is not dropped: the server refuses it.
		if err := e.exec(ctx, "select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = "+
			literal(n)); err != nil {
			l.Problem = err.Error()
		}
		l.Gone = l.Problem == ""
		out = append(out, l)
	}
	if !a.Account {
		return out
	}
	l := verb.Leftover{What: verb.MadeAccount, Name: replicationUser}
	dropped, err := e.dropAccount(ctx)
	if err == nil && dropped {
		l.Gone = true
		out = append(out, l)
	} else if err != nil {
		l.Problem = err.Error()
		return append(out, l)
	}
	if err := e.dropRules(ctx); err != nil {
		out = append(out, verb.Leftover{What: verb.MadeAccount, Name: replicationUser, Problem: err.Error()})
	}
	return out
}

// dropAccount drops the account on a primary that nobody follows by it.
func (e *Engine) dropAccount(ctx context.Context) (bool, error) {
	var replica bool
	var users string
	if err := e.pool.QueryRow(ctx, "select pg_is_in_recovery(), coalesce((select string_agg(distinct "+
		"coalesce(nullif(application_name, ''), client_addr::text, 'a session'), ', ') from pg_stat_activity "+
		"where usename = "+literal(replicationUser)+"), '')").Scan(&replica, &users); err != nil {
		return false, e.explain(err)
	}
	switch {
	case users != "":
		return false, errors.New(users + " is connected by it")
	case replica:
		return false, nil
	}
	return true, e.exec(ctx, "do $$ begin if exists (select from pg_catalog.pg_roles where rolname = "+
		literal(replicationUser)+") then drop owned by "+replicationUser+"; drop role "+replicationUser+"; end if; end $$")
}

// dropRules takes our block out of the access file.
func (e *Engine) dropRules(ctx context.Context) error {
	var file string
	if err := e.pool.QueryRow(ctx, "show hba_file").Scan(&file); err != nil {
		return e.explain(err)
	}
	b, err := e.ReadFile(file)
	if err != nil {
		return err
	}
	before, rest, ours := strings.Cut(string(b), hbaBegin)
	_, after, whole := strings.Cut(rest, hbaEnd+"\n")
	if !ours || !whole {
		return nil
	}
	if err := e.WriteOwned(file, []byte(before+after)); err != nil {
		return err
	}
	return e.exec(ctx, "select pg_reload_conf()")
}
