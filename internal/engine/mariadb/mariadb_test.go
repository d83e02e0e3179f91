package mariadb

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/enginetest"
	"crosstwin/internal/freeport"
	"crosstwin/test/workdir"
)

// pair are real servers whose engines reach each other without agents between.
type pair struct {
	t       *testing.T
	engines enginetest.Peers
}

type rig struct {
	*Engine
	t     *testing.T
	notes *enginetest.Notes
}

var account = engine.Account{User: verb.ReplicationUser("plover"), Password: "of this test"}

func TestMain(m *testing.M) { os.Exit(workdir.Main(m)) }

// newPair makes a primary with some data and a replica of it.
func newPair(t *testing.T) (p *pair, wren, plover *rig) {
	t.Helper()
	p = &pair{t, enginetest.Peers{}}
	wren, plover = p.create("wren", 11), p.add("plover", 12)
	wren.prepare(verb.Prepare{Account: true})
	wren.sql(
		`create database d; use d;
		create table t (id int primary key, v varchar(40), f double, b longblob, at timestamp(3) null,
			j json, k enum('x','y'));
		insert into t values (1, 'one', 0.1, x'00ff', '2027-01-01 00:00:00.123', '{"a":1}', 'x'), (2, 'two', null, null,
		  null, null, 'y'), (3, 'three', -1e300, 'z', null, '[]', null);
		create table audit (n int auto_increment primary key, id int);
		  create trigger tr after insert on t for each row insert into audit (id) values (new.id);
		create table parent (id int primary key); create table child (id int primary key, p int,
		  foreign key (p) references parent (id) on delete cascade); insert into parent values (1);
		  insert into child values (1, 1);
		create table old (id int primary key, v int) engine = MyISAM; insert into old values (1, 1);
		  create table nokey (a int); insert into nokey values (1), (1)`)
	p.seed(plover, wren, "")
	return p, wren, plover
}

// create makes a new database and opens it.
func (p *pair) create(name string, id int) *rig {
	p.t.Helper()
	r := p.add(name, id)
	p.install(r)
	r.ok(r.Start(r.ctx(), "primary"))
	return r
}

// install makes an empty database.
func (p *pair) install(r *rig) {
	p.t.Helper()
	r.ok(workdir.Blank("data", r.cfg.DataDir, func() error {
		_, _, err := r.Run(r.ctx(), "env", "TMPDIR="+r.cfg.WorkDir, "mariadb-install-db", "--no-defaults",
			"--datadir="+r.cfg.DataDir, "--auth-root-authentication-method=socket", "--auth-root-socket-user="+r.cfg.Superuser,
			"--skip-test-db")
		return err
	}))
}

func (p *pair) add(name string, id int) *rig {
	t := p.t
	t.Helper()
	dir := workdir.New(t, "ctm")
	conf := filepath.Join(dir, "my.cnf")
	text := fmt.Sprintf(
		"[mariadbd]\nserver_id=%d\ntmpdir=%s\nlog_bin=d-bin\nlog_slave_updates\nbinlog_format=ROW\n"+
			"binlog_row_metadata=FULL\ngtid_domain_id=1\ngtid_strict_mode=1\nsync_binlog=1\n"+
			"innodb_buffer_pool_size=32M\ninnodb_log_file_size=16M\nskip_name_resolve\n", id, dir)
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return p.addAt(name, dir, conf, freeport.Next())
}

// addAt makes an engine for a server whose configuration is there.
func (p *pair) addAt(name, dir, conf string, port int) *rig {
	t := p.t
	t.Helper()
	n := enginetest.NewNotes()
	e, err := New(Config{Name: name, DataDir: filepath.Join(dir, "data"), ConfigFile: conf,
		Socket: filepath.Join(dir, "s"), Port: port, Host: "127.0.0.1", WorkDir: dir,
		LogFile: filepath.Join(dir, "log")}, n, p.engines)
	if err != nil {
		t.Fatal(err)
	}
	own, err := e.Owner()
	if err != nil {
		t.Fatal(err)
	}
	os.Chown(dir, int(own.UID), int(own.GID))
	e.Remember(account)
	r := &rig{e, t, n}
	p.engines[name] = r.Engine
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		e.Fence(ctx, false)
		e.db.Close()
	})
	return r
}

