package simulation

import (
	"runtime"
	"sync"
	"sync/atomic"

	"crosstwin/internal/core/guard"
)

// Summary is what came of many runs.
type Summary struct {
	Runs    int
	Changes int // of the server that takes writes
	Events  int
	ByKind  map[Kind]int
	// Broken is the run of the lowest seed that broke an invariant, nil for none; no
	// further ones are begun then.
	Broken *Result
}

// Many runs the schedules of seeds from first on, side by side.
func Many(first uint64, runs int, omit guard.Rule, drift float64) Summary {
	var next atomic.Int64
	var mu sync.Mutex
	var wg sync.WaitGroup
	sum := Summary{ByKind: map[Kind]int{}}
	one := func() bool {
		i := next.Add(1) - 1
		mu.Lock()
		over := sum.Broken != nil || i >= int64(runs)
		mu.Unlock()
		if over {
			return false
		}
		c := Schedule(first + uint64(i))
		c.Omit, c.Drift = omit, drift
		r := Run(c)
		mu.Lock()
		defer mu.Unlock()
		sum.Runs++
		sum.Changes += r.Changes
		sum.Events += r.Events
		sum.ByKind[c.Kind]++
		if r.Violation != "" && (sum.Broken == nil || c.Seed < sum.Broken.Config.Seed) {
			sum.Broken = &r
		}
		return true
	}
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for one() {
			}
		})
	}
	wg.Wait()
	return sum
}
