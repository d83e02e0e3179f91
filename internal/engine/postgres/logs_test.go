package postgres

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// The log of a real server: a commit, an abort and a change of definitions are
// told apart, by position, time and table, page by page.
func TestReadLog(t *testing.T) {
	t.Parallel()
	r := primary(t)
	r.sql("create table boats (id int primary key, name text)", "create table oars (id int)")
	from := r.text("select pg_current_wal_insert_lsn()::text")
	r.sql("insert into boats select n, 'boat' from generate_series(1, 3) n")
	middle := r.text("select pg_current_wal_insert_lsn()::text")
	r.sql("begin; insert into boats values (9, 'sunk'); rollback",
		"update boats set name = 'ship' where id = 2; delete from boats where id = 3", "insert into oars values (1)",
		"alter table oars add column n int")
	read := func(a tail.ReadLogArgs) *tail.LogPage {
		t.Helper()
		p, err := r.ReadLog(r.ctx(), a)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	counts := func(p *tail.LogPage, table string) (committed, aborted, inserts, updates, deletes int) {
		for _, x := range p.Transactions {
			for _, c := range x.Changes {
				if !strings.HasSuffix(c.Table, table) {
					continue
				}
				inserts, updates, deletes = inserts+c.Inserts, updates+c.Updates, deletes+c.Deletes
				if x.Outcome == "committed" {
					committed++
				} else {
					aborted++
				}
			}
		}
		return
	}
	all := read(tail.ReadLogArgs{From: from})
	if c, a, i, u, d := counts(all, ".boats"); c != 2 || a != 1 || i != 4 || u != 1 || d != 1 {
		t.Errorf("boats: %d committed, %d aborted, %d inserted, %d updated, %d deleted\n%+v", c, a, i, u, d, all.Transactions)
	}
	schema := 0
	for _, x := range all.Transactions {
		if x.Bytes <= 0 || len(x.Records) == 0 || len(x.File) != 24 {
			t.Errorf("%+v", x)
		}
		if x.Schema {
			schema++
		}
	}
	if schema != 1 || !all.End {
		t.Errorf("%d changed definitions; the end was seen: %t", schema, all.End)
	}
	if c, _, i, u, _ := counts(read(tail.ReadLogArgs{From: from, To: middle}), ".boats"); c != 1 || i != 3 || u != 0 {
		t.Errorf("up to the middle: %d committed, %d inserted, %d updated", c, i, u)
	}
	if p := read(tail.ReadLogArgs{From: from, Table: "public.oars"}); len(p.Transactions) != 1 {
		t.Errorf("oars: %+v", p.Transactions)
	}
	// Page by page it is the same.
	paged := func(from string) (list []tail.Transaction) {
		a := tail.ReadLogArgs{From: from, Limit: 1}
		for range 20 {
			p := read(a)
			list = append(list, p.Transactions...)
			if a.From, a.Shown = p.Next, p.Shown; p.End {
				break
			}
		}
		return list
	}
	if n := len(paged(from)); n != len(all.Transactions) {
		t.Errorf("%d transactions one by one, %d at once", n, len(all.Transactions))
	}
	// One that is open while others end is on one page, whole.
	r.sql("create table slow (n int)")
	from = r.text("select pg_current_wal_insert_lsn()::text")
	c, err := r.connect(r.ctx(), "postgres", r.cfg.SocketDir, r.cfg.Port)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(r.ctx())
	slow := func(q string) {
		t.Helper()
		if _, err := c.Exec(r.ctx(), q); err != nil {
			t.Fatal(err)
		}
	}
	slow("begin")
	for n := range 3 {
		slow("insert into public.slow values (1)")
		r.sql(fmt.Sprintf("insert into oars values (%d)", 100+n))
	}
	if p := read(tail.ReadLogArgs{From: from}); len(p.Transactions) != 4 || p.Transactions[3].Outcome != tail.Unfinished ||
		p.Transactions[3].Changes[0].Inserts != 3 {
		t.Errorf("while it is open: %+v", p.Transactions)
	}
	slow("commit")
	pages := paged(from)
	if len(pages) != 4 || pages[3].Outcome != "committed" || pages[3].Changes[0].Inserts != 3 ||
		!strings.HasSuffix(pages[3].Changes[0].Table, ".slow") {
		t.Errorf("page by page: %+v", pages)
	}
	if p := read(tail.ReadLogArgs{Since: time.Now().Add(time.Hour)}); len(p.Transactions) != 0 || !p.End {
		t.Errorf("of the time to come: %+v", p.Transactions)
	}
	if p := read(tail.ReadLogArgs{Limit: 2}); len(p.Transactions) != 2 {
		t.Errorf("the newest two: %+v", p.Transactions)
	}
	for _, bad := range []tail.ReadLogArgs{{From: "nonsense"}, {From: "0/100"}, {From: from, To: "x"}} {
		var input engine.InputError
		if _, err := r.ReadLog(r.ctx(), bad); !errors.As(err, &input) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	files, err := r.LogFiles(r.ctx())
	if err != nil || len(files) == 0 || files[0].From == "" || files[0].History != 1 {
		t.Errorf("%v %+v", err, files)
	}
	if err := r.exec(r.ctx(), "select no_such_function()"); err == nil {
		t.Fatal("it has such a function")
	}
	list, err := r.Complaints(5)
	if err != nil || len(list) == 0 || list[0].Level != "error" || !strings.Contains(list[0].Text, "no_such_function") ||
		time.Since(list[0].At) > time.Minute {
		t.Errorf("%v %+v", err, list)
	}
}

func TestSet(t *testing.T) {
	t.Parallel()
	r := primary(t)
	for _, a := range []verb.Set{{Name: "max_standby_streaming_delay", Value: "5min"},
		{Name: "hot_standby_feedback", Value: "on"}, {Name: verb.Delay, Value: "90"}} {
		if err := r.Set(r.ctx(), a); err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(20 * time.Second); r.Observe(r.ctx(),
			false).Config.Live[a.Name] != a.Value; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("%s is %q", a.Name, r.Observe(r.ctx(), false).Config.Live[a.Name])
			}
		}
	}
	for _, a := range []verb.Set{{Name: "fsync", Value: "off"}, {Name: "hot_standby_feedback", Value: "perhaps"},
		{Name: "wal_keep_size = 1; drop table x; --", Value: "1"}} {
		if err := r.Set(r.ctx(), a); err == nil {
			t.Errorf("%+v was set", a)
		}
	}
}

// A file that was ended early is empty from there on. A page that begins in its empty part
// goes on with the next file.
func TestReadLogFromTheEmptyRestOfAFile(t *testing.T) {
	t.Parallel()
	r := primary(t)
	r.sql("create table boats (id int)", "insert into boats values (1)", "select pg_switch_wal()",
		"insert into boats values (2)")
	// As far into the new file as the ended one was not written any more.
	from := r.text("select (pg_walfile_name_offset(pg_current_wal_lsn())).file_offset::text || ' ' || " +
		"(pg_current_wal_lsn() - 8388608)::text")
	_, back, _ := strings.Cut(from, " ")
	for _, a := range []tail.ReadLogArgs{{From: back}, {Table: "public.boats"}} {
		p, err := r.ReadLog(r.ctx(), a)
		if err != nil {
			t.Fatal(err)
		}
		inserts := 0
		for _, x := range p.Transactions {
			for _, c := range x.Changes {
				if strings.HasSuffix(c.Table, ".boats") {
					inserts += c.Inserts
				}
			}
		}
		if inserts == 0 {
			t.Errorf("%+v shows nothing of what was written after the switch, in %s", a, from)
		}
	}
}