func (r *rig) ok(err error) {
	r.t.Helper()
	if err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) ctx() context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	r.t.Cleanup(cancel)
	return ctx
}

// sql runs statements in a session of its own, as somebody beside Cross Twin.
func (r *rig) sql(statements string) {
	r.t.Helper()
	c, err := r.db.Conn(r.ctx())
	r.ok(err)
	defer end(c)
	if _, err := c.ExecContext(r.ctx(), "set character_set_client = utf8mb4; "+statements); err != nil {
		r.t.Fatalf("%s: %.200s: %v", r.cfg.Name, statements, err)
	}
}

// leave fences the server; its agent had seen it before, as it does each second.
func (r *rig) leave(gently bool) {
	r.t.Helper()
	r.Observe(r.ctx(), false)
	r.ok(r.Fence(r.ctx(), gently))
}

// prepare makes the account that all servers of the test follow by.
func (r *rig) prepare(v verb.Prepare) {
	r.t.Helper()
	secret, err := r.Secret(account.Password)
	r.ok(err)
	r.ok(r.Grant(r.ctx(), "plover", secret, "127.0.0.1"))
	r.ok(r.Prepare(r.ctx(), v))
}

func (r *rig) peer() verb.Peer {
	return verb.Peer{Name: r.cfg.Name, Host: r.cfg.Host, Port: r.cfg.Port}
}

func quiet(string, int64, int64) {}

// seed copies one server to the other and has it follow.
func (p *pair) seed(to, from *rig, way string) {
	p.t.Helper()
	to.ok(to.Fence(to.ctx(), false))
	to.ok(to.Seed(to.ctx(), verb.Seed{Source: from.peer(), Replace: true, Way: way}, quiet))
	to.ok(to.Verify(to.ctx(), quiet))
	p.follow(to, from)
}

func (p *pair) follow(to, from *rig) {
	p.t.Helper()
	to.ok(to.Start(to.ctx(), "replica"))
	to.ok(to.Follow(to.ctx(), verb.Follow{Upstream: from.peer()}))
	m, err := from.Mark(from.ctx(), fmt.Sprintf("mark-%d", freeport.Next()), 1, "test")
	from.ok(err)
	to.ok(to.FindMark(to.ctx(), m))
}

// same compares all tables of both.
func (p *pair) same(a, b *rig) {
	p.t.Helper()
	hold, err := a.Hold(a.ctx(), 5)
	a.ok(err)
	b.ok(b.Snapshot(b.ctx(), verb.Snapshot{Hold: hold, Seconds: 5}))
	a.ok(a.Release(a.ctx()))
	x, err := a.Sums(a.ctx(), quiet)
	a.ok(err)
	y, err := b.Sums(b.ctx(), quiet)
	b.ok(err)
	for _, list := range [][]verb.TableSum{x, y} {
		for i := range list {
			list[i].Bytes = 0 // how large a file grew is no difference of content
		}
	}
	if fmt.Sprint(x) != fmt.Sprint(y) || len(x) < 5 {
		p.t.Errorf("%s and %s differ:\n%v\n%v", a.cfg.Name, b.cfg.Name, x, y)
	}
	a.Forget(a.ctx())
	b.Forget(b.ctx())
}

