package bench

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
	"crosstwin/test/harness"
)

// newFencedWorld is a world with deadmen, in which fencing is on.
func newFencedWorld(b *testing.B, name string) (*demo.Cluster, context.Context) {
	b.Helper()
	w, ctx := harness.World(b, binary, name, nil, inFull, func(o *demo.Options) { o.Fencing = true })
	if err := w.SeedAll(ctx, nil); err != nil {
		b.Fatal(err)
	}
	fence(ctx, b, w, true)
	return w, ctx
}

// fence switches fencing on or off and waits until it is so.
func fence(ctx context.Context, b *testing.B, w *demo.Cluster, on bool) {
	b.Helper()
	if err := w.SetPolicy(ctx, func(p *cluster.Policy) { p.Fencing = on }); err != nil {
		b.Fatal(err)
	}
	if err := w.Await(ctx, func(v view.View) bool {
		return (v.Permission != nil && v.Permission.Seconds > 0) == on && inStep(v)
	}); err != nil {
		b.Fatal(err)
	}
}

// BenchmarkIdleFencing measures what permissions add to the cost of three idle servers: the
// same servers with fencing and without, in turn.
func BenchmarkIdleFencing(b *testing.B) {
	for _, c := range []string{demo.Bookings, demo.Cargo} {
		b.Run(c, func(b *testing.B) { idleFencing(b, c) })
	}
}

func idleFencing(b *testing.B, name string) {
	w, ctx := newFencedWorld(b, name)
	used := map[bool]map[string]float64{false: {}, true: {}}
	const rounds = 2
	for range rounds {
		for _, on := range []bool{false, true, true, false} {
			fence(ctx, b, w, on)
			time.Sleep(3 * time.Second)
			before := consumers(b, w)
			time.Sleep(idleSeconds / 2 * time.Second)
			for who, n := range consumers(b, w) {
				used[on][who] += 100 * (n - before[who]) / (2 * rounds * idleSeconds / 2)
			}
		}
	}
	for _, who := range []string{"service", "agents", "deadmen", "databases"} {
		fmt.Printf("  three servers of %s, %-9s  %.2f %% of a core with fencing, %.2f %% without\n", name, who,
			used[true][who], used[false][who])
		report("idle-fencing-"+who+"-"+w.Engine, used[true][who]-used[false][who], "percent", 1)
	}
}

// consumers is the processor time that each kind of process has used, in seconds.
func consumers(b *testing.B, w *demo.Cluster) map[string]float64 {
	n := map[string]float64{"service": cpuSeconds(b, w.ServicePID())}
	for _, s := range w.Servers {
		n["agents"] += cpuSeconds(b, w.AgentPID(s.Name))
		n["deadmen"] += cpuSeconds(b, w.DeadmanPID(s.Name))
		n["databases"] += databaseSeconds(s)
	}
	return n
}

// BenchmarkSwitchoverMode compares the write pause of switchovers with commits that wait for a
// replica and with commits that do not, as one reconnecting writer feels it.
func BenchmarkSwitchoverMode(b *testing.B) {
	for _, c := range []string{demo.Bookings, demo.Cargo} {
		b.Run(c, func(b *testing.B) { switchoverMode(b, c) })
	}
}

func switchoverMode(b *testing.B, name string) {
	w, ctx := newFencedWorld(b, name)
	load := w.Load(1, time.Millisecond)
	defer load.Stop()
	pauses := map[synchronous.Mode][]float64{}
	modes := []synchronous.Mode{synchronous.None, synchronous.One}
	for i := range 2 * runs {
		mode := modes[i%2]
		if i > 0 {
			if err := w.Synchronize(ctx, mode); err != nil {
				b.Fatal(err)
			}
		}
		fence(ctx, b, w, true)
		if err := load.AwaitAcks(ctx, 200); err != nil {
			b.Fatal(err)
		}
		load.Reset()
		if _, err := w.Operate(ctx, operation.Request{Kind: operation.Switchover}, nil); err != nil {
			b.Fatal(err)
		}
		if err := load.AwaitAcks(ctx, 100); err != nil {
			b.Fatal(err)
		}
		pauses[mode] = append(pauses[mode], load.Gap().Seconds()*1000)
	}
	for _, mode := range modes {
		p := pauses[mode]
		slices.Sort(p)
		fmt.Printf("  switchovers of %s with mode %-4s: writes paused for %.0f / %.0f / %.0f ms (min / median / max of %d)\n",
			w.Name, mode, p[0], p[runs/2], p[runs-1], runs)
	}
	report("switchover-synchronous-"+w.Engine, pauses[synchronous.One][runs/2]-pauses[synchronous.None][runs/2], "ms", 150)
}
