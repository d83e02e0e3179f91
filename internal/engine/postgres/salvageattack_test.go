package postgres

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/verb"
	"crosstwin/test/workdir"
)

// Whoever may make a database or a table plants the client program's own commands in
// names and values, and schemas, types and settings in the database: loading a saved
// tail runs none of it, and loads everything.
func TestSavedTailRunsNothing(t *testing.T) {
	t.Parallel()
	p := primary(t)
	planted := filepath.Join(workdir.New(t, "ctattack"), "planted")
	os.Chmod(filepath.Dir(planted), 0o777)
	run := `\! touch ` + planted
	hostile := []string{"x\n" + run + "\n", "x\r\n" + run, `x'; ` + run, `x"` + "\n" + run, `x' ` + "\n" + run + ` \\`,
		"a.b='c' host=elsewhere", "x\t\v\f\b\x01\x1b" + run, "-- \n" + run, "x\u0085\u2028" + run + "\n"}
	quoted := func(s string) string { return pgx.Identifier{s}.Sanitize() }
	for i, n := range hostile {
		p.sql("create database " + quoted(n) + " template template0")
		c, err := p.connect(p.ctx(), n, p.cfg.SocketDir, p.cfg.Port)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range []string{"create schema " + quoted(n), "create table " + quoted(n) + "." + quoted(n) + " (" +
			quoted(n) + " text, n int)", "create domain " + quoted(n) + ".d as text",
			"create table public.t (v " + quoted(n) + ".d)",
			"create function public.up() returns trigger language plpgsql as $$ begin perform 1/0; return new; end $$",
			"create schema crosstwin_salvage", `create table crosstwin_salvage."public.t" (v text)`,
			`create trigger up before insert on crosstwin_salvage."public.t" for each row execute function public.up()`,
			"alter database " + quoted(n) + " set standard_conforming_strings = off",
			"alter database " + quoted(n) + " set search_path = public"} {
			if _, err := c.Exec(p.ctx(), s); err != nil {
				t.Fatalf("%d: %q: %v", i, s, err)
			}
		}
		c.Close(p.ctx())
	}
	p.sql("checkpoint")
	fork := p.text("select pg_current_wal_insert_lsn()::text")
	for _, n := range hostile {
		c, err := p.connect(p.ctx(), n, p.cfg.SocketDir, p.cfg.Port)
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range append(hostile, `\'; `+run+"\n", `'\`+"\n"+run) {
			_, err := c.Exec(p.ctx(), "insert into "+quoted(n)+"."+quoted(n)+" values ($1, 1)", v)
			if err == nil {
				_, err = c.Exec(p.ctx(), "insert into public.t values ($1)", v)
			}
			if err != nil {
				t.Fatalf("%q: %v", v, err)
			}
		}
		c.Close(p.ctx())
	}
	if err := p.Fence(p.ctx(), false); err != nil {
		t.Fatal(err)
	}
	saved, err := p.Salvage(p.ctx(), verb.Salvage{Fork: fork, Timeline: 1, Name: "tail"},
		filepath.Join(p.cfg.WorkDir, "salvage"), func(string, int64, int64) {})
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Start(p.ctx(), "primary"); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("psql", "-v", "ON_ERROR_STOP=1", "-qf", saved.Saved, "-h", p.cfg.SocketDir, "-p",
		strconv.Itoa(p.cfg.Port), "-U", "postgres").CombinedOutput()
	if err != nil {
		b, _ := os.ReadFile(saved.Saved)
		t.Errorf("%v\n%s", err, out)
		for i, l := range strings.Split(string(b), "\n") {
			if strings.HasPrefix(l, `\connect`) {
				t.Logf("%d %q", i, l)
			}
		}
	}
	if _, err := os.Stat(planted); err == nil {
		t.Fatal("loading a saved tail ran a program")
	}
	for _, n := range hostile {
		c, err := p.connect(p.ctx(), n, p.cfg.SocketDir, p.cfg.Port)
		if err != nil {
			t.Fatal(err)
		}
		var rows, more int
		var table string // its name is shortened
		err = c.QueryRow(p.ctx(), "select quote_ident(relname) from pg_class where relkind = 'r' and relname <> 'public.t' "+
			"and relnamespace = '"+saved.Into+"'::regnamespace").Scan(&table)
		if err == nil {
			err = c.QueryRow(p.ctx(), fmt.Sprintf(`select (select count(*) from %s.%s), (select count(*) from %s."public.t")`,
				saved.Into, table, saved.Into)).Scan(&rows, &more)
		}
		if err != nil || rows != len(hostile)+2 || more != rows {
			t.Errorf("%q: %d and %d rows were loaded: %v", n, rows, more, err)
		}
		c.Close(p.ctx())
	}
}
