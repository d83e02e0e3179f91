package operation

import (
	"slices"
	"time"

	"crosstwin/internal/core/verb"
)

// Moment is one of the moments that tell how a failover that began by itself went.
type Moment struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
}

// Course returns the moments of a failover that began by itself, in order of time: when
// the primary was last seen to take writes, the decision, when it could write no longer,
// and the new primary's promotion and first write, as far as it has come. There is none
// of an operation that a person asked for.
func (o *Operation) Course() []Moment {
	d := o.Plan.Decided
	if d == nil || d.LastGood.IsZero() {
		return nil
	}
	out := []Moment{{d.LastGood, o.Plan.Primary + " last seen to take writes"}, {o.CreatedAt, "failover decided"}}
	told := map[string]bool{}
	add := func(what string, s StepRecord) {
		if s.State == StepDone && s.EndedAt != nil && !told[what] {
			told[what] = true
			out = append(out, Moment{*s.EndedAt, what})
		}
	}
	for i, s := range o.Steps {
		if i >= len(o.Plan.Steps) {
			break
		}
		switch c := o.Plan.Steps[i].Action.Call.Call.(type) {
		case verb.Fence:
			add(o.Plan.Primary+" stopped", s)
		case verb.Outlast:
			add(o.Plan.Primary+" cannot write any more", s)
		case verb.Promote:
			add(c.Server+" promoted", s)
		case verb.Mark:
			add("first write on "+o.Plan.Candidate, s)
		}
	}
	slices.SortStableFunc(out, func(a, b Moment) int { return a.At.Compare(b.At) })
	return out
}
