package e2e

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Applications connect to gates and never learn of servers: switchovers fail none of their
// transactions, sessions that do nothing live through the loss of a server, and errors say whether
// to try again.
func TestGate(t *testing.T) {
	t.Parallel()
	for _, name := range []string{demo.Bookings, demo.Cargo} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorldOf(t, name, true, func(o *demo.Options) { o.Gates = demo.Gates })
			w.gatesLead("gull")
			w.must(0, []string{"quay", "pier", "answers", w.Writers()[0], w.Readers()[1]}, "gate", "list", "bookings")
			w.must(2, []string{"has no gate \"mole\""}, "gate", "show", "bookings", "mole")
			w.must(2, []string{"is a gate of"}, "server", "show", "bookings", "quay")
			w.must(0, []string{"0 warn, 0 fail", "gate quay reaches", "may log in at"}, "check", "bookings", "--for", "gate")
			w.readsReplicas()
			w.wrongLogins()
			w.likeDirectly()
			w.readsPrimary()
			load := w.Load(4, 2*time.Millisecond)
			defer load.Stop()
			w.switchedOverUnderLoad(load)
			w.drained(load)
			w.overTheLimit()
			w.lostServer(load)
			load.Stop()
			w.holdsAll(load, nil, "tern", "heron")
			w.notAcknowledged()
			w.removedGate()
		})
	}
}

// gatesLead waits until all gates lead writers to a server.
func (w *world) gatesLead(server string) {
	w.t.Helper()
	w.await(func(v view.View) bool {
		for _, g := range v.Gates {
			if !g.Answers || g.Shows == nil || g.Shows.To != w.as(server) {
				return false
			}
		}
		return len(v.Gates) == len(demo.Gates)
	})
}

// through opens one session through a gate's address.
func (w *world) through(address string) (*sql.Conn, func()) {
	w.t.Helper()
	c, close, err := w.tryThrough(address, "")
	if err != nil {
		w.t.Fatal(err)
	}
	return c, close
}

// tryThrough logs in with another password, where one is given.
func (w *world) tryThrough(address, password string) (*sql.Conn, func(), error) {
	w.t.Helper()
	u, err := url.Parse(w.server("gull").ApplicationURI)
	if err != nil {
		w.t.Fatal(err)
	}
	if password != "" {
		u.User = url.UserPassword(u.User.Username(), password)
	}
	u.Host = address
	driver, source := "pgx", u.String()
	if w.mariadb() {
		p, _ := u.User.Password()
		driver, source = "mysql", fmt.Sprintf("%s:%s@tcp(%s)%s?tls=skip-verify", u.User.Username(), p, address, u.Path)
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		w.t.Fatal(err)
	}
	c, err := db.Conn(w.ctx)
	return c, func() {
		if c != nil {
			c.Close()
		}
		db.Close()
	}, err
}

// code is the SQLSTATE, or the number, of an error.
func code(err error) string {
	var pg *pgconn.PgError
	var my *mysql.MySQLError
	switch {
	case errors.As(err, &pg):
		return pg.Code
	case errors.As(err, &my):
		return fmt.Sprint(my.Number)
	}
	return fmt.Sprint(err)
}

// one asks for one value.
func one(ctx context.Context, c *sql.Conn, query string, args ...any) string {
	ctx, cancel := context.WithTimeout(ctx, waitLimit)
	defer cancel()
	var s sql.NullString
	if err := c.QueryRowContext(ctx, query, args...).Scan(&s); err != nil {
		return code(err)
	}
	return s.String
}

// askPort asks a session at which port its server is.
func (w *world) askPort(c *sql.Conn) string {
	if w.mariadb() {
		return one(w.ctx, c, "select @@port")
	}
	return one(w.ctx, c, "select inet_server_port()")
}

// readsReplicas: readers are led to replicas, both of them.
func (w *world) readsReplicas() {
	seen := map[string]bool{}
	var open []func()
	w.await(func(view.View) bool { // a replica that was just added has to be in step
		for _, a := range w.Readers() {
			c, close := w.through(a)
			open = append(open, close)
			seen[w.askPort(c)] = true
		}
		return len(seen) >= 2
	})
	for _, close := range open {
		close()
	}
	for _, n := range []string{"tern", "heron"} {
		if !seen[fmt.Sprint(w.server(n).Port)] {
			w.t.Errorf("no reader of 4 was led to %s: %v", n, seen)
		}
	}
	if seen[fmt.Sprint(w.server("gull").Port)] {
		w.t.Error("a reader was led to the primary")
	}
}

