package postgres

import (
	"path/filepath"
	"testing"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
)

// The owner of a database plants functions under the server's names, and casts from
// types of their own: none of them is run by the agent's sessions, which are a
// superuser's.
func TestOwnerBecomesNoSuperuser(t *testing.T) {
	t.Parallel()
	p := primary(t)
	p.sql("create role clerk", "create database shop owner clerk")
	c, err := p.connect(p.ctx(), "shop", p.cfg.SocketDir, p.cfg.Port)
	if err != nil {
		t.Fatal(err)
	}
	do := func(statements ...string) {
		t.Helper()
		for _, s := range statements {
			if _, err := c.Exec(p.ctx(), s); err != nil {
				t.Fatalf("%s: %v", s, err)
			}
		}
	}
	const up = "begin if current_setting('is_superuser') = 'on' then alter role clerk superuser; end if; return "
	do("set role clerk", "create schema evil", "create schema shop",
		"create function evil.quote_ident(text) returns text language plpgsql as $$ "+up+"$1; end $$",
		"create function evil.quote_ident(name) returns text language plpgsql as $$ "+up+"$1::text; end $$",
		"create type shop.mood as enum ('calm', 'rough')",
		"create table shop.t (id int, m shop.mood primary key)",
		"create function shop.row_text(shop.t) returns text language plpgsql as $$ "+up+"'x'; end $$",
		"create function shop.mood_text(shop.mood) returns text language plpgsql as $$ "+up+"'x'; end $$",
		"create function shop.mood_json(shop.mood) returns json language plpgsql as $$ "+up+"'1'::json; end $$",
		"create function shop.mood_jsonb(shop.mood) returns jsonb language plpgsql as $$ "+up+"'1'::jsonb; end $$",
		"create cast (shop.t as text) with function shop.row_text(shop.t) as implicit",
		"create cast (shop.mood as text) with function shop.mood_text(shop.mood) as implicit",
		"create cast (shop.mood as json) with function shop.mood_json(shop.mood) as implicit",
		"create cast (shop.mood as jsonb) with function shop.mood_jsonb(shop.mood) as implicit",
		"insert into shop.t values (1, 'calm')",
		"alter database shop set search_path = evil, pg_catalog", "reset role")
	safe := func(what string) {
		t.Helper()
		if p.text("select rolsuper::text from pg_roles where rolname = 'clerk'") != "false" {
			t.Fatalf("%s made the owner of a database a superuser", what)
		}
	}
	c.Close(p.ctx())

	p.Observe(p.ctx(), true)
	safe("looking at the server")
	hold, err := p.Hold(p.ctx(), 5)
	if err != nil {
		t.Fatal(err)
	}
	_ = hold
	if err := p.Release(p.ctx()); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Sums(p.ctx(), func(string, int64, int64) {}); err != nil {
		t.Fatal(err)
	}
	rows, err := p.Rows(p.ctx(), verb.Rows{Table: "shop.shop.t"})
	if err != nil || len(rows.Buckets) != 1 {
		t.Fatalf("%+v %v", rows, err)
	}
	for b := range rows.Buckets {
		if rows, err = p.Rows(p.ctx(), verb.Rows{Table: "shop.shop.t",
			Buckets: []int{b}}); err != nil || rows.Rows["calm"] == "" {
			t.Fatalf("%+v %v", rows, err)
		}
	}
	p.Forget(p.ctx())
	safe("comparing")

	before := p.Observe(p.ctx(), false)
	fork := p.text("select pg_current_wal_insert_lsn()::text")
	if c, err = p.connect(p.ctx(), "shop", p.cfg.SocketDir, p.cfg.Port); err != nil {
		t.Fatal(err)
	}
	do("insert into shop.t values (2, 'rough')")
	file := p.text("select '1663/' || oid || '/' from pg_database where datname = 'shop'")
	var node string
	if err := c.QueryRow(p.ctx(), "select pg_relation_filenode('shop.t'::regclass)::text").Scan(&node); err != nil {
		t.Fatal(err)
	}
	c.Close(p.ctx())
	if _, err := p.Names(p.ctx(), []string{file + node}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.RowsAt(p.ctx(), tail.RowsAtArgs{Next: 1 << 30,
		Places: map[string][]string{file + node: {"(0,1)", "(0,2)"}}}); err != nil {
		t.Fatal(err)
	}
	safe("reading rows of before a fork")
	if err := p.Fence(p.ctx(), false); err != nil {
		t.Fatal(err)
	}
	p.peers["tern"] = p.Engine
	x, err := p.Examine(p.ctx(), verb.Examine{Line: position.Line{System: before.Data.System, Number: 2,
		Began: mustLSN(t, fork), Fingerprint: "f"}, Past: []position.Branch{{Timeline: 1, End: mustLSN(t, fork)}},
		Primary: verb.Peer{Name: "tern"}})
	if err != nil {
		t.Fatal(err)
	}
	saved, err := p.Salvage(p.ctx(), verb.Salvage{Fork: x.Fork, Timeline: x.ForkLine, Name: "shop-gull"},
		filepath.Join(p.cfg.WorkDir, "salvage"), func(string, int64, int64) {})
	if err != nil {
		t.Fatal(err)
	}
	if _, inserts, _, _ := saved.Counts(); inserts != 1 {
		t.Errorf("%+v", saved.Transactions)
	}
	if err := p.Start(p.ctx(), "primary"); err != nil {
		t.Fatal(err)
	}
	safe("saving a tail")
}
