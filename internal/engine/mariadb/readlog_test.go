package mariadb

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/binlog"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/enginetest"
)

// The log of a real server over several files: by position, table and time,
// page by page, with rows before and after, and what is unsafe to replay.
func TestReadLog(t *testing.T) {
	t.Parallel()
	_, primary, replica := newPair(t)
	from := primary.Observe(primary.ctx(), false).Log.Written
	primary.sql("insert into d.t (id, v) values (50, 'new')")
	primary.sql("flush binary logs; update d.t set v = 'changed' where id = 50")
	middle := primary.Observe(primary.ctx(), false).Log.Written
	primary.sql("delete from d.t where id = 50; create table d.later (a int primary key)")
	primary.sql("set session binlog_format = statement; insert into d.later values (length(uuid()))")
	read := func(a tail.ReadLogArgs) *tail.LogPage {
		t.Helper()
		p, err := primary.ReadLog(primary.ctx(), a)
		primary.ok(err)
		return p
	}
	words := func(p *tail.LogPage) string {
		var out []string
		for _, x := range p.Transactions {
			for _, r := range x.Rows {
				if strings.HasSuffix(r.Table, ".t") {
					out = append(out, r.Kind+" "+r.Words())
				}
			}
			out = append(out, x.Statements...)
			if x.Unsafe != "" {
				out = append(out, "UNSAFE "+x.Unsafe)
			}
		}
		return strings.Join(out, "\n")
	}
	all := read(tail.ReadLogArgs{From: from})
	for _, want := range []string{"insert id=50, v='new'", "update id=50, v 'new' -> 'changed'",
		"delete id=50, v='changed'", "create table d.later", "UNSAFE it calls uuid()"} {
		if !strings.Contains(words(all), want) {
			t.Errorf("%q is not read:\n%s", want, words(all))
		}
	}
	if len(all.Transactions) != 5 || !all.End || all.Transactions[0].File == all.Transactions[4].File ||
		all.Transactions[0].Origin != 11 {
		t.Errorf("%d transactions, end %t", len(all.Transactions), all.End)
	}
	if p := read(tail.ReadLogArgs{From: from, To: middle}); len(p.Transactions) != 2 {
		t.Errorf("up to the middle: %s", words(p))
	}
	if p := read(tail.ReadLogArgs{From: from, Table: "d.audit"}); len(p.Transactions) != 1 {
		t.Errorf("of one table: %s", words(p))
	}
	if p := read(tail.ReadLogArgs{Limit: 1}); len(p.Transactions) != 1 || p.Transactions[0].Unsafe == "" {
		t.Errorf("the newest: %s", words(p))
	}
	if p := read(tail.ReadLogArgs{Since: time.Now().Add(time.Hour)}); len(p.Transactions) != 0 {
		t.Errorf("of the time to come: %s", words(p))
	}
	n, at := 0, from
	for range 20 {
		p := read(tail.ReadLogArgs{From: at, Limit: 2})
		n += len(p.Transactions)
		if at = p.Next; p.End {
			break
		}
	}
	if n != 5 {
		t.Errorf("%d transactions page by page", n)
	}
	readFromAnywhere(t, primary)
	files, err := primary.LogFiles(primary.ctx())
	primary.ok(err)
	if len(files) < 2 || files[0].To != files[1].From || files[len(files)-1].To != "" {
		t.Errorf("%+v", files)
	}
	primary.ok(primary.Trim(primary.ctx(), verb.Trim{To: files[1].Name}))
	if _, err := primary.ReadLog(primary.ctx(), tail.ReadLogArgs{From: "1-11-1"}); err == nil ||
		!strings.Contains(err.Error(), "what was written before is gone") {
		t.Errorf("before the oldest file: %v", err)
	}
	if _, err := primary.ReadLog(primary.ctx(), tail.ReadLogArgs{From: "0/16B3748"}); err == nil {
		t.Error("another engine's position was read")
	}
	// What a replica may be told to do differently lasts, and nothing is lost.
	replica.ok(replica.Set(replica.ctx(), verb.Set{Name: verb.Delay, Value: "2"}))
	replica.ok(replica.Set(replica.ctx(), verb.Set{Name: "slave_parallel_threads", Value: "3"}))
	if o := replica.Observe(replica.ctx(), false); o.Config.Live[verb.Delay] != "2" ||
		o.Config.Live["slave_parallel_threads"] != "3" || o.Links.Upstream.DelaySeconds != 2 {
		t.Errorf("%+v", o.Config.Live)
	}
	primary.sql("insert into d.t (id, v) values (60, 'held back')")
	want := primary.Observe(primary.ctx(), false).Log.Written
	for end := time.Now().Add(20 * time.Second); replica.Observe(replica.ctx(),
		false).Log.Applied != want; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("what is held back never comes")
		}
	}
	for _, a := range []verb.Set{{Name: "sync_binlog", Value: "0"}, {Name: verb.Delay, Value: "soon"},
		{Name: verb.Delay, Value: "-1"}} {
		if err := replica.Set(replica.ctx(), a); err == nil {
			t.Errorf("%+v was set", a)
		}
	}
	// With nobody to fetch it from again, what is held back is applied at once.
	replica.ok(replica.Set(replica.ctx(), verb.Set{Name: verb.Delay, Value: "3600"}))
	primary.sql("insert into d.t (id, v) values (61, 'for an hour')")
	want = primary.Observe(primary.ctx(), false).Log.Written
	for end := time.Now().Add(20 * time.Second); replica.Observe(replica.ctx(),
		false).Log.Received != want; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nothing was received")
		}
	}
	primary.leave(false)
	replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
	if got, err := replica.text(replica.ctx(), "select count(*) from d.t where id = 61"); err != nil || got != "1" {
		t.Errorf("%s rows: %v", got, err)
	}
}