// readsPrimary: while no replica is fit, readers are led to the primary only if the policy says so,
// and back once one is.
func (w *world) readsPrimary() {
	w.t.Helper()
	c, close := w.through(w.Readers()[0])
	defer close()
	w.must(2, []string{"up to 20 s"}, "cluster", "set", "bookings", "--gate-limit-seconds", "21")
	w.must(0, nil, "cluster", "set", "bookings", "--gate-primary-reads", "on")
	w.must(0, []string{"readers go to the primary"}, "cluster", "show", "bookings")
	at := func(primary bool) func(view.View) bool {
		return func(view.View) bool {
			return (w.askPort(c) == fmt.Sprint(w.server("gull").Port)) == primary
		}
	}
	w.await(at(false))
	for _, hidden := range []bool{true, false} {
		for _, s := range []string{"tern", "heron"} {
			w.must(0, nil, "server", "set", "bookings", s, fmt.Sprintf("--hidden=%t", hidden))
		}
		w.await(at(hidden))
	}
	w.must(0, nil, "cluster", "set", "bookings", "--gate-primary-reads", "off")
}

// wrongLogins: a gate lets nobody in who does not know the password.
func (w *world) wrongLogins() {
	want := "28P01"
	if w.mariadb() {
		want = "1045"
	}
	if _, close, err := w.tryThrough(w.Writers()[0], "guessed"); code(err) != want {
		w.t.Errorf("a wrong password: %v", err)
		close()
	}
}

// switchedOverUnderLoad: writers, sessions at rest and newcomers go through two switchovers, and none of them
// is told anything.
func (w *world) switchedOverUnderLoad(load *demo.Workload) {
	w.t.Helper()
	var idle []*sql.Conn
	for i := range 6 {
		c, close := w.through(w.Writers()[i%2])
		defer close()
		w.remember(c, i)
		idle = append(idle, c)
	}
	if err := load.AwaitAcks(w.ctx, 50); err != nil {
		w.t.Fatal(err)
	}
	hasty := w.hasty()
	stop := make(chan struct{})
	newcomers := make(chan error, 1)
	go func() { newcomers <- w.newcomers(stop) }()
	whole := w.longTransactions(4)
	for i, to := range []string{"tern", "gull"} {
		w.must(0, []string{"Sessions at gates"}, "check", "bookings", "--for", "switchover")
		op := w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: w.as(to)})
		told := false
		for _, e := range op.Journal {
			told = told || strings.HasPrefix(e.Text, "gates: ")
		}
		if !told {
			w.t.Errorf("the journal says nothing of the gates: %+v", op.Journal)
		}
		for n, c := range idle {
			if got, want := w.remembered(c, n), fmt.Sprintf("%d kept", n); got != want {
				w.t.Errorf("switchover %d: session %d remembers %q, want %q", i, n, got, want)
			}
		}
		if err := load.AwaitAcks(w.ctx, 50); err != nil {
			w.t.Fatal(err)
		}
	}
	close(stop)
	if err := <-newcomers; err != nil {
		w.t.Errorf("who connected during a switchover: %v", err)
	}
	whole()
	hasty()
	if n := load.Failed(); n > 0 {
		w.t.Errorf("%d transactions failed", n)
	}
	out := w.must(0, []string{"writer", "skerry"}, "gate", "sessions", "bookings", "quay")
	if !strings.Contains(out, "idle") {
		w.t.Errorf("no session at rest is shown:\n%s", out)
	}
}

// hasty opens a session whose statements may take less time than the gate's questions do. The
// function that it returns looks that it is there still, with that.
func (w *world) hasty() (kept func()) {
	w.t.Helper()
	c, close := w.through(w.Writers()[0])
	set, ask, want := "set statement_timeout = 1", "show statement_timeout", "1ms"
	if w.mariadb() {
		set, ask, want = "set max_statement_time = 0.0003", "select @@max_statement_time", "0.0003"
	}
	if _, err := c.ExecContext(w.ctx, set); err != nil {
		w.t.Fatal(err)
	}
	return func() {
		w.t.Helper()
		defer close()
		got := ""
		for range 20 { // it may well hit this statement
			if got = one(w.ctx, c, ask); got != "57014" && got != "1969" {
				break
			}
		}
		if got != want {
			w.t.Errorf("the time that a session gives its statements is %s after switchovers, not %s", got, want)
		}
	}
}

