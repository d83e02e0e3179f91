package plan

import (
	"testing"

	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// No decision reads a sentence: with all causes in other words no plan, check,
// alert or order of servers changes. Only evidence that quotes them does.
func TestDecisionsReadNoWords(t *testing.T) {
	reworded := func(v *view.View) {
		v.Render(func(cause.Cause) string { return "words of another country" },
			func([]cause.Cause) string { return "a sentence" })
	}
	for name, change := range map[string]func(*Input, []view.Member){
		"healthy":      nil,
		"primary dead": func(_ *Input, m []view.Member) { dead(m[0].Last) },
		"replay paused": func(_ *Input, m []view.Member) {
			m[1].Last.Replay.Paused, m[1].Last.Log.Applied = true,
				"0/1000000"
		},
		"link down": func(_ *Input, m []view.Member) { m[1].Last.Links.Upstream.Connected = false },
		"applier":   func(_ *Input, m []view.Member) { m[1].Last.Links.Upstream.ApplierProblem = "error 1062" },
		"adrift":    func(_ *Input, m []view.Member) { m[1].Last = observed("tern", observation.Primary) },
		"slot": func(_ *Input, m []view.Member) {
			m[0].Last.Links.Slots = []observation.Slot{{Name: "ct_auk", KeptBytes: 1 << 40}}
		},
	} {
		for _, kind := range operation.Kinds() {
			r := operation.Request{Kind: kind}
			switch kind {
			case operation.Seed, operation.Rejoin, operation.Salvage, operation.Restart:
				r.Server = "tern"
			case operation.Set:
				r.Server, r.Setting, r.Value = "tern", "hot_standby_feedback", "on"
			case operation.Follow:
				r.Server, r.To = "heron", "tern"
			}
			in := input(r, change)
			plain, err1 := Make(in)
			var told, retold alert.Tracker
			before := told.Look(&in.View, now)
			reworded(&in.View)
			other, err2 := Make(in)
			if (err1 == nil) != (err2 == nil) {
				t.Fatalf("%s, %s: %v, reworded %v", name, kind, err1, err2)
			}
			if err1 == nil && plain.Digest() != other.Digest() {
				t.Errorf("%s: the plan of a %s reads words: %v", name, kind, operation.Changes(plain, other))
			}
			after := retold.Look(&in.View, now)
			if len(before) != len(after) {
				t.Errorf("%s: %d alerts, reworded %d", name, len(before), len(after))
			}
		}
	}
}
