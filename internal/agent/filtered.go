package agent

import (
	"fmt"
	"slices"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// noteFilters remembers filters of a replica (invariant: what a filter left out is
// missing until the data is copied again, also when the filter is gone). s is the state
// as read, and is brought up to date.
func (a *Agent) noteFilters(o *observation.Server, s *state) error {
	if o.Process.Role != observation.Replica {
		return nil
	}
	seen := slices.Clone(s.Filtered)
	for _, f := range o.Log.Filters {
		if !slices.Contains(seen, f) {
			seen = append(seen, f)
		}
	}
	if len(seen) == len(s.Filtered) {
		return nil
	}
	a.log.Warn("a filter leaves writes out here: this is no full copy until it is made again", "filters", seen)
	s.Filtered = seen
	return a.memory.change(func(s *state) error { s.Filtered = seen; return nil })
}

// doubtFiltered has an examination say that following proves nothing here.
func (a *Agent) doubtFiltered(x *verb.Examination) {
	if f := a.memory.get().Filtered; len(f) > 0 && x.Doubt == "" {
		x.Doubt = fmt.Sprintf("it left writes out while %s was set, and they are missing still", strings.Join(f, ", "))
	}
}
