package alert

import (
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/view"
)

// play shows a tracker one view a second, with a problem where the script has
// a mark, and gives at which seconds something was told: + raised, - over.
func play(t *Tracker, rule cluster.Rule, script string, running func(second int) bool) string {
	start := time.Unix(1_800_000_000, 0)
	told := []byte(script)
	for i := range script {
		v := view.View{Cluster: "bookings"}
		if script[i] == 'x' {
			v.Problems = []view.Problem{{Rule: rule, Server: "tern"}}
		}
		if running != nil && running(i) {
			v.Operation = &view.Running{ID: 1}
		}
		told[i] = '.'
		for _, c := range t.Look(&v, start.Add(time.Duration(i)*time.Second)) {
			told[i] = '-'
			if c.Raised {
				told[i] = '+'
			}
		}
	}
	return string(told)
}

func repeat(s string, n int) (out string) {
	for range n {
		out += s
	}
	return out
}

func TestTelling(t *testing.T) {
	never := func(int) bool { return false }
	for name, c := range map[string]struct {
		rule    cluster.Rule
		script  string
		running func(int) bool
		raised  int // the second at which it is told, -1: never
		over    int
	}{
		"told once it lasts":            {cluster.RuleStalled, repeat("x", 20), never, 10, -1},
		"at once where it must":         {cluster.RuleTwoPrimaries, "..xx", never, 2, -1},
		"short trouble is no alert":     {cluster.RuleStalled, repeat("xxxxxxxxx.", 5), never, -1, -1},
		"over when it stays away":       {cluster.RuleStalled, repeat("x", 12) + repeat(".", 40), never, 10, 41},
		"swinging is one alert":         {cluster.RuleNoWrites, repeat("xxxxx"+repeat(".", 20), 6), never, 3, -1},
		"an operation's side effects":   {cluster.RuleLinkDown, repeat("x", 40), func(i int) bool { return i < 30 }, 30, -1},
		"adrift even in an operation":   {cluster.RuleAdrift, repeat("x", 10), func(int) bool { return true }, 3, -1},
		"needs you is never held back":  {cluster.RuleNeedsYou, "x", func(int) bool { return true }, 0, -1},
		"nothing is told about nothing": {cluster.RuleBehind, repeat(".", 50), never, -1, -1},
	} {
		told := play(&Tracker{}, c.rule, c.script, c.running)
		for i := range told {
			want := byte('.')
			if i == c.raised {
				want = '+'
			} else if i == c.over {
				want = '-'
			}
			if told[i] != want {
				t.Errorf("%s: %s", name, told)
				break
			}
		}
	}
}

func TestRestoredAlertIsNotToldAgain(t *testing.T) {
	var tr Tracker
	tr.Restore(Key{"bookings", "tern", cluster.RuleStalled}, time.Unix(1_800_000_000, 0))
	if told := play(&tr, cluster.RuleStalled, repeat("x", 15)+repeat(".", 35), nil); told != repeat(".", 44)+"-"+
		repeat(".", 5) {
		t.Error(told)
	}
}

func TestSettingUpIsNotTold(t *testing.T) {
	var tr Tracker
	v := view.View{Cluster: "bookings", Problems: []view.Problem{{Rule: cluster.RuleTwoPrimaries, SettingUp: true}}}
	if told := tr.Look(&v, time.Now()); len(told) != 0 {
		t.Errorf("a cluster that is being set up was told of: %+v", told)
	}
}

// Nothing is told during a maintenance, but for what nobody can have planned; what is still
// so when it ends is told then.
func TestMaintenanceHoldsBack(t *testing.T) {
	start := time.Unix(1_800_000_000, 0)
	for rule, want := range map[cluster.Rule]int{cluster.RuleNoWrites: 60, cluster.RuleTwoPrimaries: 0} {
		tracker, told := &Tracker{}, -1
		for i := range 90 {
			v := view.View{Cluster: "bookings", Problems: []view.Problem{{Rule: rule, Server: "tern"}}}
			v.Policy.Maintenance = cluster.Maintenance{Until: start.Add(time.Minute), Why: "new disks"}
			if len(tracker.Look(&v, start.Add(time.Duration(i)*time.Second))) > 0 {
				told = i
			}
		}
		if told != want {
			t.Errorf("%s: told at second %d, not %d", rule, told, want)
		}
	}
}

func TestMutedRule(t *testing.T) {
	var tr Tracker
	v := view.View{Cluster: "bookings", Problems: []view.Problem{{Rule: cluster.RuleTwoPrimaries}},
		Policy: cluster.Policy{Muted: []cluster.Rule{cluster.RuleTwoPrimaries}}}
	if told := tr.Look(&v, time.Now()); len(told) != 0 {
		t.Errorf("a muted rule was told: %+v", told)
	}
}
