package plan

import (
	"fmt"
	"maps"
	"slices"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/route"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// Where applications connect through gates, a planned pause fails none of their transactions:
// the gates hold them before the primary stops, and lead them to where writes go on. Until the
// point of no return that is undone by letting them go on where they were.

// gates are those that answer.
func (in *Input) gates() (names []string) {
	for _, g := range in.View.Gates {
		if g.Answers {
			names = append(names, g.Name)
		}
	}
	return names
}

// checkGates says how many sessions there are at the gates, and what of them cannot be carried.
func (in *Input) checkGates(p *operation.Plan) {
	names := in.gates()
	for _, g := range in.View.Gates {
		if !g.Answers && g.LastContactSeconds >= 0 {
			p.AddCheck(operation.Check{Name: "Gate that answers", Server: g.Name, Result: operation.Warn,
				Evidence: "gate " + g.Name + " does not answer: " + g.Why,
				Why:      "its clients feel the change as those do that connect to the server",
				Mend:     "see that crosstwin gate runs on its host"})
		}
	}
	if len(names) == 0 {
		return
	}
	sessions, portable, others := 0, 0, map[string]int{}
	for _, g := range in.View.Gates {
		if g.Answers && g.Shows != nil {
			sessions, portable = sessions+g.Shows.Sessions(), portable+g.Shows.Portable
			for why, n := range g.Shows.Others {
				others[why] += n
			}
		}
	}
	text := fmt.Sprintf("%s at %s, %d of them known to be portable", words.Count(int64(sessions), "session"),
		gateNames(names), portable)
	for _, why := range slices.Sorted(maps.Keys(others)) {
		text += fmt.Sprintf("; not portable: %d with %s", others[why], why)
	}
	p.AddCheck(operation.Check{Name: "Sessions at gates", Result: operation.Pass, Evidence: text,
		Why: "what cannot be carried is closed once its transaction has ended, or the limit is reached"})
}

func gateNames(names []string) string {
	if len(names) == 1 {
		return "gate " + names[0]
	}
	return "gates " + words.List(names)
}

// stepRestGates asks, ahead of the pause, what there is of each session.
func (in *Input) stepRestGates(p *operation.Plan) {
	names := in.gates()
	if len(names) == 0 {
		return
	}
	p.AddStep(operation.Step{Name: "rest-gates",
		Action: operation.Action{Title: "Ask the sessions at " + gateNames(names) + " for their state",
			Call: verb.Seal(verb.RestGates{Gates: names})}, Keep: verb.Fact{Kind: verb.FactGates, Of: "before"},
		Seconds: 0.2, OnFail: operation.GoOn, IfFails: "sessions are asked in the write pause, which gets longer"})
}

// stepHoldGates holds applications.
func (in *Input) stepHoldGates(p *operation.Plan, server string) {
	names := in.gates()
	if len(names) == 0 {
		return
	}
	limit := in.View.Policy.Gates.LimitSeconds
	p.AddStep(operation.Step{Name: "hold-gates",
		Action: operation.Action{Title: fmt.Sprintf("Hold new transactions at %s; give those under way %s", gateNames(names),
			words.Span(limit)),
			Call: verb.Seal(verb.HoldGates{Gates: names, Limit: limit})},
		Keep: verb.Fact{Kind: verb.FactGates, Of: "held"}, InPause: true, Seconds: 0.05, Limit: 15 + limit,
		Undo: putBack(operation.Action{Title: "Let applications at " + gateNames(names) + " go on at " + server,
			Call: verb.Seal(verb.ReleaseGates{Gates: names})}),
		IfFails: "applications go on at " + server})
}

// stepReleaseGates leads applications to where writes go on. A gate that is not told so here
// learns it from the service within a second.
func (in *Input) stepReleaseGates(p *operation.Plan, server string) {
	names := in.gates()
	if len(names) == 0 {
		return
	}
	p.AddStep(operation.Step{Name: "release-gates",
		Action: operation.Action{Title: fmt.Sprintf("Lead applications at %s to %s", gateNames(names), server),
			Call: verb.Seal(verb.ReleaseGates{Gates: names, Waited: true})},
		Keep: verb.Fact{Kind: verb.FactGates, Of: "after"}, InPause: true, Seconds: 0.05, Limit: 30, OnFail: operation.GoOn,
		IfFails: "gates lead them to " + server + " by themselves, as soon as the service reaches them"})
}

// ForGate is the purpose of checks that no operation has: whether applications can connect
// through the gates.
const ForGate operation.Kind = "gate"

// GateTries are what the gates tried, by gate; Problem is why one could not be asked.
type GateTries struct {
	Gate    string
	Tries   []route.Try
	Problem string
}

// GateChecks are the checks of that purpose.
func GateChecks(v *view.View, tried []GateTries) *operation.Plan {
	p := &operation.Plan{Kind: ForGate, Cluster: v.Cluster, Engine: v.Engine, Primary: v.Primary,
		Checks: []operation.Check{}, Steps: []operation.Step{}, Effects: []string{}}
	names := []string{}
	for _, g := range v.Gates {
		names = append(names, g.Name)
		answers := operation.Check{Name: "Gate that answers", Server: g.Name, Result: verdict(g.Answers, operation.Fail),
			Evidence: "gate " + g.Name + " answers"}
		if !g.Answers {
			answers.Evidence, answers.Mend = "gate "+g.Name+" does not answer: "+words.Say(g.Cause),
				"see that crosstwin gate runs on its host"
		}
		p.AddCheck(answers)
		if leads := g.Shows != nil && g.Shows.To == v.Primary && v.Primary != ""; g.Answers {
			c := operation.Check{Name: "Gate that leads to the primary", Server: g.Name,
				Result: verdict(leads, operation.Fail), Evidence: "gate " + g.Name + " leads writers to " + v.Primary}
			if !leads && g.Shows != nil {
				c.Evidence, c.Mend = "gate "+g.Name+" leads writers nowhere: "+g.Shows.Why, "crosstwin status "+v.Cluster
			}
			p.AddCheck(c)
		}
	}
	enough := operation.Check{Name: "Two gates", Result: verdict(len(names) > 1, operation.Warn),
		Evidence: words.Count(int64(len(names)), "gate") + " of " + v.Cluster}
	if len(names) < 2 {
		enough.Why = "a gate that dies drops its clients, and with one alone they cannot come back"
		enough.Mend = "crosstwin gate add " + v.Cluster + " NAME, on another host"
	}
	p.AddCheck(enough)
	for _, g := range tried {
		gateTries(p, g)
	}
	return p
}

func gateTries(p *operation.Plan, g GateTries) {
	if g.Problem != "" {
		p.AddCheck(operation.Check{Name: "Logins through a gate", Server: g.Gate, Result: operation.Warn,
			Evidence: "gate " + g.Gate + " could not try them: " + g.Problem})
		return
	}
	good := map[string]int{}
	for _, t := range g.Tries {
		switch {
		case t.Problem == "" && t.User != "":
			good[t.Server]++
		case t.Problem == "":
			p.AddCheck(operation.Check{Name: "Server within reach of a gate", Server: t.Server, Result: operation.Pass,
				Evidence: "gate " + g.Gate + " reaches " + t.Server})
		case t.User == "":
			p.AddCheck(operation.Check{Name: "Server within reach of a gate", Server: t.Server, Result: operation.Fail,
				Evidence: "gate " + g.Gate + " does not reach " + t.Server + ": " + t.Problem,
				Why:      "applications could not follow there after a change of the primary",
				Mend:     "let connections from the gate's host to its database through"})
		default:
			p.AddCheck(operation.Check{Name: "Login of " + t.User, Server: t.Server, Result: operation.Warn,
				Evidence: fmt.Sprintf("%s cannot log in at %s through gate %s: %s", t.User, t.Server, g.Gate, t.Problem),
				Why:      "an application that uses it has to connect to the servers themselves",
				Mend:     "docs/gates.md, Logging in, says what each method takes"})
		}
	}
	for _, server := range slices.Sorted(maps.Keys(good)) {
		p.AddCheck(operation.Check{Name: "Logins through a gate", Server: server, Result: operation.Pass,
			Evidence: fmt.Sprintf("%s may log in at %s through gate %s, as far as can be tried without their passwords",
				words.Count(int64(good[server]), "user"), server, g.Gate)})
	}
}
