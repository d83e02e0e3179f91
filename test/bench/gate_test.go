package bench

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/test/harness"
)

// newGatedWorld makes a world whose servers take many connections, with one gate or with none.
func newGatedWorld(b *testing.B, name string, gated bool, connections int) (*demo.Cluster, context.Context) {
	b.Helper()
	w, ctx := harness.World(b, binary, name, nil, func(o *demo.Options) {
		o.Connections = connections
		if gated {
			o.Gates = []string{"quay"}
		}
	})
	if err := w.SeedAll(ctx, nil); err != nil {
		b.Fatal(err)
	}
	if err := w.Await(ctx, func(v view.View) bool {
		return inStep(v) && (!gated || v.Gates[0].Shows != nil && v.Gates[0].Shows.To == v.Primary)
	}); err != nil {
		b.Fatal(err)
	}
	return w, ctx
}

// writerAddress is where an application of the world writes.
func writerAddress(ctx context.Context, b *testing.B, w *demo.Cluster) string {
	b.Helper()
	if gates := w.Writers(); len(gates) > 0 {
		return gates[0]
	}
	v, err := w.Client.Cluster(ctx, w.Name)
	if err != nil {
		b.Fatal(err)
	}
	s := w.Server(v.Primary)
	return net.JoinHostPort(s.Host, strconv.Itoa(s.Port))
}

// application is the application's user, its password and its database.
func application(b *testing.B, w *demo.Cluster) (user, password, database string) {
	b.Helper()
	u, err := url.Parse(w.Servers[0].ApplicationURI)
	if err != nil {
		b.Fatal(err)
	}
	password, _ = u.User.Password()
	return u.User.Username(), password, strings.TrimPrefix(u.Path, "/")
}

// openSessions opens sessions that do nothing.
func openSessions(ctx context.Context, b *testing.B, w *demo.Cluster, address string, n int) (list []*sql.Conn,
	end func()) {
	b.Helper()
	user, password, database := application(b, w)
	driver, source := "pgx", fmt.Sprintf("postgresql://%s:%s@%s/%s", user, password, address, database)
	if w.Engine == position.EngineMariaDB {
		driver, source = "mysql", fmt.Sprintf("%s:%s@tcp(%s)/%s", user, password, address, database)
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		b.Fatal(err)
	}
	for range n {
		c, err := db.Conn(ctx)
		if err != nil {
			b.Fatalf("session %d of %d: %v", len(list), n, err)
		}
		list = append(list, c)
	}
	return list, func() {
		for _, c := range list {
			c.Close()
		}
		db.Close()
	}
}

const (
	gateRuns     = 10
	idleSessions = 300
)

// BenchmarkGatePause compares the write pause of switchovers as writers feel it that connect
// through a gate with what those feel that connect to the servers; 300 further sessions do nothing.
func BenchmarkGatePause(b *testing.B) {
	for _, name := range []string{demo.Bookings, demo.Cargo} {
		pauses := map[string][]float64{}
		for _, gated := range []bool{false, true} {
			b.Run(fmt.Sprintf("%s/%t", name, gated), func(b *testing.B) { gatePause(b, name, gated, pauses) })
		}
		for _, writers := range []string{"1", "8"} {
			direct, gate := pauses["false "+writers], pauses["true "+writers]
			if len(direct) > 0 && len(gate) > 0 {
				report("gate-pause-"+name+"-"+writers, gate[len(gate)/2]/direct[len(direct)/2], "ratio", 1.3)
			}
		}
	}
}

func gatePause(b *testing.B, name string, gated bool, pauses map[string][]float64) {
	w, ctx := newGatedWorld(b, name, gated, 500)
	var idle []*sql.Conn
	end := func() {}
	failed := 0
	for _, writers := range []int{1, 8} {
		load := w.Load(writers, time.Millisecond)
		key := fmt.Sprintf("%t %d", gated, writers)
		for range gateRuns {
			if idle == nil || !gated { // a switchover ends those at a server
				end()
				idle, end = openSessions(ctx, b, w, writerAddress(ctx, b, w), idleSessions)
			}
			if err := w.Await(ctx, inStep); err != nil {
				b.Fatal(err)
			}
			time.Sleep(3 * time.Second) // they do nothing
			load.Reset()
			if err := load.AwaitAcks(ctx, 200); err != nil {
				b.Fatal(err)
			}
			if _, err := w.Operate(ctx, operation.Request{Kind: operation.Switchover}, nil); err != nil {
				b.Fatal(err)
			}
			if err := load.AwaitAcks(ctx, 200); err != nil {
				b.Fatal(err)
			}
			pauses[key] = append(pauses[key], load.Gap().Seconds()*1000)
		}
		failed += load.Failed()
		load.Stop() // what is under way is broken off
		p := pauses[key]
		slices.Sort(p)
		fmt.Printf("  %s, through a gate: %t, %d writers, %d at rest: writes paused for %.0f / %.0f / %.0f ms (min / median "+
			"/ max of %d)\n", name, gated, writers, idleSessions, p[0], p[len(p)/2], p[len(p)-1], len(p))
	}
	if gated {
		dead := 0
		for _, c := range idle {
			if c.PingContext(ctx) != nil {
				dead++
			}
		}
		report("gate-failed-"+name, float64(failed), "transactions", 0)
		report("gate-dead-"+name, float64(dead), "sessions", 0)
	}
	end()
}

