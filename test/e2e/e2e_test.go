// Package e2e drives the real binary on loopback against real servers: the
// service, the agents and the command line as a DBA uses them.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/test/harness"
)

// binary is built once for all tests.
var binary string

func TestMain(m *testing.M) { harness.Main(m, &binary) }

// world is one running cluster of the Skerry Line for one test. Tests speak of
// bookings with gull, tern and heron; on cargo the same test is carried out
// with its names (as).
type world struct {
	*demo.Cluster
	t     *testing.T
	ctx   context.Context
	names *strings.Replacer
}

// engines runs a test on a cluster of each engine: the engines' own code is what it tries.
func engines(t *testing.T, seeded bool, do func(t *testing.T, w *world)) {
	enginesOf(t, []string{demo.Bookings, demo.Cargo}, seeded, do)
}

// anEngine runs a test on one of them, drawn anew in each run: it tries a rule of the service
// or the agent, whose way to each engine other tests go. "make chaos" has it run on both.
func anEngine(t *testing.T, seeded bool, do func(t *testing.T, w *world), more ...func(*demo.Options)) {
	enginesOf(t, drawn(t.Name()), seeded, do, more...)
}

// drawn picks the cluster on which a test is carried out.
func drawn(test string) []string { return harness.Drawn(test) }

// theOther is the cluster that is not drawn for a test, for one that shares its ground.
func theOther(test string) []string {
	d := drawn(test)
	if len(d) == 1 && d[0] == demo.Bookings {
		return []string{demo.Cargo}
	} else if len(d) == 1 {
		return []string{demo.Bookings}
	}
	return d
}

func enginesOf(t *testing.T, clusters []string, seeded bool, do func(t *testing.T, w *world),
	more ...func(*demo.Options)) {
	t.Parallel()
	for _, name := range clusters {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			do(t, newWorldOf(t, name, seeded, more...))
		})
	}
}

// newWorld builds the PostgreSQL cluster.
func newWorld(t *testing.T, seeded bool) *world { return newWorldOf(t, demo.Bookings, seeded) }

// newWorldOf builds a cluster and takes it down with the test. seeded makes
// replicas of its empty servers.
func newWorldOf(t *testing.T, cluster string, seeded bool, more ...func(*demo.Options)) *world {
	t.Helper()
	more = append(more, func(o *demo.Options) { o.Fencing = o.Fencing || allFenced })
	c, ctx := harness.World(t, binary, cluster, func(dir string) { keepLogs(t, dir) }, more...)
	n := c.Names()
	w := &world{c, t, ctx, strings.NewReplacer("bookings", c.Name, "gull", n[0], "tern", n[1], "heron", n[2])}
	if seeded {
		if err := c.SeedAll(ctx, nil); err != nil {
			t.Fatal(err)
		}
		if allFenced {
			w.must(0, nil, "cluster", "set", "bookings", "--fencing", "on")
			w.fenced()
		}
	}
	return w
}

// allFenced has every world that begins with replicas begin with fencing as well: not part
// of CI, and tests of what only clusters without it say fail then.
var allFenced = os.Getenv("CROSSTWIN_FENCED") != ""

// as returns a text with this cluster's names.
func (w *world) as(s string) string { return w.names.Replace(s) }

// mariadb reports whether this is the cluster of the second engine.
func (w *world) mariadb() bool { return w.Engine == position.EngineMariaDB }

// server and find take the names of bookings.
func (w *world) server(name string) *demo.Server            { return w.Server(w.as(name)) }
func (w *world) find(v view.View, name string) *view.Server { return v.Find(w.as(name)) }

// keepLogs prints the ends of all logs of a world whose test failed.
func keepLogs(t *testing.T, dir string) {
	for _, pattern := range []string{"service.log", "*/agent.log", "*/deadman.log", "*/database.log"} {
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
			from, to := max(0, len(kept)-12), len(kept)
			// A server that crashed says why first, and a lot after it.
			if i := slices.IndexFunc(kept, func(l string) bool { return strings.Contains(l, "got signal") }); i >= 0 {
				from, to = max(0, i-10), min(len(kept), i+60)
			}
			t.Logf("--- %s\n%s", f, strings.Join(kept[from:to], "\n"))
		}
	}
}

