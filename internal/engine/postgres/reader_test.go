package postgres

import (
	"strings"
	"testing"

	"crosstwin/internal/core/verb"
)

// Rows are read by an account that may read and nothing else: also where a database lets in
// nobody but its own people, where rows are hidden from others, and where somebody has
// prepared the account for themselves. It logs in over the local socket alone.
func TestRowsAreReadByTheReader(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create role clerk login createrole", "create table hidden (a int primary key)",
		"alter table hidden owner to clerk",
		"alter table hidden enable row level security", "alter table hidden force row level security",
		"insert into hidden select generate_series(1, 7)", "create schema closed", "create table closed.t (a int)",
		"revoke all on schema closed from public", "create role "+verb.ReaderUser+" nologin", "grant pg_write_all_data to "+
			verb.ReaderUser, "alter role "+verb.ReaderUser+" set default_transaction_read_only = off")
	p.sql("create database shop", "revoke connect on database shop from public")
	r := replicaOf(t, p)
	for range 2 { // the second time all is there
		if c := sums(t, p, r); c.Differ != 0 || len(c.Tables) == 0 {
			t.Fatalf("%+v", c)
		}
	}

	hold, err := p.Hold(p.ctx(), 5)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Snapshot(r.ctx(), verb.Snapshot{Hold: hold, Seconds: 5}); err != nil {
		t.Fatal(err)
	}
	if err := p.Release(p.ctx()); err != nil {
		t.Fatal(err)
	}
	for _, x := range []*rig{p, r} {
		for db, c := range x.compare.views {
			var who, may string
			if err := c.QueryRow(x.ctx(), "select session_user, current_setting('is_superuser') || "+
				"has_table_privilege('pg_authid', 'update')").Scan(&who, &may); err != nil {
				t.Fatal(err)
			}
			if who != verb.ReaderUser || may != "offfalse" {
				t.Errorf("%s is read on %s by %s: %s", db, x.cfg.Name, who, may)
			}
		}
		if x.compare.views["shop"] == nil {
			t.Errorf("%s has no view of the database that lets in its own people alone", x.cfg.Name)
		}
		list, err := x.Sums(x.ctx(), func(string, int64, int64) {})
		if err != nil {
			t.Fatal(err)
		}
		rows := map[string]int64{}
		for _, s := range list {
			rows[s.Table] = s.Rows
		}
		if rows["postgres.public.hidden"] != 7 {
			t.Errorf("of the 7 rows that a policy hides, %s shows %d", x.cfg.Name, rows["postgres.public.hidden"])
		}
		x.Forget(x.ctx())
		if c, err := x.connectReader(x.ctx(), "postgres", "127.0.0.1", x.cfg.Port); err == nil ||
			!strings.Contains(err.Error(), "rejects") {
			t.Errorf("it logs in to %s over the network: %v %v", x.cfg.Name, c, err)
		}
	}
	if n := p.text("select string_agg(roleid::regrole::text, ', ') from pg_auth_members where member = '" +
		verb.ReaderUser + "'::regrole"); n != "pg_read_all_data" {
		t.Errorf("the account is a member of %s", n)
	}

	p.sql("select pg_drop_replication_slot(slot_name) from pg_replication_slots where not active")
	if err := r.Stop(r.ctx()); err != nil {
		t.Fatal(err)
	}
	p.Drop(p.ctx(), verb.Leave{Account: true})
	if n := p.text("select count(*)::text || (pg_read_file('pg_hba.conf') || pg_read_file('pg_ident.conf') like '%" +
		verb.ReaderUser + "%')::text from pg_roles where rolname = '" + verb.ReaderUser + "'"); n != "0false" {
		t.Errorf("what is left of the account: %s", n)
	}
}
