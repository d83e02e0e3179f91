package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

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
