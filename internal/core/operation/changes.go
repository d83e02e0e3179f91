package operation

import (
	"fmt"
	"slices"
)

// Changes says in words what differs between a plan that was shown and the one
// made since: checks, steps, the loss. Times and positions that moved on are
// left out.
func Changes(shown, now *Plan) []string {
	var out []string
	if shown.Primary != now.Primary || shown.OwnerTerm != now.OwnerTerm {
		out = append(out, fmt.Sprintf("the primary is %s in term %d; it was %s in term %d", now.Primary, now.OwnerTerm,
			shown.Primary, shown.OwnerTerm))
	}
	if shown.Candidate != now.Candidate {
		out = append(out, fmt.Sprintf("the candidate is %s; it was %s", now.Candidate, shown.Candidate))
	}
	results := map[[2]string]Result{}
	for _, c := range shown.Checks {
		results[[2]string{c.Name, c.Server}] = c.Result
	}
	for _, c := range now.Checks {
		if before, known := results[[2]string{c.Name, c.Server}]; c.Result != Pass && (!known || before != c.Result) {
			out = append(out, fmt.Sprintf("check %q on %s is now %s: %s", c.Name, c.Server, c.Result, c.Evidence))
		}
	}
	before, after := titles(shown), titles(now)
	for _, t := range after {
		if !slices.Contains(before, t) {
			out = append(out, "new step: "+t)
		}
	}
	for _, t := range before {
		if !slices.Contains(after, t) {
			out = append(out, "no longer a step: "+t)
		}
	}
	if now.Destroys != "" && now.Destroys != shown.Destroys {
		out = append(out, "it discards "+now.Destroys)
	}
	if len(out) == 0 {
		out = append(out, fmt.Sprintf("the plan is for term %d; it was for term %d", now.Term, shown.Term))
	}
	return out
}

func titles(p *Plan) []string {
	var out []string
	for _, s := range p.Steps {
		out = append(out, movingText.ReplaceAllString(s.Title, "@"))
	}
	return out
}
