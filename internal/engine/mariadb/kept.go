package mariadb

import (
	"context"
	"encoding/json"

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
		k.Known = true
		for _, m := range append([]privileges{p}, p.AuthOr...) {
			switch _, native := session.ParseNative(m.Text); {
			case m.Plugin == session.NativePassword && native:
				k.Passwords = append(k.Passwords, m.Text)
			case m.Plugin != "" && m.Plugin != session.NativePassword:
				k.Methods = append(k.Methods, m.Plugin)
			}
		}
	}
	return k, nil
}
