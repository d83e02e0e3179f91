// Package bench measures Cross Twin against the bare server commands, side by
// side in one run. Nothing is asserted: each figure is printed with its limit,
// as a line "bench NAME VALUE UNIT limit LIMIT".
package bench

import (
	"context"
	"fmt"
	"os"
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

func TestMain(m *testing.M) { harness.Main(m, &binary) }

var binary string

func report(name string, value float64, unit string, limit float64) {
	fmt.Printf("bench %s %.3g %s limit %g\n", name, value, unit, limit)
}

// inFull has a world be as large as the demo's.
func inFull(o *demo.Options) { o.Small = false }

func newWorld(b *testing.B, cluster string) (*demo.Cluster, context.Context) {
	b.Helper()
	c, ctx := harness.World(b, binary, cluster, nil, inFull)
	if err := c.SeedAll(ctx, nil); err != nil {
		b.Fatal(err)
	}
	return c, ctx
}

const runs = 7

// byHand does a switchover with the servers' own programs or statements, as a
// careful person would who has prepared everything.
type byHand interface {
	// switchover moves the primary role to the other candidate and back in turn.
	switchover() error
}

// BenchmarkSwitchoverPause compares the write pause as one reconnecting writer
// feels it: switchovers by the service, then the same ones by hand on the same
// servers.
func BenchmarkSwitchoverPause(b *testing.B) {
	for _, c := range []string{demo.Bookings, demo.Cargo} {
		b.Run(c, func(b *testing.B) { switchoverPause(b, c) })
	}
}

func switchoverPause(b *testing.B, cluster string) {
	w, ctx := newWorld(b, cluster)
	load := w.Load(1, time.Millisecond)
	defer load.Stop()
	var ours, bare []float64
	measure := func(change func() error) float64 {
		if err := load.AwaitAcks(ctx, 200); err != nil {
			b.Fatal(err)
		}
		load.Reset()
		if err := change(); err != nil {
			b.Fatal(err)
		}
		if err := load.AwaitAcks(ctx, 100); err != nil {
			b.Fatal(err)
		}
		return load.Gap().Seconds() * 1000
	}
	for range runs {
		if err := w.Await(ctx, inStep); err != nil {
			b.Fatal(err)
		}
		ours = append(ours, measure(func() error {
			_, err := w.Operate(ctx, operation.Request{Kind: operation.Switchover}, nil)
			return err
		}))
	}
	v, err := w.Client.Cluster(ctx, w.Name)
	if err != nil {
		b.Fatal(err)
	}
	w.StopManagement()
	h, err := newHand(ctx, w, v.Primary)
	if err != nil {
		b.Fatal(err)
	}
	for range runs {
		bare = append(bare, measure(h.switchover))
	}
	slices.Sort(ours)
	slices.Sort(bare)
	fmt.Printf(
		"\nwrite pause of a switchover of %s (%s), ms, %d runs each (min / median / max)\n  by the service  %4.0f / "+
			"%4.0f / %4.0f\n  by hand         %4.0f / %4.0f / %4.0f\n", w.Name, w.Engine, runs,
		ours[0], ours[runs/2], ours[runs-1], bare[0], bare[runs/2], bare[runs-1])
	if w.Engine == position.EngineMariaDB {
		// In place it is so short that the limit is 100 ms, or 1.5 times the bare
		// statements, whichever is larger.
		report("switchover-pause-"+w.Engine, ours[runs/2], "ms", max(100, 1.5*bare[runs/2]))
		return
	}
	report("switchover-pause-"+w.Engine, ours[runs/2]/bare[runs/2], "ratio", 1.5)
}

func newHand(ctx context.Context, w *demo.Cluster, primary string) (byHand, error) {
	first, other, third := w.Server(primary), w.Servers[1], w.Servers[2]
	if first == other {
		other = w.Servers[0]
	}
	if w.Engine == position.EngineMariaDB {
		return newMariaDBHand(ctx, w, first, other, third)
	}
	return &postgresHand{ctx: ctx, primary: first, other: other, third: third}, nil
}

func inStep(v view.View) bool {
	for _, s := range v.Servers {
		if s.Health != view.InStep && s.Health != view.TakesWrites {
			return false
		}
	}
	return v.Operation == nil
}

const idleSeconds = 30

// BenchmarkIdle measures what watching three idle servers each second costs.
func BenchmarkIdle(b *testing.B) {
	for _, c := range []string{demo.Bookings, demo.Cargo} {
		b.Run(c, func(b *testing.B) { idle(b, c) })
	}
}

func idle(b *testing.B, cluster string) {
	w, ctx := newWorld(b, cluster)
	if err := w.Await(ctx, inStep); err != nil {
		b.Fatal(err)
	}
	time.Sleep(3 * time.Second) // the work of seeding is over
	pids := map[string]int{"service": w.ServicePID()}
	for _, s := range w.Servers {
		pids["agent "+s.Name] = w.AgentPID(s.Name)
	}
	before := map[string]float64{}
	for n, p := range pids {
		before[n] = cpuSeconds(b, p)
	}
	time.Sleep(idleSeconds * time.Second)
	cpu, mem := map[string]float64{}, map[string]float64{}
	for n, p := range pids {
		kind, _, _ := strings.Cut(n, " ")
		c, m := 100*(cpuSeconds(b, p)-before[n])/idleSeconds, residentMiB(b, p)
		fmt.Printf("  %-12s %.2f %% of a core, %.1f MiB\n", n, c, m)
		cpu[kind], mem[kind] = max(cpu[kind], c), max(mem[kind], m)
	}
	suffix := ""
	if w.Engine != position.EnginePostgres {
		suffix = "-" + w.Engine
	}
	reportDatabases(b, w, suffix)
	report("idle-service-cpu"+suffix, cpu["service"], "percent", 3)
	report("idle-service-memory"+suffix, mem["service"], "MiB", 60)
	report("idle-agent-cpu"+suffix, cpu["agent"], "percent", 1)
	report("idle-agent-memory"+suffix, mem["agent"], "MiB", 40)
}

// reportDatabases measures what the questions cost the idle databases: the
// processor time that each uses with and without watching.
func reportDatabases(b *testing.B, w *demo.Cluster, suffix string) {
	used := func() (out []float64) {
		before := make([]float64, len(w.Servers))
		for i, s := range w.Servers {
			before[i] = databaseSeconds(s)
		}
		time.Sleep(idleSeconds * time.Second)
		for i, s := range w.Servers {
			out = append(out, 100*(databaseSeconds(s)-before[i])/idleSeconds)
		}
		return out
	}
	with := used()
	watch(b, w, false)
	without := used()
	watch(b, w, true)
	worst := 0.0
	for i, s := range w.Servers {
		fmt.Printf("  %-12s %.2f %% of a core watched, %.2f %% not watched\n", "database "+s.Name, with[i], without[i])
		worst = max(worst, with[i]-without[i])
	}
	report("idle-database-cpu"+suffix, worst, "percent", 1)
}

// cpuSeconds reads user and system time of a process (proc(5), stat; the clock
// tick is 10 ms on Linux).
func cpuSeconds(b *testing.B, pid int) float64 {
	n, err := processorTime(pid)
	if err != nil {
		b.Fatal(err)
	}
	return n
}

func processorTime(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	f := strings.Fields(string(text)[strings.LastIndex(string(text), ")")+1:])
	user, _ := strconv.ParseFloat(f[11], 64)
	system, _ := strconv.ParseFloat(f[12], 64)
	return (user + system) / 100, nil
}

func residentMiB(b *testing.B, pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		b.Fatal(err)
	}
	for _, l := range strings.Split(string(text), "\n") {
		if v, ok := strings.CutPrefix(l, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(v)[0], 64)
			return kb / 1024
		}
	}
	b.Fatal("no VmRSS")
	return 0
}
