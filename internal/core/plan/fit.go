package plan

import (
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
	p.Checks = append(p.Checks, in.dialect().Copy(in.subject(in.Member(primary)))...)
	if in.FitProblem != "" {
		p.AddCheck(operation.Check{Name: "Place for the copy", Server: name, Result: operation.Fail,
			Evidence: fmt.Sprintf("whether the copy has its place on %s could not be tried: %s", name, in.FitProblem),
			Why:      "nothing is removed before that is known", Mend: "see the agent's log on " + name})
		return
	}
	f := in.Fit
	if f == nil {
		return // the engine keeps everything in the data directory
	}
	for _, m := range f.Misfits {
		p.AddCheck(operation.Check{Name: "Place for the copy", Server: name, Result: operation.Fail, Evidence: m.What,
			Why: "the copy would fail after the old data is gone", Mend: m.Mend})
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
	if len(f.Misfits) == 0 {
		p.AddCheck(operation.Check{Name: "Place for the copy", Server: name, Result: operation.Pass, Evidence: evidence})
	}
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
