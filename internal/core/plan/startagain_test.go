package plan

import (
	"testing"

	"crosstwin/internal/core/operation"
)

// Nobody can write while a crashed primary is started: whoever says how long that may take
// is not made to wait longer, whatever its data was last.
func TestStartAgainTakesNoLonger(t *testing.T) {
	for state, step := range map[string]string{"in production": "open", "shut down in recovery": "start-candidate"} {
		for asked, want := range map[float64]float64{0: 600, -1: 600, 20: 20} {
			in := input(operation.Request{Kind: operation.Failover, To: "gull", StartSeconds: asked}, nil)
			o := in.Members[0].Last
			dead(o)
			o.Data.State = state
			in.Examination = examined(nil)
			p, err := Make(in)
			if err != nil {
				t.Fatal(err)
			}
			found := false
			for _, s := range p.Steps {
				found = found || s.Name == step && s.Limit == want
			}
			if !found {
				t.Errorf("data %s, %g s asked for: %s is not limited to %g s", state, asked, step, want)
			}
		}
	}
}
