package plan

import (
	"strings"
	"testing"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// A server that does not run may be asked for by name, and is started first; one that
// is adrift, foreign, or no full copy may not, and is not advised either, whatever is
// confirmed.
func TestWhoIsStartedFirst(t *testing.T) {
	for name, c := range map[string]struct {
		change func(tern *view.Member)
		may    bool
	}{
		"stopped cleanly": {func(m *view.Member) { m.Last.Data.State = "shut down in recovery" }, true},
		"crashed":         {nil, true},
		"adrift, by an examination": {func(m *view.Member) {
			m.Examined = examined(nil)
		}, false},
		"strayed":       {func(m *view.Member) { m.Last.Data.Strayed = true }, false},
		"foreign":       {func(m *view.Member) { m.Last.Data.Foreign = true }, false},
		"filtered":      {func(m *view.Member) { m.Last.Log.Filters = []string{"replicate_ignore_db = logs"} }, false},
		"filtered once": {func(m *view.Member) { m.Last.Log.Filtered = []string{"replicate_ignore_db = logs"} }, false},
		"half a rewind": {func(m *view.Member) { m.Last.Data.Unfinished = "rewind" }, false},
	} {
		for _, to := range []string{"tern", ""} {
			p, err := Make(input(operation.Request{Kind: operation.Failover, To: to}, func(_ *Input, members []view.Member) {
				dead(members[0].Last)
				dead(members[1].Last)
				members[1].Last.Log.ProvenTerm = 0
				if c.change != nil {
					c.change(&members[1])
				}
			}))
			if err != nil {
				t.Fatal(err)
			}
			said := ""
			for _, x := range p.Choices {
				if x.Server == "tern" {
					said = x.Why
				}
			}
			if chosen := p.Candidate == "tern"; chosen != (c.may && to != "") ||
				strings.Contains(said, "to start it first") != (c.may && to == "") {
				t.Errorf("%s, asked for %q: chosen %t: %s", name, to, chosen, said)
			}
		}
	}
}
