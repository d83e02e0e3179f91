package plan

import (
	"fmt"
	"slices"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/words"
)

// checkAbilities refuses a plan of which an agent cannot carry out a step: an older
// one, or one of an engine that lacks it. What an agent can do it reports with each
// observation; one that has not answered is judged by other checks.
func (in *Input) checkAbilities(p *operation.Plan) {
	lacks := map[string][]string{}
	note := func(a operation.Action) {
		m := in.Member(a.Server)
		if a.Call.IsZero() || m == nil || m.Last == nil || len(m.Last.Abilities) == 0 {
			return
		}
		if n := string(a.Call.Name()); !slices.Contains(m.Last.Abilities, n) && !slices.Contains(lacks[a.Server], n) {
			lacks[a.Server] = append(lacks[a.Server], n)
		}
	}
	for _, s := range p.Steps {
		note(s.Action)
		for _, u := range s.Undo {
			note(u.Action)
		}
	}
	for _, m := range in.Members {
		if l := lacks[m.Name]; len(l) > 0 {
			p.AddCheck(operation.Check{Name: "Able agent", Server: m.Name, Result: operation.Fail,
				Evidence: fmt.Sprintf("%s's agent cannot carry out %s", m.Name, words.List(l)),
				Why:      "the operation would stop in the middle",
				Mend:     "install the service's version of crosstwin on its host and restart the agent"})
		}
	}
}