// Each case is a tail on a primary that was left behind: whether it can be
// undone, and if not, which event forces a rebuild. What is undone is compared.
func TestTails(t *testing.T) {
	t.Parallel()
	p, primary, replica := newPair(t)
	for _, c := range []struct {
		name, tail string
		why        string // empty: it can be undone
		shown      string // words in the listing of its rows
	}{
		{"rows of every kind",
			"insert into d.t values (4, 'four', 4, x'00', now(3), '{}', 'x'); update d.t set v = 'changed', f = null where " +
				"id < 3; delete from d.t where id = 3; update d.t set id = 40 where id = 4", "", "id=1, v 'one' -> 'changed', " +
				"f 0.1"},
		{"one row many times",
			"insert into d.t (id) values (7); delete from d.t where id = 7; insert into d.t (id, v) values (7, 'again'); " +
				"update d.t set v = 'and again' where id = 7", "", "v 'again' -> 'and again'"},
		{"a savepoint and a long text",
			"start transaction; insert into d.t (id, b) values (8, repeat('x', 200000)); savepoint s; insert into d.t (id) " +
				"values (9); rollback to s; commit", "", "id=8"},
		{"definitions", "alter table d.t add column extra int; alter table d.t drop column extra",
			"it changes definitions: alter table d.t add column extra int", ""},
		{"truncate", "truncate d.nokey; insert into d.nokey values (1), (1)", "it changes definitions: truncate d.nokey", ""},
		{"no transactions", "update d.old set v = v + 1", "an engine without transactions", ""},
		{"a statement", "set session binlog_format = 'STATEMENT'; update d.t set v = 'by statement' where id = 1",
			"a statement was logged instead of rows: update d.t", ""},
		{"images not full", "set session binlog_row_image = 'MINIMAL'; update d.t set v = 'minimal' where id = 1",
			"images of rows of d.t are not complete", ""},
		{"a cascade", "delete from d.parent where id = 1; insert into d.parent values (1); insert into d.child values (1, 1)",
			"d.child took part without rows", ""},
		{"a distributed transaction",
			"xa start 'x'; update d.t set v = 'xa' where id = 1; xa end 'x'; xa prepare 'x'; xa commit 'x'",
			"distributed transaction", ""},
		{"another domain", "set session gtid_domain_id = 9; update d.t set v = 'in domain 9' where id = 2", "",
			"'in domain 9'"},
		{"no primary key", "insert into d.nokey values (5)", "d.nokey has no primary key", ""},
	} {
		// The replica is cut off, the tail is written, the replica takes over.
		replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
		fork := replica.Observe(replica.ctx(), false).Log.Applied
		primary.sql(c.tail)
		primary.leave(true)
		replica.ok(replica.Promote(replica.ctx()))
		replica.sql("insert into d.t (id, v) values (100, 'elsewhere')")
		_, err := replica.Mark(replica.ctx(), "term after "+c.name, 1, "test")
		replica.ok(err)
		replica.sql("delete from d.t where id = 100")

		x, err := primary.Examine(primary.ctx(), verb.Examine{Primary: replica.peer()})
		primary.ok(err)
		if x.Kinship != string(position.Kin) || x.Fork != fork || x.Tail == nil || len(x.Tail.Transactions) == 0 {
			t.Fatalf("%s: fork %q, want %q: %+v", c.name, x.Fork, fork, x)
		}
		if x.Rewindable != (c.why == "") || !strings.Contains(x.WhyNot, c.why) {
			t.Fatalf("%s: rewindable %t: %q, want %q", c.name, x.Rewindable, x.WhyNot, c.why)
		}
		words := ""
		for _, tx := range x.Tail.Transactions {
			for _, r := range tx.Rows {
				words += r.Words() + "\n"
			}
		}
		if !strings.Contains(words, c.shown) {
			t.Errorf("%s: rows\n%s", c.name, words)
		}
		saved, err := primary.Salvage(primary.ctx(), verb.Salvage{Fork: x.Fork, Name: "tail", Primary: replica.peer()},
			filepath.Join(primary.cfg.WorkDir, strings.ReplaceAll(c.name, " ", "-")), quiet)
		primary.ok(err)
		b, err := os.ReadFile(saved.Saved)
		if err != nil || !strings.Contains(string(b), "-- transaction "+x.Tail.Transactions[0].GTID+" committed") {
			t.Errorf("%s: %v %.300s", c.name, err, b)
		}
		replica.sql("set sql_log_bin = 0; " + string(b) + "drop database " + saved.Into)
		if c.why != "" {
			if err := primary.Rewind(primary.ctx(), verb.Rewind{Source: replica.peer(), Fork: x.Fork, End: x.End},
				quiet); err == nil || primary.notes.Left != "" {
				t.Fatalf("%s: a rewind that cannot be: %v, unfinished %q", c.name, err, primary.notes.Left)
			}
			p.seed(primary, replica, "")
		} else {
			primary.ok(primary.Rewind(primary.ctx(), verb.Rewind{Source: replica.peer(), Fork: x.Fork, End: x.End}, quiet))
			p.follow(primary, replica)
		}
		p.same(replica, primary)
		primary, replica = replica, primary
	}
}

