package agent

import (
	"errors"
	"fmt"
	"net/http"
	"slices"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// foreign reports whether the data that o shows is not known to be this
// cluster's (invariant: an agent touches no data that is not its cluster's; a
// foreign or unknown server is reported and left as it is). Data that says
// another origin is foreign. Data that names none is, unless it was this
// cluster's before: only MariaDB's can be without a name, and so can a cluster of which
// nothing was prepared yet; then whoever is open beside its primary is a stranger. So is
// whoever was open before this agent knew of any term (stranger), whatever its data.
func foreign(o *observation.Server, s state) bool {
	switch {
	case o.Data.Empty || o.Data.Unfinished != "":
		return false
	case stranger(o, s):
		return true
	case o.Data.System == "" && s.System == "":
		return !known(s) && s.Guard.Accepted > 0 && o.Process.Role == observation.Primary
	case s.System == "":
		return false
	case o.Data.System == "":
		return !known(s)
	}
	return o.Data.System != s.System
}

// stranger reports whether a server is one that was open before, since then: also while it
// is down, and whatever starts it. It is the cluster's once it follows, owns a term, or its
// data is replaced.
func stranger(o *observation.Server, s state) bool {
	switch {
	case o.Data.Empty || o.Data.Unfinished != "" || s.Guard.Owner:
		return false
	case openBefore(o, s):
		return true
	case o.Process.Accepting && o.Process.Role == observation.Replica, !o.Process.Running && o.Data.ClosedByDefault:
		return false
	}
	return s.Stranger
}

// openBefore reports whether a server was open before it ever was under the cluster's care,
// or would be if its host started it: a clone that somebody promoted, a replica that was
// never closed (MariaDB). An old primary whose agent lost its memory is told from those: it
// is closed by default, and follows nobody.
func openBefore(o *observation.Server, s state) bool {
	if s.Guard.Accepted == 0 || known(s) {
		return false
	}
	if !o.Process.Running {
		return !o.Data.ClosedByDefault
	}
	return o.Process.Role == observation.Primary && (!o.Data.ClosedByDefault || o.Links.Upstream.Runs())
}

// known reports whether data that names no origin is this cluster's all the same: it was
// before, or it owns a term here.
func known(s state) bool { return s.Ours || s.Guard.Owner }

// noteSystem keeps what identifies the cluster's data. While the data here is
// what it was told before, it keeps to that: other data in the primary's place
// does not make this server's a stranger that nobody fences.
func (a *Agent) noteSystem(system string) error {
	if s := a.memory.get(); system == "" || system == s.System || s.Ours && s.System != "" {
		return nil
	}
	return a.memory.change(func(s *state) error { s.System = system; return nil })
}

// judgeForeign judges o, and remembers data that is ours, and that it is gone.
func (a *Agent) judgeForeign(o *observation.Server) {
	s := a.memory.get()
	o.Data.Foreign = foreign(o, s)
	ours := s.System != "" && o.Data.System == s.System && !o.Data.Foreign ||
		known(s) && !o.Data.Empty && o.Data.System == ""
	if strange := stranger(o, s); ours != s.Ours || strange != s.Stranger {
		if err := a.memory.change(func(s *state) error { s.Ours, s.Stranger = ours, strange; return nil }); err != nil {
			a.log.Error("could not record whose data this is", "error", err)
		}
	}
	a.lastMu.Lock()
	a.foreign, a.judged = o.Data.Foreign, true
	a.lastMu.Unlock()
}

// isOurs reports whether the newest look found no foreign data. Before the first
// look nothing is known.
func (a *Agent) isOurs() bool {
	a.lastMu.Lock()
	defer a.lastMu.Unlock()
	return a.judged && !a.foreign
}

// onAnyData are the verbs that a foreign server's agent carries out too. Of those
// that change it, fence and seed are asked for by a seed that replaces the data,
// which a person has confirmed by its name.
var onAnyData = []verb.Name{verb.Note{}.Verb(), verb.Probe{}.Verb(), verb.Account{}.Verb(), verb.Fit{}.Verb(),
	verb.Fence{}.Verb(), verb.Seed{}.Verb(), verb.Verify{}.Verb(), verb.Forget{}.Verb(), verb.Release{}.Verb(),
	verb.Leave{}.Verb()}

var errForeign = errors.New("it holds data that is not this cluster's")

// mayTouch refuses what would change foreign data.
func (a *Agent) mayTouch(r *http.Request, name verb.Name) error {
	if a.cfg.Referee || a.isOurs() || slices.Contains(onAnyData, name) {
		return nil
	}
	o := a.look(r.Context(), false)
	if a.judgeForeign(o); !o.Data.Foreign {
		return nil
	}
	why := fmt.Sprintf("%v (system identifier %q, the cluster's is %q)", errForeign, o.Data.System, a.memory.get().System)
	if o.Data.System == a.memory.get().System {
		why = "it was open for writes already when it was added to the cluster"
	}
	return agentapi.Problem{Title: "Foreign data", Detail: fmt.Sprintf("%s refuses %s: %s", a.cfg.Server, name, why),
		Status: http.StatusConflict, Code: agentapi.CodeBadInput}
}
