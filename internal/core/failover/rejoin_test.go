package failover

import (
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// fencedGull is a cluster that took tern for its primary when gull crashed.
func fencedGull() Input {
	in := crashed()
	in.View.Primary, in.View.Policy.Automatic.Rejoin = "tern", cluster.RejoinWithoutTail
	in.gull().Health, in.gull().Cause = view.Fenced, cause.Cause{Code: cause.FencedByAgent}
	in.View.Servers[1].Health, in.View.Servers[2].Health = view.TakesWrites, view.InStep
	return in
}

func TestRejoins(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Input)
		apart  time.Duration
		want   Verdict
	}{
		"fenced":   {func(*Input) {}, time.Minute, Go},
		"just now": {func(*Input) {}, 9 * time.Second, Wait},
		"crashed": {func(in *Input) {
			in.gull().Health, in.gull().Cause.Code = view.Stopped, cause.Crashed
		}, time.Minute, Go},
		"deposed": {func(in *Input) {
			in.gull().Health, in.gull().Cause.Code = view.Stalled, cause.Deposed
		}, time.Minute, Go},
		"detached by hand": {func(in *Input) {
			in.gull().Health, in.gull().Cause.Code = view.Stalled, cause.FollowsNone
		}, time.Minute, Nothing},
		"its disk hangs": {func(in *Input) {
			in.gull().Health, in.gull().Cause.Code = view.Stopped, cause.Doomed
		}, time.Minute, Nothing},
		"stopped by hand": {func(in *Input) { in.gull().Cause.Code = cause.StoppedCleanly }, time.Minute, Nothing},
		"has a tail": {func(in *Input) { in.gull().Health, in.gull().Cause.Code = view.Adrift, cause.PastFork },
			time.Minute, Go},
		"was open without right": {func(in *Input) {
			in.gull().Health, in.gull().Cause.Code = view.Adrift, cause.PastFork
			in.gull().Observation.Data.Strayed = true
		}, time.Minute, Nothing},
		"foreign":      {func(in *Input) { in.gull().Observation.Data.Foreign = true }, time.Minute, Nothing},
		"a copy broke": {func(in *Input) { in.gull().Observation.Data.Unfinished = "seed" }, time.Minute, Nothing},
		"in step": {func(in *Input) {
			in.gull().Health, in.gull().Cause = view.InStep, cause.Cause{}
		}, time.Minute, Nothing},
		"never":           {func(in *Input) { in.View.Policy.Automatic.Rejoin = cluster.RejoinNever }, time.Minute, Nothing},
		"from before":     {func(in *Input) { in.View.Policy.Automatic.Rejoin = "" }, time.Minute, Nothing},
		"no primary":      {func(in *Input) { in.View.Servers[1].Health = view.TakesNoWrite }, time.Minute, Wait},
		"busy":            {func(in *Input) { in.View.Operation = &view.Running{ID: 1} }, time.Minute, Wait},
		"needs a person":  {func(in *Input) { in.WaitsForPerson = true }, time.Minute, Wait},
		"off for a while": {func(in *Input) { in.View.Policy.Automatic.OffUntil = now.Add(time.Hour) }, time.Minute, Wait},
		"maintenance":     {func(in *Input) { in.View.Policy.Maintenance.Until = now.Add(time.Hour) }, time.Minute, Wait},
		"is the primary":  {func(in *Input) { in.View.Primary = "gull" }, time.Minute, Nothing},
	} {
		in := fencedGull()
		c.change(&in)
		if d := Rejoins(in, in.gull(), c.apart); d.Verdict != c.want || d.Verdict == Go && len(d.Evidence) != 1 {
			t.Errorf("%s: %+v, want %s", name, d, c.want)
		}
	}
}

func TestAcceptsRejoin(t *testing.T) {
	by := func(way string, saves bool) *operation.Plan {
		p := &operation.Plan{Ways: []operation.Way{{Name: plan.WayFollow}, {Name: way, Chosen: true}}}
		if way != plan.WayFollow {
			p.Destroys = "the tail of gull"
		}
		if saves {
			p.Steps = append(p.Steps, operation.Step{Name: "salvage", Keep: verb.Fact{Kind: verb.FactTail}})
		}
		return p
	}
	for name, c := range map[string]struct {
		p               *operation.Plan
		without, saving bool
	}{
		"follows":                {by(plan.WayFollow, false), true, true},
		"rewinds":                {by(plan.WayRewind, true), false, true},
		"rewinds, saves nothing": {by(plan.WayRewind, false), false, false},
		"rebuilds":               {by(plan.WayRebuild, true), false, false},
		"no way":                 {&operation.Plan{}, false, false},
	} {
		for policy, want := range map[cluster.Rejoin]bool{cluster.RejoinWithoutTail: c.without,
			cluster.RejoinAfterSaving: c.saving} {
			if why := AcceptsRejoin(c.p, policy); (why == "") != want {
				t.Errorf("%s, %s: %q", name, policy, why)
			}
		}
	}
}

// What refused a rejoin is often over in a moment; what is not does not keep the servers busy.
func TestRejoinAgain(t *testing.T) {
	for refused, want := range map[int]time.Duration{1: 10 * time.Second, 2: 20 * time.Second, 4: 80 * time.Second,
		6: 5 * time.Minute, 1000: 5 * time.Minute} {
		if got := RejoinAgain(refused); got != want {
			t.Errorf("refused %d times: %s, not %s", refused, got, want)
		}
	}
}