// An undo that dies after its one transaction, and one that dies before: asked
// again it comes to the same end.
func TestInterruptedUndo(t *testing.T) {
	t.Parallel()
	for _, died := range []string{"before the undo", "after the undo", "after the log was emptied"} {
		t.Run(died, func(t *testing.T) {
			t.Parallel()
			p, primary, replica := newPair(t)
			replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
			primary.sql("insert into d.t (id, v) values (4, 'lost'); update d.t set v = 'lost' where id = 1")
			primary.leave(false)
			replica.ok(replica.Promote(replica.ctx()))
			_, err := replica.Mark(replica.ctx(), "after", 2, "test")
			replica.ok(err)
			x, err := primary.Examine(primary.ctx(), verb.Examine{Primary: replica.peer()})
			primary.ok(err)
			a := verb.Rewind{Source: replica.peer(), Fork: x.Fork, End: x.End}
			primary.ok(primary.launch(primary.ctx()))
			primary.ok(primary.planUndo(primary.ctx(), a))
			if died != "before the undo" {
				primary.ok(primary.undoTail(primary.ctx(), quiet))
			}
			if died == "after the log was emptied" {
				primary.ok(primary.exec(primary.ctx(), "reset master"))
			}
			primary.leave(false)
			if err := primary.Start(primary.ctx(), "replica"); err == nil {
				t.Fatal("a half undone server was started")
			}
			if x, err = primary.Examine(primary.ctx(), verb.Examine{Primary: replica.peer()}); err != nil || !x.Rewindable ||
				x.Fork != a.Fork {
				t.Fatalf("%+v %v", x, err)
			}
			primary.ok(primary.Rewind(primary.ctx(), a, quiet))
			p.follow(primary, replica)
			p.same(replica, primary)
		})
	}
}

// The same number, other content: two servers wrote transactions of one GTID.
// The server itself would follow without a word.
func TestSameNumberOtherContent(t *testing.T) {
	t.Parallel()
	p, primary, replica := newPair(t)
	replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
	fork := replica.Observe(replica.ctx(), false).Log.Applied
	replica.ok(replica.Promote(replica.ctx()))
	// Both write under the same server id, as a clone would.
	primary.sql("insert into d.t (id, v) values (50, 'here')")
	replica.sql("set session server_id = 11; insert into d.t (id, v) values (50, 'there')")
	if a, b := primary.Observe(primary.ctx(), false).Log.Written,
		replica.Observe(replica.ctx(), false).Log.Written; a != b {
		t.Fatalf("%s and %s: the test shows nothing", a, b)
	}
	replica.sql("insert into d.t (id, v) values (51, 'and on')")
	primary.leave(true)
	x, err := primary.Examine(primary.ctx(), verb.Examine{Primary: replica.peer()})
	primary.ok(err)
	if x.Fork != fork || x.Tail == nil || len(x.Tail.Transactions) != 1 || !x.Rewindable {
		t.Fatalf("%+v", x)
	}
	primary.ok(primary.Rewind(primary.ctx(), verb.Rewind{Source: replica.peer(), Fork: x.Fork, End: x.End}, quiet))
	p.follow(primary, replica)
	p.same(replica, primary)
}

// An old primary that lost writes of its own gets them back: without the
// setting that Follow makes, the server skips what carries its own number.
func TestOlderThanTheFork(t *testing.T) {
	t.Parallel()
	p, primary, replica := newPair(t)
	primary.ok(primary.Stop(primary.ctx()))
	primary.leave(true)
	kept := filepath.Join(primary.cfg.WorkDir, "kept")
	primary.ok(os.CopyFS(kept, os.DirFS(primary.cfg.DataDir)))
	primary.ok(primary.Start(primary.ctx(), "primary"))
	primary.sql("insert into d.t (id, v) values (60, 'seen by the replica')")
	m, err := primary.Mark(primary.ctx(), "both", 1, "test")
	primary.ok(err)
	replica.ok(replica.FindMark(replica.ctx(), m))
	primary.leave(false)
	replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
	replica.ok(replica.Promote(replica.ctx()))
	// Its disk is put back to an older state.
	own, err := primary.Owner()
	primary.ok(err)
	primary.ok(primary.Clear())
	primary.ok(os.CopyFS(primary.cfg.DataDir, os.DirFS(kept)))
	filepath.WalkDir(primary.cfg.DataDir, func(path string, _ os.DirEntry, _ error) error {
		return os.Chown(path, int(own.UID), int(own.GID))
	})
	x, err := primary.Examine(primary.ctx(), verb.Examine{Primary: replica.peer()})
	primary.ok(err)
	if x.Tail != nil || x.Kinship != string(position.Kin) {
		t.Fatalf("%+v", x)
	}
	p.follow(primary, replica)
	p.same(replica, primary)
}

