package mariadb

import (
	"context"
	"encoding/json"

	"crosstwin/internal/core/route"
	"crosstwin/internal/core/session"
	"crosstwin/internal/engine"
)

// privileges is what mysql.global_priv holds of an account, as far as logging in goes
// (documentation, "mysql.global_priv Table"). AuthOr lists further methods; an empty one stands
// for the account's first.
type privileges struct {
	Plugin string       `json:"plugin"`
	Text   string       `json:"authentication_string"`
	AuthOr []privileges `json:"auth_or"`
	Locked bool         `json:"account_locked"`
	Role   bool         `json:"is_role"`
}

// methods are all by which an account logs in, and what is kept for those that a gate can do.
func (p privileges) methods() (usable, others []string) {
	for _, m := range append([]privileges{p}, p.AuthOr...) {
		switch _, native := session.ParseNative(m.Text); {
		case m.Plugin == session.NativePassword && native:
			usable = append(usable, m.Text)
		case m.Plugin != "" && m.Plugin != session.NativePassword:
			others = append(others, m.Plugin)
		}
	}
	return usable, others
}

// Kept implements engine.Keeper. A user has an account for each host that it may come from; which
// of them counts the server decides when the gate logs in.
func (e *Engine) Kept(ctx context.Context, user string) (k engine.Kept, err error) {
	rows, err := e.query(ctx, "select priv as priv from mysql.global_priv where user = ? and user <> ''", user)
	if err != nil {
		return k, err
	}
	for _, r := range rows {
		var p privileges
		if err := json.Unmarshal([]byte(r["priv"]), &p); err != nil || p.Role || p.Locked {
			continue
		}
		usable, others := p.methods()
		k.Known, k.Passwords, k.Methods = true, append(k.Passwords, usable...), append(k.Methods, others...)
	}
	return k, nil
}

// Accounts implements engine.Keeper. Those that may come over the local socket alone are left out.
func (e *Engine) Accounts(ctx context.Context) (list []route.Account, err error) {
	rows, err := e.query(ctx, "select user as user, host as host, priv as priv from mysql.global_priv "+
		"where user <> '' and host not in ('', 'localhost') and user not like 'crosstwin%' and "+
		"user not like 'mariadb.%' order by 1, 2 limit 500")
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		var p privileges
		if err := json.Unmarshal([]byte(r["priv"]), &p); err != nil || p.Role || p.Locked {
			continue
		}
		usable, others := p.methods()
		a := route.Account{User: r["user"], Host: r["host"], Usable: len(usable) > 0, Methods: others}
		if a.Usable {
			a.Methods = append(a.Methods, session.NativePassword)
		}
		list = append(list, a)
	}
	return list, nil
}
