package view

import (
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
)

// A server that leaves alone loses its account and its slot, whether or not anything else
// is dropped; one whose agent cannot be asked is named, with what stays there.
func TestLeaving(t *testing.T) {
	gull := &observation.Server{Links: observation.Links{Slots: []observation.Slot{{Name: "ct_heron", Active: true},
		{Name: "ct_tern", Active: true}}}}
	follows := &observation.Server{Links: observation.Links{Upstream: &observation.Upstream{Host: "gull"}}}
	v := &View{Engine: "postgresql", Primary: "gull", Servers: []Server{{Name: "gull", Observation: gull},
		{Name: "tern", Observation: follows}, {Name: "heron", Observation: follows}}}
	told := func(names []string, drop bool) (calls map[string]verb.Leave, text string) {
		list := Leaving(v, names...)
		for _, l := range list {
			text += words.Leftover(l) + "\n"
		}
		return LeaveCalls(v, names, list, drop), text
	}
	calls, text := told([]string{"heron"}, false)
	if c := calls["gull"]; c.Self || c.Account || strings.Join(c.Revoke, "") != "heron" ||
		strings.Join(c.Slots, "") != "ct_heron" || !calls["heron"].Self || strings.Join(calls["tern"].Revoke, "") != "heron" {
		t.Errorf("%+v", calls)
	}
	if !strings.Contains(text, "crosstwin_follow_heron on gull: heron can follow by it no more") ||
		strings.Contains(text, "tern") {
		t.Error(text)
	}
	var stays string
	for _, l := range NotUndone("gull", calls["gull"], "it does not answer") {
		stays += words.Leftover(l) + "\n"
	}
	if strings.Contains(stays, "it left") || !strings.Contains(stays, "crosstwin_follow_heron on gull") ||
		!strings.Contains(stays, "slot ct_heron on gull") || !strings.Contains(stays, "it does not answer") {
		t.Error(stays)
	}
	// A cluster that leaves goes on replicating.
	all := []string{"gull", "tern", "heron"}
	calls, text = told(all, false)
	if c := calls["gull"]; !c.Self || c.Account || len(c.Revoke)+len(c.Slots) != 0 ||
		!strings.Contains(text, "tern and heron") {
		t.Errorf("%+v\n%s", calls, text)
	}
	// Nothing is dropped that somebody uses.
	if calls, _ = told(all, true); calls["gull"].Account || len(calls["gull"].Slots) != 0 {
		t.Errorf("%+v", calls)
	}
}