// A transaction is known again on every server, also one that was committed
// across the border of a second, which its servers log with other times.
func TestEntriesAreTheSameEverywhere(t *testing.T) {
	t.Parallel()
	_, primary, replica := newPair(t)
	from := replica.Observe(replica.ctx(), false).Log.Applied
	primary.sql(
		"start transaction; insert into d.t (id, v) values (80, 'slow'); do sleep(1.2); commit; update d.t set v = " +
			"sleep(1.1) where id = 80; alter table d.nokey add column extra int")
	// Without transactions: the one server ends them by a statement, the other as it ends any.
	for _, statements := range []string{
		"insert into d.old values (80, 1), (81, 1); update d.old set v = 2 where id = 80; delete from d.old where id = 81",
		"start transaction; insert into d.t (id, v) values (82, 'kept'); insert into d.old values (82, 1); commit",
		"start transaction; insert into d.old values (83, 1); insert into d.t (id, v) values (83, 'gone'); rollback",
		"start transaction; insert into d.t (id, v) values (84, 'kept'); savepoint s; insert into d.t (id, v) values " +
			"(85, 'gone'); rollback to s; insert into d.old values (84, 1); commit",
		"create table d.safe (a int primary key) engine = Aria; insert into d.safe values (1); lock tables d.safe write; " +
			"insert into d.safe values (2); unlock tables; truncate d.safe",
		"create temporary table d.gone (a int); insert into d.gone values (1); " +
			"insert into d.old select a + 90, 1 from d.gone; drop temporary table d.gone",
	} {
		primary.sql(statements)
	}
	m, err := primary.Mark(primary.ctx(), "last", 1, "test")
	primary.ok(err)
	replica.ok(replica.FindMark(replica.ctx(), m))
	after, err := position.ParseGTIDPosition(from)
	primary.ok(err)
	a, err := replica.fetchEntries(replica.ctx(), primary.peer(), after)
	replica.ok(err)
	b, err := primary.fetchEntries(primary.ctx(), replica.peer(), after)
	primary.ok(err)
	if len(a) < 4 || len(a) != len(b) {
		t.Fatalf("%d and %d entries", len(a), len(b))
	}
	for i := range a {
		if !a[i].same(b[i]) {
			t.Errorf("%+v and %+v", a[i], b[i])
		}
	}
}

// Received and not applied when both threads had stopped: the server would
// throw it away; it is applied before the server follows anybody, or nobody.
func TestRelayLogIsNotLost(t *testing.T) {
	t.Parallel()
	for _, stopped := range []string{"stop slave sql_thread", "stop slave", "crash", "torn", "renamed"} {
		t.Run(stopped, func(t *testing.T) {
			t.Parallel()
			_, primary, replica := newPair(t)
			replica.sql("stop slave sql_thread")
			primary.sql("insert into d.t (id, v) values (70, 'received'); insert into d.t (id, v) values (71, 'received')")
			want := primary.Observe(primary.ctx(), false).Log.Written
			for end := time.Now().Add(20 * time.Second); replica.Observe(replica.ctx(),
				false).Log.Received != want; time.Sleep(20 * time.Millisecond) {
				if time.Now().After(end) {
					t.Fatal("nothing was received")
				}
			}
			primary.leave(false)
			switch stopped {
			case "crash":
				replica.ok(replica.Fence(replica.ctx(), false))
				replica.ok(replica.Start(replica.ctx(), "replica"))
			case "renamed":
				replica.renameRelayLog()
			case "torn":
				replica.sql("stop slave")
				replica.tearRelayLog()
			default:
				replica.sql(stopped)
			}
			replica.ok(replica.Follow(replica.ctx(), verb.Follow{}))
			if got, err := replica.text(replica.ctx(), "select count(*) from d.t where id in (70, 71)"); err != nil ||
				got != "2" {
				t.Fatalf("%s of 2 rows are left: %v", got, err)
			}
			replica.ok(replica.Promote(replica.ctx()))
		})
	}
}

