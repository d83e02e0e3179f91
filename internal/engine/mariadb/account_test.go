package mariadb

import (
	"strings"
	"testing"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/enginetest"
)

// What a peer's agent gives as its name and secret reaches no statement unless it is
// one; an account is let in from where its server was seen; who is removed has no way
// in, at once.
func TestAccounts(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren, plover := p.create("wren", 11), p.add("plover", 12)
	for _, c := range []struct{ server, secret string }{
		{"plover", "plain text"}, {"plover", ""}, {"plover", "*" + strings.Repeat("g", 40)},
		{"plover", "*" + strings.Repeat("A", 39) + "'"}, {"plover'@'%", "x"}, {"", "x"}, {"Plover", "x"},
	} {
		if err := wren.Grant(wren.ctx(), c.server, c.secret, "127.0.0.1"); err == nil {
			t.Errorf("an account for %q with %q", c.server, c.secret)
		}
	}
	hosts := func() string {
		s, err := wren.text(wren.ctx(), "select coalesce(group_concat(host order by host), '') from mysql.global_priv "+
			"where user = ?", account.User)
		wren.ok(err)
		return s
	}
	if got := hosts(); got != "" {
		t.Errorf("accounts were made: %s", got)
	}
	secret, err := wren.Secret(account.Password)
	wren.ok(err)
	wren.ok(wren.Grant(wren.ctx(), "plover", secret, "10.7.7.7"))
	if res := plover.Probe(plover.ctx(), wren.peer(), account); res.OK {
		t.Error("the account is let in from another host than its server's")
	}
	// Seen elsewhere later, it is let in from both, with the newest secret.
	wren.prepare(verb.Prepare{Account: true})
	if got := hosts(); got != "10.7.7.7,127.0.0.1" {
		t.Errorf("let in from %s", got)
	}
	p.seed(plover, wren, "")
	left := wren.Drop(wren.ctx(), verb.Leave{Revoke: []string{"plover"}})
	if len(left) != 1 || !left[0].Gone || hosts() != "" {
		t.Errorf("%+v, let in from %q", left, hosts())
	}
	if n, err := wren.text(wren.ctx(), "select count(*) from information_schema.processlist where user = ? and "+
		"command <> 'Killed'", account.User); err != nil || n != "0" {
		t.Errorf("%s sessions: %v", n, err)
	}
	if res := plover.Probe(plover.ctx(), wren.peer(), account); res.OK {
		t.Error("the removed server's account is let in")
	}
	if left := wren.Drop(wren.ctx(), verb.Leave{Revoke: []string{"plover"}}); len(left) != 0 {
		t.Errorf("%+v", left)
	}
}
