package cli

import (
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"crosstwin/internal/core/guard/simulation"
)

func (a *app) simulateSafetyCommand() *cobra.Command {
	var runs int
	var seed uint64
	var drift float64
	c := &cobra.Command{Use: "safety",
		Short: "For developers: play schedules of faults against the rules that keep one primary", Args: exactly(0),
		Hidden: true,
		Long: "For developers: play the machines of the permission to write against each other, under faults, and " +
			"check\nafter every event that no two servers can acknowledge writes. One run prints its timeline; of more, " +
			"the first\nthat breaks an invariant.\n\n    crosstwin simulate safety --seed 444\n" +
			"    crosstwin simulate safety --runs 10000",
		RunE: func(*cobra.Command, []string) error {
			if runs < 1 {
				return exitWith(2, "--runs has to be 1 or more")
			}
			if drift < 0 || drift >= 1 {
				return exitWith(2, "--drift has to be between 0 and 1")
			}
			return a.simulateSafety(seed, runs, drift)
		}}
	c.Flags().IntVar(&runs, "runs", 1, "how many schedules")
	c.Flags().Uint64Var(&seed, "seed", 0, "the first one's number; the same number plays the same schedule")
	c.Flags().Float64Var(&drift, "drift", 0.01,
		"how wrong the rate of a clock may be; the rules hold up to 0.01, and what lies beyond is for looking at")
	return c
}

func (a *app) simulateSafety(seed uint64, runs int, drift float64) error {
	if runs == 1 {
		c := simulation.Schedule(seed)
		c.Drift = drift
		r := simulation.Run(c)
		return a.simulated(r)
	}
	sum := simulation.Many(seed, runs, 0, drift)
	fmt.Fprintf(a.out, "%d runs: %d changes of the primary, %d events\n", sum.Runs, sum.Changes, sum.Events)
	for _, k := range slices.Sorted(maps.Keys(sum.ByKind)) {
		fmt.Fprintf(a.out, "  %6d disturbed: %v\n", sum.ByKind[k], k)
	}
	if sum.Broken != nil {
		return a.simulated(*sum.Broken)
	}
	fmt.Fprintln(a.out, "No invariant was broken.")
	return nil
}

// simulated prints one run.
func (a *app) simulated(r simulation.Result) error {
	fmt.Fprintf(a.out, "Seed %d: %v\n", r.Config.Seed, r.Config)
	for _, l := range r.Timeline {
		fmt.Fprintln(a.out, l)
	}
	if r.Violation != "" {
		return exitWith(1, "seed %d broke %s", r.Config.Seed, r.Violation)
	}
	fmt.Fprintf(a.out, "%d events, %d changes of the primary. No invariant was broken.\n", r.Events, r.Changes)
	return nil
}
