package agent

import (
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// leave undoes what Cross Twin made here. A server that leaves itself is nobody's to
// fence or close from then on (invariant: an agent guards only a server of its
// service): that is on disk before anything else happens.
func (a *Agent) leave(ctx context.Context, c verb.Leave) ([]verb.Leftover, error) {
	x, able := a.engine.(engine.Leaver)
	if !able {
		return nil, errors.New("this engine cannot undo what Cross Twin made")
	}
	var out []verb.Leftover
	if c.Self {
		if err := a.left(); err != nil {
			return nil, err
		}
		if closed, is := a.openByDefault(ctx, x); is {
			out = append(out, closed)
		}
	}
	out = append(out, x.Drop(ctx, c)...)
	for i := range out {
		out[i].Server = a.cfg.Server
	}
	return out, nil
}

// left puts on disk that this agent serves nobody any more.
func (a *Agent) left() error {
	a.log.Warn("this server was removed from Cross Twin: its agent does nothing any more, and can be stopped")
	return a.memory.change(func(s *state) error { s.Left, s.Fencing = true, false; return nil })
}

// openByDefault undoes Close where the server takes writes now. A replica stays a
// replica, and a server that was fenced stays closed.
func (a *Agent) openByDefault(ctx context.Context, x engine.Leaver) (verb.Leftover, bool) {
	l := verb.Leftover{What: verb.MadeClosed}
	o := a.look(ctx, false)
	a.judgeForeign(o)
	a.lastMu.Lock() // keepClosed may be at it
	defer a.lastMu.Unlock()
	if a.foreign || !o.Process.Writable || o.Process.Role != observation.Primary {
		return l, false
	}
	if err := x.OpenByDefault(); err != nil {
		l.Problem = err.Error()
	}
	l.Gone = l.Problem == ""
	return l, true
}

// hasLeft refuses everything but leaving once the server was removed.
func (a *Agent) hasLeft(r *http.Request) error {
	if !a.memory.get().Left || verb.Name(r.PathValue("verb")) == (verb.Leave{}).Verb() {
		return nil
	}
	return agentapi.Problem{Title: "Removed server", Status: http.StatusForbidden, Code: agentapi.CodeForbidden,
		Detail: a.cfg.Server + " was removed from Cross Twin; to bring it back, enroll its agent again with a new code"}
}

// forgetLeft removes what an agent knows whose server had left, so that an
// enrolment begins anew.
func forgetLeft(dir string) (bool, error) {
	m, err := openMemory(dir)
	if err != nil || !m.get().Left {
		return false, err
	}
	for _, name := range []string{filepath.Base(m.path), accountFile} {
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return false, err
		}
	}
	return true, nil
}