// notAcknowledged: a commit that waits for a replica and is ended by a gate is not told to be good,
// though the server says so to whoever cancels it.
func (w *world) notAcknowledged() {
	w.t.Helper()
	if err := w.Synchronize(w.ctx, synchronous.One); err != nil {
		w.t.Fatal(err)
	}
	c, close := w.through(w.Writers()[0])
	defer close()
	word := map[bool]string{false: "walreceiver", true: "mariadbd"}[w.mariadb()]
	for _, s := range []string{"tern", "heron"} {
		pid := w.databaseProcess(s, word)
		syscall.Kill(pid, syscall.SIGSTOP)
		defer syscall.Kill(pid, syscall.SIGCONT)
	}
	ended := make(chan error, 1)
	go func() {
		_, err := c.ExecContext(w.ctx, "insert into voyage values (0, 1)")
		ended <- err
	}()
	w.await(func(view.View) bool {
		out, _, _ := w.run("gate", "sessions", "bookings", "quay")
		return strings.Contains(out, "busy")
	})
	w.must(0, nil, "gate", "drain", "--dir", w.Gates[0].Dir, "--limit", "1s")
	unknown := map[bool]string{false: "08007", true: "1927"}[w.mariadb()]
	if err := <-ended; err == nil || code(err) != unknown {
		w.t.Errorf("a commit that no replica has was told %v, want %s", err, unknown)
	}
}

// newcomers connect again and again, and ask one thing.
func (w *world) newcomers(stop chan struct{}) error {
	for {
		select {
		case <-stop:
			return nil
		default:
		}
		c, close, err := w.tryThrough(w.Writers()[1], "")
		if err == nil {
			if got := one(w.ctx, c, "select 17"); got != "17" {
				err = errors.New(got)
			}
		}
		close()
		if err != nil {
			return err
		}
	}
}

// remember has a session hold something of its own; remembered asks for it.
func (w *world) remember(c *sql.Conn, i int) {
	w.t.Helper()
	list := []string{fmt.Sprintf("set work_mem = '%dMB'", 5+i), fmt.Sprintf("set skerry.deck = '%d'", i),
		"prepare deck as select current_setting('skerry.deck') || case when current_setting('work_mem') = '" +
			fmt.Sprint(5+i) + "MB' then ' kept' else ' lost' end"}
	if w.mariadb() {
		list = []string{fmt.Sprintf("set @deck = '%d ', session max_heap_table_size = %d", i, 32768+1024*i)}
	}
	for _, sql := range list {
		if _, err := c.ExecContext(w.ctx, sql); err != nil {
			w.t.Fatal(err)
		}
	}
}

func (w *world) remembered(c *sql.Conn, i int) string {
	if w.mariadb() {
		return one(w.ctx, c, fmt.Sprintf("select concat(@deck, if(@@max_heap_table_size = %d, 'kept', 'lost'))",
			32768+1024*i))
	}
	return one(w.ctx, c, "execute deck")
}

// retry is the code that tells a client to try again.
func (w *world) retry() string {
	if w.mariadb() {
		return "1213"
	}
	return "40001"
}

// lasting is a statement that takes a while.
func (w *world) lasting() string {
	if w.mariadb() {
		return "select sleep(30)"
	}
	return "select pg_sleep(30)"
}

// overTheLimit: a transaction that is longer than the limit is cut, its client told to try again,
// and its session lives on, whether it waits for its client or for its server.
func (w *world) overTheLimit() {
	w.t.Helper()
	waits, close := w.through(w.Writers()[0])
	defer close()
	runs, close2 := w.through(w.Writers()[0])
	defer close2()
	for i, c := range []*sql.Conn{waits, runs} {
		w.remember(c, i)
		if _, err := c.ExecContext(w.ctx, "begin"); err != nil {
			w.t.Fatal(err)
		}
	}
	ended := make(chan string, 1)
	go func() { ended <- one(w.ctx, runs, w.lasting()) }()
	w.await(func(v view.View) bool {
		out, _, _ := w.run("gate", "sessions", "bookings", "quay")
		return strings.Contains(out, "busy") && strings.Contains(out, "in a transaction")
	})
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover, To: w.as("tern")})
	if got := <-ended; got != w.retry() {
		w.t.Errorf("a statement that ran too long: %s", got)
	}
	if got := one(w.ctx, waits, "select 1"); got != w.retry() {
		w.t.Errorf("a transaction that was open too long: %s", got)
	}
	for i, c := range []*sql.Conn{waits, runs} {
		if _, err := c.ExecContext(w.ctx, "rollback"); err != nil {
			w.t.Errorf("after the cut: %v", err)
		}
		if got, want := w.remembered(c, i), fmt.Sprintf("%d kept", i); got != want {
			w.t.Errorf("after the cut session %d remembers %q", i, got)
		}
	}
}

