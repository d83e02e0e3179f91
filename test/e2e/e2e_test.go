// Package e2e drives the real binary on loopback against real servers: the
// service, the agents and the command line as a DBA uses them.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/internal/store"
)

// binary is built once for all tests.
var binary string

func TestMain(m *testing.M) {
	// Not below a private temporary directory: the databases' own user has to
	// reach it.
	dir, err := os.MkdirTemp("", "ct")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	binary = filepath.Join(dir, "crosstwin")
	if out, err := exec.Command("go", "build", "-o", binary, "crosstwin/cmd/crosstwin").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v: %s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// world is a running Skerry Line for one test.
type world struct {
	*demo.World
	t   *testing.T
	ctx context.Context
}

// newWorld builds a world and takes it down with the test. seeded makes
// replicas of its empty servers.
func newWorld(t *testing.T, seeded bool) *world {
	t.Helper()
	if _, err := os.Stat("/usr/lib/postgresql/15/bin/postgres"); err != nil {
		t.Fatal("PostgreSQL 15 is missing: make test installs it")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	t.Cleanup(cancel)
	dir, err := os.MkdirTemp("", "ctw")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	w, err := demo.Build(ctx, demo.Options{Dir: filepath.Join(dir, "w"), Binary: binary})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if t.Failed() {
			keepLogs(t, w.Dir)
		}
		w.Stop()
	})
	if seeded {
		if err := w.SeedAll(ctx, nil); err != nil {
			t.Fatal(err)
		}
	}
	return &world{w, t, ctx}
}

// keepLogs prints the ends of all logs of a world whose test failed.
func keepLogs(t *testing.T, dir string) {
	for _, pattern := range []string{"service.log", "*/agent.log", "*/postgresql.log"} {
		files, _ := filepath.Glob(filepath.Join(dir, pattern))
		for _, f := range files {
			b, _ := os.ReadFile(f)
			lines := strings.Split(string(b), "\n")
			kept := lines[:0]
			for _, l := range lines {
				if !strings.Contains(l, "msg=request") {
					kept = append(kept, l)
				}
			}
			t.Logf("--- %s\n%s", f, strings.Join(kept[max(0, len(kept)-12):], "\n"))
		}
	}
}

// run runs the command line and gives what it printed and its exit code.
func (w *world) run(args ...string) (stdout, stderr string, code int) {
	w.t.Helper()
	c := exec.CommandContext(w.ctx, binary, args...)
	home := filepath.Join(w.Dir, "home")
	c.Env = append(os.Environ(), "CROSSTWIN_SERVICE="+w.URL, "CROSSTWIN_TOKEN="+w.Token, "HOME="+home, "XDG_CONFIG_HOME="+home)
	var out, problems bytes.Buffer
	c.Stdout, c.Stderr = &out, &problems
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		w.t.Fatal(err)
	}
	return out.String(), problems.String(), c.ProcessState.ExitCode()
}

// must runs a command that has to end with code and say all of the words.
func (w *world) must(code int, words []string, args ...string) string {
	w.t.Helper()
	out, problems, got := w.run(args...)
	text := out + problems
	if got != code {
		w.t.Fatalf("crosstwin %s: exit code %d, want %d\n%s", strings.Join(args, " "), got, code, text)
	}
	for _, x := range words {
		// Long lines are broken for the reader.
		if !strings.Contains(strings.Join(strings.Fields(text), " "), x) {
			w.t.Fatalf("crosstwin %s does not say %q:\n%s", strings.Join(args, " "), x, text)
		}
	}
	return text
}

// operate carries out an operation that has to end with an outcome.
func (w *world) operate(outcome string, r plan.Request) store.Operation {
	w.t.Helper()
	op, err := w.Operate(w.ctx, r, nil)
	if op.Outcome != outcome {
		w.t.Fatalf("%s ended as %q, want %q: %v %s", r.Kind, op.Outcome, outcome, err, op.Message)
	}
	return op
}