// BenchmarkGateCost compares what clients get done through a gate with what they get done at the
// server: the servers' own load programs, one short select after the other.
func BenchmarkGateCost(b *testing.B) {
	for _, name := range []string{demo.Bookings, demo.Cargo} {
		b.Run(name, func(b *testing.B) { gateCost(b, name) })
	}
}

func gateCost(b *testing.B, name string) {
	w, ctx := newGatedWorld(b, name, true, 200)
	s := w.Servers[0]
	addresses := []string{net.JoinHostPort(s.Host, strconv.Itoa(s.Port)), w.Writers()[0]}
	limits := map[int]float64{1: 0.45, 64: 0.55}
	for _, clients := range []int{1, 64} {
		var rates [2][]float64
		for range 3 {
			for i, a := range addresses {
				rates[i] = append(rates[i], selects(ctx, b, w, a, clients))
			}
		}
		var median [2]float64
		for i := range rates {
			slices.Sort(rates[i])
			median[i] = rates[i][1]
		}
		fmt.Printf("  %s, %d clients: %.0f selects/s at the server, %.0f through a gate\n", name, clients, median[0],
			median[1])
		report(fmt.Sprintf("gate-throughput-%s-%d", name, clients), median[1]/median[0], "ratio", limits[clients])
		if clients == 1 {
			limit := map[string]float64{demo.Bookings: 0.1, demo.Cargo: 0.15}[name]
			report("gate-latency-"+name, 1000/median[1]-1000/median[0], "ms", limit)
		}
	}
}

const selectSeconds = 5

// selects returns how many selects clients get done in a second.
func selects(ctx context.Context, b *testing.B, w *demo.Cluster, address string, clients int) float64 {
	b.Helper()
	user, password, database := application(b, w)
	host, port, _ := net.SplitHostPort(address)
	n := strconv.Itoa(clients)
	var c *exec.Cmd
	if w.Engine == position.EngineMariaDB {
		queries := map[int]int{1: 15000, 64: 100_000}[clients] // in this time it connects, too
		c = exec.CommandContext(ctx, "mariadb-slap", "--no-defaults", "--skip-ssl", "-h"+host, "-P"+port, "-u"+user,
			"-p"+password, "--create-schema="+database, "--no-drop", "--query=select * from containers where id = 17",
			"--concurrency="+n, "--number-of-queries="+strconv.Itoa(queries), "--delimiter=;")
		out, err := c.CombinedOutput()
		if err != nil {
			b.Fatalf("mariadb-slap: %v: %s", err, out)
		}
		return float64(queries) / found(b, `Average number of seconds to run all queries: ([0-9.]+)`, out)
	}
	script := filepath.Join(b.TempDir(), "select.sql")
	text := "\\set id random(1, 600)\nselect * from sailings where id = :id;\n"
	if err := os.WriteFile(script, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	c = exec.CommandContext(ctx, "pgbench", "-n", "-M", "prepared", "-c", n, "-j", "2", "-T",
		strconv.Itoa(selectSeconds), "-f", script, "-h", host, "-p", port, "-U", user, database)
	c.Env = append(os.Environ(), "PGPASSWORD="+password, "PGSSLMODE=disable")
	out, err := c.CombinedOutput()
	if err != nil {
		b.Fatalf("pgbench: %v: %s", err, out)
	}
	return found(b, `tps = ([0-9.]+)`, out)
}

func found(b *testing.B, pattern string, out []byte) float64 {
	b.Helper()
	m := regexp.MustCompile(pattern).FindSubmatch(out)
	if m == nil {
		b.Fatalf("no figure in %s", out)
	}
	x, err := strconv.ParseFloat(string(m[1]), 64)
	if err != nil {
		b.Fatal(err)
	}
	return x
}

// BenchmarkGateMemory measures what a gate needs for a session that does nothing.
func BenchmarkGateMemory(b *testing.B) {
	for name, n := range map[string]int{demo.Bookings: 1000, demo.Cargo: 5000} {
		b.Run(name, func(b *testing.B) {
			w, ctx := newGatedWorld(b, name, true, n+100)
			before := resident(b, w.Gates[0].PID())
			list, end := openSessions(ctx, b, w, w.Writers()[0], n)
			defer end()
			time.Sleep(5 * time.Second)
			after := resident(b, w.Gates[0].PID())
			for _, c := range list {
				if err := c.PingContext(ctx); err != nil {
					b.Fatal(err)
				}
			}
			fmt.Printf("  a gate with %d idle sessions of %s: %d MB\n", n, name, after>>10)
			report("gate-memory-"+name, float64(after-before)/float64(n), "kB", 40)
		})
	}
}

// resident is the memory that a process has, in kB.
func resident(b *testing.B, pid int) int {
	b.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		b.Fatal(err)
	}
	return int(found(b, `VmRSS:\s+([0-9]+) kB`, text))
}
