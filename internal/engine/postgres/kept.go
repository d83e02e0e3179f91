package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/route"
	"crosstwin/internal/engine"
)

// Kept implements engine.Keeper. On a replica it is what came with the log.
func (e *Engine) Kept(ctx context.Context, user string) (k engine.Kept, err error) {
	var kept *string
	var login bool
	var until *time.Time
	err = e.pool.QueryRow(ctx, "select rolpassword, rolcanlogin, "+
		"case when rolvaliduntil < 'infinity' then rolvaliduntil end from pg_authid where rolname = $1",
		user).Scan(&kept, &login, &until)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return k, nil
	case err != nil:
		return k, e.explain(err)
	case !login || until != nil && until.Before(time.Now()):
		return k, nil
	}
	k.Known = true
	if kept == nil {
		k.Methods = []string{"no password"}
		return k, nil
	}
	k.Passwords = []string{*kept}
	return k, nil
}

// Accounts implements engine.Keeper. Superusers are left out: nobody's application is one.
func (e *Engine) Accounts(ctx context.Context) ([]route.Account, error) {
	rows, err := e.pool.Query(ctx, "select rolname, coalesce(left(rolpassword, 3), '') from pg_authid where rolcanlogin "+
		"and not rolsuper and not rolreplication and rolname not like 'crosstwin%' order by 1 limit 500")
	if err != nil {
		return nil, e.explain(err)
	}
	methods := map[string]string{"SCR": "scram-sha-256", "md5": "md5"}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (a route.Account, err error) {
		var kept string
		err = row.Scan(&a.User, &kept)
		method, usable := methods[kept]
		if !usable {
			method = "no password"
		}
		a.Methods, a.Usable = []string{method}, usable
		return a, err
	})
}
