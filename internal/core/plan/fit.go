package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/words"
)

// checkFit says whether a copy has its place on its target and could be started
// there. Nothing is removed before all that the rest needs was tried (invariant: what
// cannot be rebuilt is refused in the preview).
func (in *Input) checkFit(p *operation.Plan, name string) {
	primary := in.View.Primary
	if in.CopiesConfig(name) || !in.dialect().CopiesConfig {
		p.Checks = append(p.Checks, in.dialect().Copy(in.subject(in.Member(primary)))...)
	}
	const what = "Place for the copy"
	f := in.Fit
	if !in.addMisfits(p, what, name, "nothing is removed for a copy that would fail") || f == nil {
		return
	}
	evidence := "everything goes to the data directory"
	if len(f.Places) > 0 {
		var places []string
		for _, x := range f.Places {
			if x.From == x.To {
				places = append(places, x.To)
			} else {
				places = append(places, fmt.Sprintf("%s (on %s %s)", x.To, primary, x.From))
			}
		}
		evidence = "tablespaces go to " + strings.Join(places, ", ")
	}
	if len(f.Clears) > 0 {
		evidence += "; " + strings.Join(f.Clears, ", ") + " are emptied"
		if p.Destroys != "" {
			p.Destroys += ", and what it keeps in " + strings.Join(f.Clears, ", ")
		}
	}
	p.AddCheck(operation.Check{Name: what, Server: name, Result: operation.Pass, Evidence: evidence})
}

// checkStart says whether a server could be started again as it is: it is not stopped
// before that is known.
func (in *Input) checkStart(p *operation.Plan, name string) {
	const what = "Able to start"
	if in.addMisfits(p, what, name, "it would stay down after its stop") && in.Fit != nil {
		p.AddCheck(operation.Check{Name: what, Server: name, Result: operation.Pass,
			Evidence: name + "'s program accepts its configuration, and it may write its log file"})
	}
}

// addMisfits adds a failed check for each reason that was found, and reports whether
// there is none.
func (in *Input) addMisfits(p *operation.Plan, what, name, why string) bool {
	if in.FitProblem != "" {
		p.AddCheck(operation.Check{Name: what, Server: name, Result: operation.Fail,
			Evidence: fmt.Sprintf("that could not be tried on %s: %s", name, in.FitProblem), Why: why,
			Mend: "see the agent's log on " + name})
		return false
	}
	if in.Fit == nil {
		return true
	}
	for _, m := range in.Fit.Misfits {
		p.AddCheck(operation.Check{Name: what, Server: name, Result: operation.Fail, Evidence: m.What,
			Why: cmp.Or(m.Why, why), Mend: m.Mend})
	}
	return len(in.Fit.Misfits) == 0
}

// CopiesConfig reports whether a copy of the primary brings its configuration along to a
// server.
func (in *Input) CopiesConfig(name string) bool {
	return in.dialect().CopiesConfig && !in.Member(name).Last.Config.Apart &&
		!in.Member(in.View.Primary).Last.Config.Apart
}

// Limits are the primary's settings that a replica may not set lower, by name.
func (in *Input) Limits() map[string]string {
	set := in.Member(in.View.Primary).Last.Config.Settings
	var out map[string]string
	for _, name := range in.dialect().Limits {
		if v, ok := set[name]; ok {
			if out == nil {
				out = map[string]string{}
			}
			out[name] = v
		}
	}
	return out
}

// OthersSpaces are the identities of the directories in which all servers but one
// keep tablespaces.
func (in *Input) OthersSpaces(name string) []string {
	var out []string
	for _, m := range in.Members {
		if m.Name == name || m.Last == nil {
			continue
		}
		for _, s := range m.Last.Data.Spaces {
			if s.Identity != "" {
				out = append(out, s.Identity)
			}
		}
	}
	return out
}

// checkSpaces finds servers that keep a tablespace in one directory, on one host: each
// overwrites what the other has written. PostgreSQL itself does not notice.
func (in *Input) checkSpaces(p *operation.Plan) {
	users, path := map[string][]string{}, map[string]string{}
	for _, m := range in.Members {
		if m.Last == nil {
			continue
		}
		for _, s := range m.Last.Data.Spaces {
			if s.Identity != "" {
				users[s.Identity], path[s.Identity] = append(users[s.Identity], m.Name), s.Path
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(users)) {
		if who := users[id]; len(who) > 1 {
			p.AddCheck(operation.Check{Name: "Tablespaces of its own", Server: who[0], Result: operation.Fail,
				Evidence: fmt.Sprintf("%s keep a tablespace in one directory, %s", words.List(who), path[id]),
				Why:      "each overwrites what the other has written there, and a copy would remove it from both",
				Mend: fmt.Sprintf("move its tables elsewhere on %s (alter table ... set tablespace pg_default) and drop it",
					in.View.Primary)})
		}
	}
}

// strangeSpaces are the primary's tablespaces that a server lacks: a rewind would
// link them to the primary's own paths.
func (in *Input) strangeSpaces(name string) []string {
	have := map[string]bool{}
	for _, s := range in.Member(name).Last.Data.Spaces {
		have[s.Name] = true
	}
	var out []string
	for _, s := range in.Member(in.View.Primary).Last.Data.Spaces {
		if !have[s.Name] {
			out = append(out, s.Path)
		}
	}
	return out
}