// lostServer: the primary is killed. Who rests goes on with what the session held; who is in a
// transaction is told to try again; of a statement under way nobody claims to know.
func (w *world) lostServer(load *demo.Workload) {
	w.t.Helper()
	rests, close := w.through(w.Writers()[0])
	defer close()
	inside, close2 := w.through(w.Writers()[0])
	defer close2()
	runs, close3 := w.through(w.Writers()[0])
	defer close3()
	for i, c := range []*sql.Conn{rests, inside} {
		w.remember(c, i)
	}
	w.await(func(v view.View) bool {
		list, err := w.Client.GateSessions(w.ctx, w.Name, "quay")
		known := 0
		for _, s := range list.Sessions {
			if s.Portable && s.State == "idle" {
				known++
			}
		}
		return err == nil && known >= 3
	})
	if _, err := inside.ExecContext(w.ctx, "begin"); err != nil {
		w.t.Fatal(err)
	}
	ended := make(chan string, 1)
	go func() { ended <- one(w.ctx, runs, w.lasting()) }()
	w.await(func(v view.View) bool {
		out, _, _ := w.run("gate", "sessions", "bookings", "quay")
		return strings.Contains(out, "busy")
	})
	load.Stop() // what of its writes is not acknowledged may be there or not
	demo.KillDatabase(w.server("tern"))
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover, To: w.as("gull"),
		ConfirmStopped: []string{w.as("tern")}})
	unknown := map[bool]string{false: "08007", true: "1927"}[w.mariadb()]
	if got := <-ended; got != unknown {
		w.t.Errorf("a statement that was under way: %s, want %s", got, unknown)
	}
	if got := one(w.ctx, inside, "select 1"); got != w.retry() {
		w.t.Errorf("a transaction that was open: %s", got)
	}
	if _, err := inside.ExecContext(w.ctx, "rollback"); err != nil {
		w.t.Errorf("after the failover: %v", err)
	}
	for i, c := range []*sql.Conn{rests, inside} {
		if got, want := w.remembered(c, i), fmt.Sprintf("%d kept", i); got != want {
			w.t.Errorf("after the failover session %d remembers %q", i, got)
		}
	}
	w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: w.as("tern")})
}

// drained: a gate's process gives way to a new one while applications write and come; none is
// refused, and no transaction is cut off.
func (w *world) drained(load *demo.Workload) {
	w.t.Helper()
	stop := make(chan struct{})
	newcomers := make(chan error, 1)
	go func() { newcomers <- w.newcomers(stop) }()
	failed := load.Told()
	w.must(0, []string{"a new process serves"}, "gate", "drain", "--dir", w.Gates[1].Dir, "--limit", "20s")
	if err := load.AwaitAcks(w.ctx, 50); err != nil {
		w.t.Fatal(err)
	}
	close(stop)
	if err := <-newcomers; err != nil && !endedBetween(err) {
		w.t.Errorf("who connected while a gate gave way: %v", err)
	}
	for c, n := range load.Told() {
		if ended := map[string]bool{"57P01": true, "1927": true, "no answer": true}; n > failed[c] && !ended[c] {
			w.t.Errorf("%d transactions were told %s while a gate gave way", n-failed[c], c)
		}
	}
	w.gatesLead("gull")
}

// endedBetween: a session at rest was ended, which its driver finds when it uses it next.
func endedBetween(err error) bool {
	for _, s := range []string{"57P01", "1927", "bad connection", "invalid connection", "EOF", "closed", "reset"} {
		if strings.Contains(err.Error(), s) {
			return true
		}
	}
	return false
}

// removedGate: a gate that was removed is told nothing any more, and leads nobody.
func (w *world) removedGate() {
	w.t.Helper()
	w.must(0, nil, "server", "remove", "bookings", "pier", "--yes")
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		ctx, cancel := context.WithTimeout(w.ctx, time.Second)
		c, close, err := w.tryThrough(w.Writers()[1], "")
		if err == nil {
			err = c.PingContext(ctx)
		}
		close()
		cancel()
		if err != nil {
			return
		}
		if time.Now().After(end) {
			w.t.Fatal("a gate that was removed lets applications in")
		}
	}
}