// renameRelayLog has the server look for its relay log where it is not.
func (r *rig) renameRelayLog() {
	r.t.Helper()
	r.ok(r.Fence(r.ctx(), true))
	text, err := os.ReadFile(r.cfg.ConfigFile)
	r.ok(err)
	r.ok(os.WriteFile(r.cfg.ConfigFile, append(text, "\nrelay_log = other-relay\n"...), 0o644))
	r.ok(r.Start(r.ctx(), "replica"))
}

// tearRelayLog has the relay log end within an event, as on a disk that ran full.
func (r *rig) tearRelayLog() {
	r.t.Helper()
	base, err := r.relayBase(r.ctx())
	r.ok(err)
	files, err := indexed(r.Data, base+".index")
	r.ok(err)
	f, err := os.OpenFile(files[len(files)-1], os.O_APPEND|os.O_WRONLY, 0)
	r.ok(err)
	event := make([]byte, 40)                    // its header, and less than that says
	event[4], event[5], event[9] = 0xa2, 11, 200 // GTID, of server 11, 200 bytes long
	_, err = f.Write(event)
	r.ok(err)
	r.ok(f.Close())
}

// What the files say of a log is the same whether they are read at once or as
// they grow, and a log begun anew under the same name is none that grew.
func TestLogOfAServerThatDoesNotAnswer(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren := p.create("wren", 11)
	wren.sql("create database d; create table d.t (id int primary key)")
	agree := func(when string) stoppedState {
		t.Helper()
		o := wren.Observe(wren.ctx(), false) // keeps the log's name, as each second
		st, err := wren.stoppedLog()
		if err != nil || st.state.String() != o.Log.GTIDState {
			t.Errorf("%s: the files say %s, the server %s: %v", when, st.state, o.Log.GTIDState, err)
		}
		if fi, err := os.Stat(st.file); err != nil || int64(st.read) > fi.Size() || st.read == 0 {
			t.Errorf("%s: read to %d of %d", when, st.read, fi.Size())
		}
		return st
	}
	first := agree("at first")
	wren.sql("insert into d.t values (1), (2); insert into d.t values (3)")
	if grown := agree("grown"); grown.read <= first.read {
		t.Errorf("nothing more was read: %d", grown.read)
	}
	wren.sql("flush binary logs; insert into d.t values (4)")
	agree("in another file")
	wren.sql("reset master")
	wren.sql("insert into d.t values (5)")
	short := agree("begun anew")
	wren.sql("reset master; set server_id = 77; insert into d.t values (6); insert into d.t values (7), (8), (9)")
	if again := agree("begun anew, and longer at once"); again.file != short.file || again.read <= short.read {
		t.Fatalf("not the case that was meant: %+v after %+v", again, short)
	}
	wren.ok(wren.Fence(wren.ctx(), false))
	if o := wren.Observe(wren.ctx(), false); o.Process.Accepting || o.Log.GTIDState != "1-77-2" {
		t.Errorf("killed: %s %q", o.Log.GTIDState, o.Process.Problem)
	}
}

// The logical way: into a new server, and into one that runs with other data.
func TestDump(t *testing.T) {
	t.Parallel()
	p, primary, _ := newPair(t)
	dunlin := p.add("dunlin", 13)
	dunlin.ok(dunlin.Seed(dunlin.ctx(), verb.Seed{Source: primary.peer(), Way: "dump"}, quiet))
	dunlin.ok(dunlin.Verify(dunlin.ctx(), quiet))
	p.follow(dunlin, primary)
	p.same(primary, dunlin)
	dunlin.sql("stop slave; set global read_only = 0; create database other; create table other.x (a int primary key)")
	if err := dunlin.Seed(dunlin.ctx(), verb.Seed{Source: primary.peer(), Way: "dump"}, quiet); err == nil {
		t.Fatal("data that stood there was replaced unasked")
	}
	dunlin.ok(dunlin.Seed(dunlin.ctx(), verb.Seed{Source: primary.peer(), Way: "dump", Replace: true}, quiet))
	dunlin.ok(dunlin.Verify(dunlin.ctx(), quiet))
	p.follow(dunlin, primary)
	p.same(primary, dunlin)
	if got, err := dunlin.text(dunlin.ctx(),
		"select count(*) from information_schema.schemata where schema_name = 'other'"); err != nil || got != "0" {
		t.Errorf("what stood there is still there: %s %v", got, err)
	}
}

