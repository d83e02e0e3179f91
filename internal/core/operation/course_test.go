package operation

import (
	"testing"
	"time"

	"crosstwin/internal/core/verb"
)

func TestCourse(t *testing.T) {
	zero := time.Date(2026, 11, 30, 3, 0, 0, 0, time.UTC)
	at := func(s float64) *time.Time {
		x := zero.Add(time.Duration(s * float64(time.Second)))
		return &x
	}
	o := Operation{CreatedAt: *at(4), Plan: Plan{Primary: "gull", Candidate: "tern", Decided: &Decided{LastGood: zero},
		Steps: []Step{
			{Action: Action{Call: verb.Seal(verb.OpenTerm{})}}, {Action: Action{Call: verb.Seal(verb.Outlast{})}},
			{Action: Action{Call: verb.Seal(verb.Promote{Server: "tern"})}}, {Action: Action{Call: verb.Seal(verb.Mark{})}},
			{Action: Action{Call: verb.Seal(verb.Mark{})}}}},
		Steps: []StepRecord{{State: StepDone, EndedAt: at(4.1)}, {State: StepDone, EndedAt: at(5.3)},
			{State: StepDone, EndedAt: at(6)}, {State: StepDone, EndedAt: at(6.1)}, {State: StepRunning}}}
	want := []Moment{{zero, "gull last seen to take writes"}, {*at(4), "failover decided"},
		{*at(5.3), "gull cannot write any more"}, {*at(6), "tern promoted"}, {*at(6.1), "first write on tern"}}
	got := o.Course()
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("%d: %+v, want %+v", i, got[i], want[i])
		}
	}
	o.Plan.Decided = nil
	if len(o.Course()) != 0 {
		t.Error("an operation that a person asked for has a course")
	}
}
