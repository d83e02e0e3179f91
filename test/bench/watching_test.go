package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/position"
	"crosstwin/internal/demo"
)

// BenchmarkWatching compares a load with and without watching: what is frozen
// asks nothing. Three agents and the service share the machine with the
// databases, which is more than a database's own host bears. The data is held in
// memory, because the speed of a shared disk swings by far more than what is
// looked for; the speed of the processor does too, so what watching itself takes
// of it is printed beside.
func BenchmarkWatching(b *testing.B) {
	for _, c := range []string{demo.Bookings, demo.Cargo} {
		b.Run(c, func(b *testing.B) { watching(b, c) })
	}
}

// A round is four neighbouring stretches: without, with, with, without, so that
// a steady drift (tables grow) takes nothing from either.
const watchingRounds, watchingSeconds = 25, 2

func watching(b *testing.B, cluster string) {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		b.Setenv("TMPDIR", "/dev/shm")
	}
	w, ctx := newWorld(b, cluster)
	if err := w.Await(ctx, inStep); err != nil {
		b.Fatal(err)
	}
	count := acknowledged(b, w)
	if w.Engine == position.EnginePostgres {
		count = pgbench(ctx, b, w.Servers[0])
	}
	count(5)
	var ratios, rates, costs []float64
	for range watchingRounds {
		var got [2]float64
		for _, with := range []bool{false, true, true, false} {
			watch(b, w, with)
			time.Sleep(time.Second) // those who go on have questions waiting for them
			before, began := watchersSeconds(b, w), time.Now()
			rate := count(watchingSeconds)
			if with {
				got[1] += rate
				costs = append(costs, 100*(watchersSeconds(b, w)-before)/time.Since(began).Seconds())
			} else {
				got[0] += rate
			}
		}
		rates, ratios = append(rates, got[0]/2), append(ratios, got[1]/got[0])
	}
	watch(b, w, true)
	fmt.Printf(
		"\n%s under load, %.0f transactions a second on %d cores: watched / not watched over %d rounds, quartiles: %.3f "+
			"%.3f %.3f\n  three agents and the service took, median: %.2f %% of a core\n",
		cluster, at(rates, 0.5), runtime.NumCPU(), watchingRounds, at(ratios, 0.25), at(ratios, 0.5), at(ratios, 0.75),
		at(costs, 0.5))
	report("watching-"+w.Engine, at(ratios, 0.5), "ratio", 0.99)
}

// acknowledged counts what the world's own workload gets acknowledged, per
// second.
func acknowledged(b *testing.B, w *demo.Cluster) func(seconds int) float64 {
	load := w.Load(4, 0)
	b.Cleanup(load.Stop)
	return func(seconds int) float64 {
		before := len(load.Acked())
		time.Sleep(time.Duration(seconds) * time.Second)
		return float64(len(load.Acked())-before) / float64(seconds)
	}
}

var tps = regexp.MustCompile(`(?m)^tps = ([0-9.]+)`)

// pgbench has the server's own load generator measure, on tables of its own.
func pgbench(ctx context.Context, b *testing.B, s *demo.Server) func(seconds int) float64 {
	run := func(args ...string) string {
		args = append(args, "-h", s.SocketDir, "-p", strconv.Itoa(s.Port), "-U", "postgres", "postgres")
		out, err := exec.CommandContext(ctx, "/usr/lib/postgresql/15/bin/pgbench", args...).CombinedOutput()
		if err != nil {
			b.Fatalf("pgbench on %s: %v: %s", s.Name, err, out)
		}
		return string(out)
	}
	run("-i", "-q", "-s", "5")
	return func(seconds int) float64 {
		out := run("-n", "-M", "prepared", "-c", "4", "-j", "1", "-T", strconv.Itoa(seconds))
		m := tps.FindStringSubmatch(out)
		if m == nil {
			b.Fatalf("pgbench says no rate: %s", out)
		}
		v, _ := strconv.ParseFloat(m[1], 64)
		return v
	}
}

// watchersSeconds is the processor time that agents and service have used.
func watchersSeconds(b *testing.B, w *demo.Cluster) float64 {
	n := cpuSeconds(b, w.ServicePID())
	for _, s := range w.Servers {
		n += cpuSeconds(b, w.AgentPID(s.Name))
	}
	return n
}

// databaseSeconds is the processor time that a server's processes have used;
// each works in its data directory.
func databaseSeconds(s *demo.Server) (n float64) {
	all, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, f := range all {
		if dir, err := os.Readlink(f); err == nil && dir == s.DataDir {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
			t, _ := processorTime(pid) // a short-lived one may be gone
			n += t
		}
	}
	return n
}

// watch lets agents and service go on, or freezes them.
func watch(b *testing.B, w *demo.Cluster, on bool) {
	b.Helper()
	sig := syscall.SIGSTOP
	if on {
		sig = syscall.SIGCONT
	}
	pids := []int{w.ServicePID()}
	for _, s := range w.Servers {
		pids = append(pids, w.AgentPID(s.Name))
	}
	for _, p := range pids {
		if err := syscall.Kill(p, sig); err != nil {
			b.Fatal(err)
		}
	}
}
