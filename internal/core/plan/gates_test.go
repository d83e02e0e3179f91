package plan

import (
	"slices"
	"strings"
	"testing"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

func quay(answers bool) view.Gate {
	g := view.Gate{Name: "quay", Answers: answers, Shows: &observation.Gate{To: "gull", Portable: 3,
		Doors:  []observation.GateCount{{Door: "writer", Server: "gull", Sessions: 5}},
		Others: map[string]int{"a temporary table": 2}}}
	if !answers {
		g.Cause = cause.Cause{Code: cause.Silent, Seconds: 9}
	}
	return g
}

// Gates are part of every planned pause, between the last preparation and the stop, and again
// once writes go on; until the point of no return that is undone. An unplanned failover holds
// nobody: it leads applications on.
func TestGatesInPlans(t *testing.T) {
	for _, c := range []struct {
		request operation.Request
		steps   string
	}{
		{operation.Request{Kind: operation.Switchover}, "rest-gates hold-gates release-gates"},
		{operation.Request{Kind: operation.Restart, Server: "gull"}, "rest-gates hold-gates release-gates"},
		{operation.Request{Kind: operation.Restart, Server: "tern"}, ""},
	} {
		in := input(c.request, nil)
		in.View.Gates = []view.Gate{quay(true)}
		p, err := Make(in)
		if err != nil {
			t.Fatal(err)
		}
		var steps []string
		at := map[string]int{}
		for i, s := range p.Steps {
			at[s.Name] = i
			switch s.Call.Call.(type) {
			case verb.RestGates, verb.HoldGates, verb.ReleaseGates:
				steps = append(steps, s.Name)
			}
		}
		if got := strings.Join(steps, " "); got != c.steps {
			t.Errorf("%+v: %s, want %s", c.request, got, c.steps)
		}
		if c.steps == "" {
			continue
		}
		hold := p.Steps[at["hold-gates"]]
		if at["hold-gates"] > p.NoReturnStep() || at["release-gates"] < p.NoReturnStep() || !hold.InPause ||
			len(hold.Undo) != 1 || hold.Undo[0].Call.Name() != (verb.ReleaseGates{}).Verb() {
			t.Errorf("%+v: %+v", c.request, hold)
		}
		said := slices.ContainsFunc(p.Checks, func(x operation.Check) bool {
			return strings.Contains(x.Evidence, "5 sessions at gate quay, 3 of them known to be portable") &&
				strings.Contains(x.Evidence, "2 with a temporary table")
		})
		if !said {
			t.Errorf("%+v: the plan does not say what can be carried: %+v", c.request, p.Checks)
		}
		in.View.Gates = []view.Gate{quay(false)}
		if p, err = Make(in); err != nil || len(p.Steps) != len(at)-3 {
			t.Errorf("%+v: a gate that does not answer is waited for: %v", c.request, err)
		}
	}
}

func TestGateChecks(t *testing.T) {
	v := &view.View{Cluster: "bookings", Engine: "postgresql", Primary: "gull", Gates: []view.Gate{quay(true)}}
	tried := []GateTries{{Gate: "quay", Tries: []route.Try{{Server: "gull"}, {Server: "gull", User: "skerry"},
		{Server: "tern", Problem: "no route to host"}, {Server: "gull", User: "old", Problem: "it logs in by no password"}}}}
	n := map[operation.Result]int{}
	p := GateChecks(v, tried)
	for _, c := range p.Checks {
		n[c.Result]++
	}
	// One gate, a server out of reach, a user without a password; all else is well.
	if n[operation.Fail] != 1 || n[operation.Warn] != 2 || n[operation.Pass] != 4 {
		t.Errorf("%v: %+v", n, p.Checks)
	}
	v.Gates = append(v.Gates, quay(false))
	if why, refused := GateChecks(v, nil).Refused(); !refused || !strings.Contains(why, "does not answer") {
		t.Errorf("a gate that does not answer passes: %q", why)
	}
}