// run runs the command line and gives what it printed and its exit code.
func (w *world) run(args ...string) (stdout, stderr string, code int) {
	w.t.Helper()
	for i := range args {
		args[i] = w.as(args[i])
	}
	ctx, cancel := context.WithTimeout(w.ctx, waitLimit)
	defer cancel()
	c := exec.CommandContext(ctx, binary, args...)
	home := filepath.Join(w.Dir, "home")
	c.Env = append(os.Environ(), "CROSSTWIN_SERVICE="+w.URL, "CROSSTWIN_TOKEN="+w.Token, "HOME="+home,
		"XDG_CONFIG_HOME="+home)
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
		if x = w.as(x); !strings.Contains(strings.Join(strings.Fields(text), " "), x) {
			w.t.Fatalf("crosstwin %s does not say %q:\n%s", strings.Join(args, " "), x, text)
		}
	}
	return text
}

// says runs a command until all words are in what it prints: a state comes
// about in steps, and each of them is a true answer.
func (w *world) says(words []string, args ...string) string {
	w.t.Helper()
	out := ""
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		var code int
		if out, _, code = w.run(args...); code != 0 {
			continue
		}
		text, all := strings.Join(strings.Fields(out), " "), true
		for _, x := range words {
			all = all && strings.Contains(text, w.as(x))
		}
		if all {
			return out
		}
	}
	w.t.Fatalf("crosstwin %s does not come to say %q:\n%s", strings.Join(args, " "), words, out)
	return ""
}

// operate carries out an operation that has to end with an outcome.
func (w *world) operate(outcome operation.Outcome, r operation.Request) operation.Operation {
	w.t.Helper()
	r.Server, r.To = w.as(r.Server), w.as(r.To)
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

// writable counts the servers that can be written to, by trying.
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
	return s.Writable(ctx)
}

// waitLimit bounds one command or statement.
const waitLimit = 4 * time.Minute

// sql runs statements as administrator on a server, all in one session.
func (w *world) sql(server string, statements ...string) {
	w.t.Helper()
	db, err := w.server(server).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(w.ctx, waitLimit)
	defer cancel()
	c, err := db.Conn(ctx)
	if err != nil {
		w.t.Fatal(err)
	}
	defer c.Close()
	for _, s := range statements {
		if _, err := c.ExecContext(ctx, s); err != nil {
			w.t.Fatalf("%s: %s: %v", server, s, err)
		}
	}
}

// query returns one text from a server.
func (w *world) query(server, query string) string {
	w.t.Helper()
	db, err := w.server(server).Open()
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(w.ctx, waitLimit)
	defer cancel()
	var s string
	if err := db.QueryRowContext(ctx, query).Scan(&s); err != nil {
		w.t.Fatalf("%s: %s: %v", server, query, err)
	}
	return s
}

// holdsAll checks that no acknowledged write is missing on any server, but
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
			all, err := w.server(n).Missing(w.ctx, acked)
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
			w.t.Fatalf("%d acknowledged writes are missing on %s: %v", len(missing), n, missing[:min(3, len(missing))])
		}
		if err := w.server(n).Promise(w.ctx); err != nil {
			w.t.Fatal(err)
		}
	}
}

// crash kills the primary with kill -9, after it has acknowledged some writes
// that its replicas did not get when withTail is set.
func (w *world) crash(l *demo.Workload, primary string, withTail bool) {
	w.t.Helper()
	s := w.server(primary)
	if withTail {
		if err := s.Starve(w.ctx); err != nil {
			w.t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(w.ctx, 20*time.Second)
		defer cancel()
		if err := l.AwaitAcks(ctx, 5); err != nil {
			w.t.Fatal(err)
		}
	}
	demo.KillDatabase(s)
	if err := w.Await(w.ctx, func(v view.View) bool { return w.find(v, primary).Health == view.Stopped }); err != nil {
		w.t.Fatal(err)
	}
}