// From whatever byte a log is read, what comes is its transactions from the
// next one on: whole ones, and none is passed over.
func readFromAnywhere(t *testing.T, r *rig) {
	t.Helper()
	files, err := r.logFiles()
	r.ok(err)
	var begins []int
	r.ok(eachGroup(r.Data, files[:1], nil, func(_ string, g *binlog.Group) error {
		begins = append(begins, int(g.From))
		return nil
	}))
	fi, err := os.Stat(files[0])
	r.ok(err)
	for offset := int64(1); offset < fi.Size()+50; offset += 37 {
		want := slices.DeleteFunc(slices.Clone(begins), func(b int) bool { return int64(b) < offset })
		var got []int
		r.ok(eachGroupFrom(r.Data, files[:1], offset, nil,
			func(_ string, g *binlog.Group) error { got = append(got, int(g.From)); return nil }))
		if !slices.Equal(got, want) {
			t.Fatalf("from byte %d on: %v, want %v", offset, got, want)
		}
	}
}

// A file that was purged since the index was read is left out, and while a copy is made there
// is no log: whoever looks at a server that is being seeded is told of no error.
func TestLogFilesThatGo(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren := p.create("wren", 11)
	wren.sql("flush binary logs")
	wren.Observe(wren.ctx(), false)
	wren.ok(wren.Fence(wren.ctx(), false))
	files, err := wren.LogFiles(wren.ctx())
	if err != nil || len(files) < 2 {
		t.Fatalf("%+v %v", files, err)
	}
	wren.ok(os.Remove(wren.Path(files[0].Name)))
	if left, err := wren.LogFiles(wren.ctx()); err != nil || len(left) != len(files)-1 {
		t.Errorf("one is purged: %+v %v", left, err)
	}
	wren.ok(wren.memory.SetUnfinished("seed"))
	if left, err := wren.LogFiles(wren.ctx()); err != nil || len(left) != 0 {
		t.Errorf("while a copy is made: %+v %v", left, err)
	}
}