// settled waits until one server takes writes and all others are in step, and
// looks at every server itself: exactly one may be writable.
func (w *world) settled() view.View {
	w.t.Helper()
	var last view.View
	err := w.Await(w.ctx, func(v view.View) bool {
		last = v
		for _, s := range v.Servers {
			if s.Health != view.InStep && s.Health != view.TakesWrites {
				return false
			}
		}
		return v.Operation == nil
	})
	if err != nil {
		w.t.Fatalf("%v\n%+v", err, last.Problems)
	}
	if n := w.writable(); n != 1 {
		w.t.Fatalf("%d servers take writes", n)
	}
	return last
}

// writable counts the servers that a superuser can write to, by trying.
func (w *world) writable() (n int) {
	for _, s := range w.Servers {
		if w.tryWrite(s) == nil {
			n++
		}
	}
	return n
}

func (w *world) tryWrite(s *demo.Server) error {
	ctx, cancel := context.WithTimeout(w.ctx, 5*time.Second)
	defer cancel()
	c, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "set default_transaction_read_only = off; create temp table probe(); select txid_current()")
	return err
}

// sql runs statements as superuser on a server.
func (w *world) sql(server, sql string, args ...any) {
	w.t.Helper()
	c, err := pgx.Connect(w.ctx, w.Server(server).SuperuserURI)
	if err != nil {
		w.t.Fatal(err)
	}
	defer c.Close(w.ctx)
	if _, err := c.Exec(w.ctx, sql, args...); err != nil {
		w.t.Fatalf("%s: %s: %v", server, sql, err)
	}
}

// query gives one text from a server.
func (w *world) query(server, sql string) string {
	w.t.Helper()
	c, err := pgx.Connect(w.ctx, w.Server(server).SuperuserURI)
	if err != nil {
		w.t.Fatal(err)
	}
	defer c.Close(w.ctx)
	var s string
	if err := c.QueryRow(w.ctx, sql).Scan(&s); err != nil {
		w.t.Fatalf("%s: %s: %v", server, sql, err)
	}
	return s
}

// holdsAll checks that no acknowledged booking is missing on any server, but
// for those that are known to be lost, and that the data's promise holds.
func (w *world) holdsAll(l *demo.Workload, lost []string, servers ...string) {
	w.t.Helper()
	known := map[string]bool{}
	for _, r := range lost {
		known[r] = true
	}
	acked := l.Acked()
	if len(acked) == 0 {
		w.t.Fatal("the workload got nothing acknowledged")
	}
	for _, n := range servers {
		missing := []string{}
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			all, err := demo.Missing(w.ctx, w.Server(n), acked)
			if err != nil {
				w.t.Fatal(err)
			}
			missing = missing[:0]
			for _, m := range all {
				if !known[m] {
					missing = append(missing, m)
				}
			}
			if len(missing) == 0 || time.Now().After(end) {
				break
			}
		}
		if len(missing) > 0 {
			w.t.Fatalf("%d acknowledged bookings are missing on %s: %v", len(missing), n, missing[:min(3, len(missing))])
		}
		if bookings, seats, err := demo.Promise(w.ctx, w.Server(n)); err != nil || bookings != seats {
			w.t.Fatalf("%s: %d bookings, %d seats sold, %v", n, bookings, seats, err)
		}
	}
}

// crash kills the primary with kill -9, after it has acknowledged some writes
// that its replicas did not get when withTail is set.
func (w *world) crash(l *demo.Workload, primary string, withTail bool) {
	w.t.Helper()
	s := w.Server(primary)
	if withTail {
		demo.FreezeSenders(s)
		ctx, cancel := context.WithTimeout(w.ctx, 20*time.Second)
		defer cancel()
		if err := l.AwaitAcks(ctx, 5); err != nil {
			w.t.Fatal(err)
		}
	}
	demo.KillDatabase(s)
	if err := w.Await(w.ctx, func(v view.View) bool { return v.Find(primary).Health == view.Stopped }); err != nil {
		w.t.Fatal(err)
	}
}
