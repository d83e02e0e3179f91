package agent

import (
	"testing"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
)

// Each case changes one thing of a replica that is 2 s behind, by a word that is 1 s old.
func TestFitForReaders(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*observation.Server, *agentapi.Readers)
		within time.Duration
		want   bool
	}{
		"within the bound": {nil, 3 * time.Second, true},
		"behind it":        {nil, 2900 * time.Millisecond, false},
		"hidden": {func(_ *observation.Server, r *agentapi.Readers) {
			r.Hidden = true
		}, time.Hour, false},
		"lag not known": {func(_ *observation.Server, r *agentapi.Readers) {
			r.Known = false
		}, time.Hour, false},
		"delayed": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Links.Upstream.DelaySeconds = 1
		}, time.Hour, false},
		"follows nobody": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Links.Upstream = nil
		}, time.Hour, false},
		"paused": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Replay.Paused = true
		}, time.Hour, false},
		"foreign": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Data.Foreign = true
		}, time.Hour, false},
		"a primary": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Process.Role = observation.Primary
		}, time.Hour, false},
		"does not answer": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Process.Accepting = false
		}, time.Hour, false},
		"applying stopped": {func(o *observation.Server, _ *agentapi.Readers) {
			o.Links.Upstream.ApplierProblem = "1062"
		}, time.Hour, false},
		"for an hour, well": {nil, time.Hour, true},
	} {
		o := &observation.Server{Process: observation.Process{Running: true, Accepting: true, Role: observation.Replica},
			Links: observation.Links{Upstream: &observation.Upstream{Connected: true}}}
		told := agentapi.Readers{Known: true, LagSeconds: 2}
		if c.change != nil {
			c.change(o, &told)
		}
		if got := fitForReaders(o, told, time.Second, c.within); got != c.want {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
	if fitForReaders(nil, agentapi.Readers{Known: true}, 0, time.Hour) {
		t.Error("a server that nobody has looked at is fit")
	}
}
