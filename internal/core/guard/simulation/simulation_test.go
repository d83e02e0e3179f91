package simulation

import (
	"os"
	"slices"
	"strconv"
	"testing"

	"crosstwin/internal/core/guard"
)

// runs is how many schedules are played: CROSSTWIN_SIMULATIONS of them, a few hundred
// by default.
func runs(t *testing.T) int {
	n, err := strconv.Atoi(os.Getenv("CROSSTWIN_SIMULATIONS"))
	if os.Getenv("CROSSTWIN_SIMULATIONS") == "" {
		return 300
	}
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestAllRules(t *testing.T) {
	sum := Many(0, runs(t), 0, 0)
	if r := sum.Broken; r != nil {
		for _, l := range r.Timeline {
			t.Log(l)
		}
		t.Fatalf("seed %d, %v: %s", r.Config.Seed, r.Config, r.Violation)
	}
	if sum.Changes < sum.Runs {
		t.Errorf("only %d changes of the primary in %d runs", sum.Changes, sum.Runs)
	}
	t.Logf("%d runs, %d events, %d changes of the primary", sum.Runs, sum.Events, sum.Changes)
}

func TestARunCanBeRepeated(t *testing.T) {
	for seed := range uint64(10) {
		a, b := Run(Schedule(seed)), Run(Schedule(seed))
		if !slices.Equal(a.Timeline, b.Timeline) || a.Events != b.Events {
			t.Errorf("seed %d played two different runs", seed)
		}
	}
}

// missed are schedules that break an invariant once a rule is left out. A change of the
// schedules may make another one the first.
var missed = map[guard.Rule]uint64{
	guard.RecordsFirst: 25, guard.GrantOfNoted: 5, guard.PromoteOfNoted: 16, guard.FromTheNonce: 8,
	guard.ForTheProcess: 257, guard.Majority: 2590, guard.OthersPast: 17, guard.PromiseCounts: 1, guard.NonceRuns: 105,
	guard.NoPledge: 4, guard.OwnRank: 84, guard.WholeSet: 175, guard.DropsAll: 3, guard.DeadmanFirst: 19,
	guard.SeenStopped: 3, guard.ProofOfTerm: 127, guard.NoQuestionsYet: 9, guard.AskAll: 1, guard.FromTheQuestion: 67,
	guard.NotBelow: 222, guard.PledgesOfTerm: 132, guard.DeadmanTold: 58, guard.DeadmanStops: 24,
	guard.StartsShut: 1, guard.EligibleLast: 576, guard.LostIsNever: 1, guard.VoidAtStart: 3, guard.StartWait: 90,
	guard.AllGranted: 2, guard.HeardMajority: 3443, guard.AdoptsHigher: 550,
}

// redundant are rules that no schedule misses, with what stands beside them. They are
// kept: what stands beside them may change.
var redundant = map[guard.Rule]string{
	guard.GrantOfOwner: "the service grants only to who says that it owns the term, and only an owner opens its database",
	guard.NewTerm:      "a second promotion in one term says the same, and its nonce has run out by then",
	guard.ProofToProcess: "a process counts a proof only under a term that it opened, and an earlier one's terms are " +
		"lower: whoever gave the proof has noted them",
	guard.ProofOfOther: "the owner's own permission is never waited for",
	guard.AcceptFirst:  "a promotion in an older term finds no majority that noted it",
	guard.VoteOfKnown: "it takes an older copy of the records, an owner that does not answer and a voter that forgot, " +
		"all at once: no schedule has that; TestVoteOfWhoForgot shows the hole",
	guard.NotWhileWriting: "nobody owns a higher term while this server may write, and a lower one gets no pledge",
}

// Each rule is needed: without it a schedule breaks an invariant. The table stands in
// the test's output.
func TestEachRuleIsMissed(t *testing.T) {
	for _, rule := range guard.Rules() {
		t.Run(rule.String(), func(t *testing.T) {
			seed, known := missed[rule]
			why, spare := redundant[rule]
			if known == spare {
				t.Fatal("is it missed, or redundant?")
			}
			if spare && os.Getenv("CROSSTWIN_SIMULATIONS") == "" {
				t.Log("redundant: " + why)
				return
			}
			if known {
				c := Schedule(seed)
				c.Omit = rule
				if r := Run(c); r.Violation != "" {
					t.Logf("missed by seed %d: %s", seed, r.Violation)
					return
				}
			}
			r := Many(0, 5000, rule, 0).Broken
			switch {
			case r != nil:
				t.Logf("missed by seed %d: %s", r.Config.Seed, r.Violation)
				if spare {
					t.Error("it is not redundant: " + why)
				}
			case spare:
				t.Log("redundant: " + why)
			default:
				t.Error("nothing is missed without it")
			}
		})
	}
}

// With a synchronous mode nothing that was acknowledged is ever missing on a new primary.
func TestSynchronousHolds(t *testing.T) {
	n := runs(t) / 4
	changes := 0
	for seed := range uint64(n) {
		r := synchronousRun(seed, "")
		if r.Violation != "" {
			for _, l := range r.Timeline {
				t.Log(l)
			}
			t.Fatalf("seed %d: %s", seed, r.Violation)
		}
		changes += r.Changes
	}
	if changes < n/2 {
		t.Errorf("only %d changes of the primary in %d runs", changes, n)
	}
	t.Logf("%d runs, %d changes of the primary", n, changes)
}

func synchronousRun(seed uint64, without SyncRule) Result {
	c := Schedule(seed)
	c.Synchronous, c.Without, c.Servers = true, without, max(3, c.Servers)
	return Run(c)
}

// missedSync are schedules that lose what was acknowledged once a rule is left out.
var missedSync = map[SyncRule]uint64{AsksEnough: 35, TakesFurthest: 5, DetachesFirst: 36, RecordedFirst: 445,
	TellsCandidate: 15}

// shownElsewhere are rules that no schedule misses: it takes more faults at one time than a
// schedule has.
var shownElsewhere = map[SyncRule]string{
	NarrowsWhen:   "synchronous.TestPromisesNeedTheirOrder misses it",
	OlderAreKnown: "synchronous.TestOlderLists shows the hole",
}

// Each of the rules of synchronous replication is needed.
func TestEachSynchronousRuleIsMissed(t *testing.T) {
	for _, rule := range SyncRules {
		t.Run(string(rule), func(t *testing.T) {
			seed, known := missedSync[rule]
			why, elsewhere := shownElsewhere[rule]
			if known == elsewhere {
				t.Fatal("is it missed here, or shown elsewhere?")
			}
			if elsewhere {
				t.Log(why)
				return
			}
			for ; seed < missedSync[rule]+1000; seed++ { // a change of the schedules makes another one the first
				if r := synchronousRun(seed, rule); r.Violation != "" {
					t.Logf("missed by seed %d: %s", seed, r.Violation)
					return
				}
			}
			t.Error("nothing is missed without it")
		})
	}
}
