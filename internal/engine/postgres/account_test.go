package postgres

import (
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// What a peer's agent gives as its name and secret reaches no statement unless it is
// one; an account is let in from its server's address alone; who is removed has no way
// in, at once.
func TestAccounts(t *testing.T) {
	t.Parallel()
	p := primary(t)
	for _, c := range []struct{ server, secret string }{
		{"tern", "plain text"}, {"tern", ""}, {"tern", "md5" + strings.Repeat("0", 32)},
		{"tern", "SCRAM-SHA-256$4096:AAAA$" + strings.Repeat("A", 43) + "=:' superuser --"},
		{"tern superuser", "x"}, {"tern; drop table t", "x"}, {"", "x"}, {"Tern", "x"},
	} {
		if err := p.Grant(p.ctx(), c.server, c.secret, ""); err == nil {
			t.Errorf("an account for %q with %q", c.server, c.secret)
		}
	}
	if n := p.text("select count(*)::text from pg_roles where starts_with(rolname, 'crosstwin')"); n != "0" {
		t.Errorf("%s accounts were made", n)
	}

	// An administrator lets everybody in who has a password.
	r := newRig(t, "tern")
	source := account(t, p, r)
	if res := r.Probe(r.ctx(), source, accountOfTest); !res.OK {
		t.Fatalf("%+v", res)
	}
	elsewhere := []verb.Peer{{Name: "tern", Host: "10.7.7.7"}}
	if err := p.Prepare(p.ctx(), verb.Prepare{Peers: elsewhere, Account: true}); err != nil {
		t.Fatal(err)
	}
	if res := r.Probe(r.ctx(), source, accountOfTest); res.OK || !strings.Contains(res.Problem, "rejects") {
		t.Errorf("the account is let in from another host than its server's: %+v", res)
	}

	source = account(t, p, r)
	r.copyFrom(p, source)
	// Commits wait for it: that must not keep it.
	p.sql("alter system set synchronous_standby_names = 'tern'", "select pg_reload_conf()")
	p.await("synchronous", func(o *observation.Server) bool {
		d, ok := o.DownstreamNamed("tern")
		return ok && d.Synchronous
	})
	left := p.Drop(p.ctx(), verb.Leave{Revoke: []string{"tern"}, Slots: []string{"ct_tern"}})
	if len(left) != 2 || !left[0].Gone || left[0].Name != accountOfTest.User || !left[1].Gone {
		t.Errorf("%+v", left)
	}
	if n := p.text("select (select count(*) from pg_stat_replication)::text || (select count(*) from pg_roles where " +
		"rolname = 'crosstwin_follow_tern') || (select count(*) from pg_replication_slots)"); n != "000" {
		t.Errorf("links, accounts, slots: %s", n)
	}
	if res := r.Probe(r.ctx(), source, accountOfTest); res.OK {
		t.Error("the removed server's account is let in")
	}
	// Asked again, there is nothing left to do.
	if left := p.Drop(p.ctx(), verb.Leave{Revoke: []string{"tern"}}); len(left) != 0 {
		t.Errorf("%+v", left)
	}
}
