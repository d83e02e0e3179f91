package plan

import (
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// What a copy needs is tried before anything is removed, and what it removes beside
// the data directory is named.
func TestFit(t *testing.T) {
	misfit := &verb.Fitted{Misfits: []verb.Misfit{{What: "the tablespace goes to /srv/fast, which is not empty",
		Mend: "empty it"}}}
	places := &verb.Fitted{Places: []verb.Place{{From: "/srv/fast", To: "/data/fast"}}, Clears: []string{"/data/fast",
		"/log/15"}}
	for _, c := range []struct {
		name    string
		request operation.Request
		change  func(in *Input, m []view.Member)
		refused string   // empty: it is not
		says    []string // in a check, or in what is removed
	}{
		{"a place that is taken", operation.Request{Kind: operation.Seed, Server: "tern", Replace: true},
			func(in *Input, _ []view.Member) { in.Fit = misfit }, "which is not empty; empty it", nil},
		{"it could not be tried", operation.Request{Kind: operation.Seed, Server: "tern", Replace: true},
			func(in *Input, _ []view.Member) { in.FitProblem = "no answer" }, "that could not be tried on tern: no answer", nil},
		{"a rebuild as well", operation.Request{Kind: operation.Rejoin, Server: "tern", Way: WayRebuild},
			func(in *Input, _ []view.Member) { in.Fit = misfit }, "which is not empty; empty it", nil},
		{"paths in the configuration", operation.Request{Kind: operation.Seed, Server: "tern", Replace: true},
			func(_ *Input, m []view.Member) {
				m[0].Last.Config.Settings["copied_paths"] = "data_directory = /srv/gull"
			},
			"gull's configuration sets data_directory = /srv/gull", nil},
		{"limits beside the configuration", operation.Request{Kind: operation.Seed, Server: "tern", Replace: true},
			func(_ *Input, m []view.Member) {
				m[0].Last.Config.Settings["lost_limits"] = "max_connections is 300, and 100 in its files"
			}, "on gull max_connections is 300", nil},
		{"one directory for two servers", operation.Request{Kind: operation.Seed, Server: "tern", Replace: true},
			func(_ *Input, m []view.Member) {
				for i := range m[:2] {
					m[i].Last.Data.Spaces = []observation.Space{{Name: "16400", Path: "/srv/fast", Identity: "boot 1 2"}}
				}
			}, "gull and tern keep a tablespace in one directory, /srv/fast", nil},
		{"a restart that would fail", operation.Request{Kind: operation.Restart, Server: "gull"},
			func(in *Input, _ []view.Member) {
				in.Fit = &verb.Fitted{Misfits: []verb.Misfit{{What: "gull could not be started", Mend: "correct it"}}}
			}, "gull could not be started; correct it", nil},
		{"a restart that could not be tried", operation.Request{Kind: operation.Restart, Server: "gull"},
			func(in *Input, _ []view.Member) { in.FitProblem = "no answer" }, "that could not be tried on gull: no answer", nil},
		{"all in its place", operation.Request{Kind: operation.Seed, Server: "tern", Replace: true},
			func(in *Input, _ []view.Member) { in.Fit = places }, "",
			[]string{"tablespaces go to /data/fast (on gull /srv/fast)", "/data/fast, /log/15 are emptied",
				"and what it keeps in /data/fast, /log/15"}},
		{"a rewind that would link to the primary's paths", operation.Request{Kind: operation.Rejoin, Server: "tern"},
			func(in *Input, m []view.Member) {
				m[0].Last.Data.Spaces = []observation.Space{{Name: "16400", Path: "/srv/fast"}}
				in.Examination.TailBytes, in.Examination.Rewindable = 100, true
			}, "", []string{"gull has tablespaces that it lacks (/srv/fast)"}},
	} {
		p, err := Make(input(c.request, func(in *Input, m []view.Member) {
			in.Examination = &verb.Examination{Line: m[1].Last.Log.Line, System: m[1].Last.Data.System, End: "0/5000000",
				Fork: "0/5000000", ForkLine: 1, Kinship: string(position.Kin), Clean: true}
			c.change(in, m)
		}))
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		why, refused := p.Refused()
		if refused != (c.refused != "") || !strings.Contains(why, c.refused) {
			t.Errorf("%s: refused %t: %q", c.name, refused, why)
		}
		text := p.Destroys
		for _, x := range p.Checks {
			text += "\n" + x.Evidence
		}
		for _, w := range p.Ways {
			text += "\n" + w.Why
		}
		for _, w := range c.says {
			if !strings.Contains(text, w) {
				t.Errorf("%s: does not say %q:\n%s", c.name, w, text)
			}
		}
	}
}