// Writes end for everybody, in time, whatever hangs on the server; when it
// cannot be, they go on.
func TestStopEndsWrites(t *testing.T) {
	t.Parallel()
	_, primary, _ := newPair(t)
	primary.sql("create user boss@localhost identified by 'x'; grant all on *.* to boss@localhost")
	hang := func(statement string) chan error {
		done := make(chan error, 1)
		go func() {
			c, err := primary.db.Conn(context.Background())
			if err == nil {
				defer end(c)
				_, err = c.ExecContext(context.Background(), statement)
			}
			done <- err
		}()
		return done
	}
	busy := []chan error{hang("update d.t set v = sleep(30)"),
		hang("start transaction; update d.t set v = 'open' where id = 3; do sleep(30)"),
		hang("lock tables d.nokey write; do sleep(30)")}
	time.Sleep(300 * time.Millisecond)
	primary.ok(primary.Stop(primary.ctx()))
	for _, b := range busy {
		if err := <-b; err == nil {
			t.Error("a session was left to its end")
		}
	}
	o := primary.Observe(primary.ctx(), false)
	if o.Log.ShutdownAt == "" || o.Process.Writable {
		t.Fatalf("%+v", o)
	}
	late := hang("insert into d.t (id) values (90)") // the administrator's own
	select {
	case err := <-late:
		t.Fatalf("a privileged write came through: %v", err)
	case <-time.After(300 * time.Millisecond):
	}
	primary.ok(primary.Start(primary.ctx(), "primary"))
	if err := <-late; err != nil {
		t.Errorf("writes do not go on: %v", err)
	}
	if o := primary.Observe(primary.ctx(), false); !o.Process.Writable || o.Log.ShutdownAt != "" {
		t.Errorf("%+v", o)
	}
	// The same on the way to a fence: the lock stays until the server ends.
	primary.ok(primary.Stop(primary.ctx()))
	at := primary.Observe(primary.ctx(), false).Log.ShutdownAt
	var writers []chan error
	for i := range 16 {
		writers = append(writers, hang(fmt.Sprintf("insert into d.t (id) values (%d)", 100+i)))
	}
	time.Sleep(300 * time.Millisecond)
	primary.ok(primary.Fence(primary.ctx(), true))
	for _, w := range writers {
		if err := <-w; err == nil {
			t.Error("a privileged write was acknowledged on the way to the fence")
		}
	}
	if got := primary.Observe(primary.ctx(), false).Log.ShutdownAt; at == "" || got != at {
		t.Errorf("the log went on from %s to %s", at, got)
	}
}

// A server starts without its event scheduler, and has it run again where it is
// primary: an event of a fresh copy must not write there.
func TestStartsWithoutScheduler(t *testing.T) {
	t.Parallel()
	_, primary, _ := newPair(t)
	conf, err := os.ReadFile(primary.cfg.ConfigFile)
	primary.ok(err)
	for _, line := range []string{"event_scheduler=1", "event-scheduler = ON", "event_scheduler"} {
		primary.ok(primary.Fence(primary.ctx(), true))
		primary.ok(primary.memory.SetFingerprint(rememberEvents, ""))
		primary.ok(os.WriteFile(primary.cfg.ConfigFile, append(slices.Clone(conf), "\n[mariadbd]\n"+line+"\n"...), 0o644))
		primary.ok(primary.Start(primary.ctx(), "replica"))
		if got, err := primary.text(primary.ctx(), "select @@global.event_scheduler"); err != nil || got != "OFF" {
			t.Errorf("%s: started with the scheduler %s %v", line, got, err)
		}
		primary.ok(primary.Start(primary.ctx(), "primary"))
		if got, err := primary.text(primary.ctx(), "select @@global.event_scheduler"); err != nil || got != "ON" {
			t.Errorf("%s: opened with the scheduler %s %v", line, got, err)
		}
	}
}
