package agent

import (
	"context"
	"time"

	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// A restart is no incident. The data is closed by default, so that a primary that
// was restarted by hand, by its service manager, or by a start of its host comes
// back read-only. When the service says afresh that the term is still its own and
// that no replica holds more, its agent opens it again.

// reopenLimit bounds the opening.
const reopenLimit = time.Minute

// mayReopen reports whether the server came back closed in the term that it owns
// and was open in: another process was open then, nobody fenced this one, and it
// is not read-only because somebody set that.
func mayReopen(g guard.State, opened string, term int64, owner bool, o *observation.Server) bool {
	return g.MayReopen(term, owner) && opened != "" && o.Process.Identity != "" && opened != o.Process.Identity &&
		(o.Job == nil || o.Job.State != observation.JobRunning) &&
		o.Process.Accepting && o.Process.Role == observation.Replica && !o.Process.Fenced && !o.Data.Foreign &&
		o.Data.Unfinished == "" &&
		(o.Links.Upstream == nil || !o.Links.Upstream.Connected)
}

// noteOpen remembers the process that takes writes by right.
func (a *Agent) noteOpen(o *observation.Server, s state) {
	if !s.Guard.Owner || !o.Process.Accepting || o.Process.Role != observation.Primary || !o.Process.Writable ||
		o.Process.Identity == "" || s.Opened == o.Process.Identity && s.Open == s.Opened && !s.Opening {
		return
	}
	if err := a.memory.change(func(s *state) error {
		s.Opened, s.Open, s.Opening = o.Process.Identity, o.Process.Identity, false
		return nil
	}); err != nil {
		a.log.Error("could not record that the server takes writes", "error", err)
	}
}

// reopen opens the server again under its own term. One at a time; the next
// answer of the service asks anew if it failed.
func (a *Agent) reopen(term int64) {
	a.lastMu.Lock()
	busy := a.reopening
	a.reopening = true
	a.lastMu.Unlock()
	if busy {
		return
	}
	defer func() {
		a.lastMu.Lock()
		a.reopening = false
		a.lastMu.Unlock()
	}()
	limited, cancel := context.WithTimeout(context.Background(), reopenLimit)
	defer cancel()
	ctx, done, err := a.acts.begin(limited, term)
	if err != nil {
		return
	}
	defer done()
	o := a.look(ctx, false)
	a.judgeForeign(o)
	s := a.memory.get()
	if o.Process.Fenced = s.Fenced; !mayReopen(s.Guard, s.Opened, term, true, o) {
		return // it has changed meanwhile
	}
	a.log.Warn("the primary was restarted and its term is still its own: it is opened again", "term", term)
	if err := a.openAgain(ctx, term); err != nil {
		a.log.Error("could not open the primary again", "error", err)
	}
}

func (a *Agent) openAgain(ctx context.Context, term int64) error {
	if _, err := a.promote(ctx, verb.Promote{Server: a.cfg.Server}, term); err != nil {
		return err
	}
	if x, ok := a.engine.(engine.Scheduler); ok {
		if err := x.Events(ctx); err != nil {
			a.log.Error("could not run its scheduled events again", "error", err)
		}
	}
	_, err := a.mark(ctx, verb.Mark{}, term)
	return err
}
