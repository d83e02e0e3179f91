package plan

import (
	"slices"
	"strings"
	"testing"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// A plan is refused when one agent cannot carry out one of its steps, or its undoing.
func TestAbilities(t *testing.T) {
	all := []string{}
	for _, n := range verb.Names() {
		all = append(all, string(n))
	}
	for _, c := range []struct {
		server, lacks string
		refused       bool
	}{{"tern", "", false}, {"tern", "promote", true}, {"gull", "stop", true}, {"gull", "events", false},
		{"heron", "follow", true}, {"heron", "promote", false}} {
		p, err := Make(input(operation.Request{Kind: operation.Switchover}, func(_ *Input, members []view.Member) {
			for _, m := range members {
				m.Last.Abilities = all
				if m.Name == c.server {
					m.Last.Abilities = slices.DeleteFunc(slices.Clone(all), func(n string) bool { return n == c.lacks })
				}
			}
		}))
		if err != nil {
			t.Fatal(err)
		}
		refused := slices.ContainsFunc(p.Checks, func(x operation.Check) bool {
			return x.Result == operation.Fail && x.Server == c.server && strings.Contains(x.Evidence, c.lacks) && c.lacks != ""
		})
		if refused != c.refused {
			t.Errorf("%s's agent lacks %q: refused is %t\n%+v", c.server, c.lacks, refused, p.Checks)
		}
	}
}
