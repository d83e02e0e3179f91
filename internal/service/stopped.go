package service

import (
	"context"
	"strings"
	"time"

	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

// What a server that does not run holds beyond the primary is seen only by an
// examination of its log. The service has each such server examined once, so that
// what is to be decided about it shows without a question.

// examineAgain is how long after an examination that failed the next one is tried.
const examineAgain = time.Minute

// stoppedData is what was found in the data of a server that does not run.
type stoppedData struct {
	of    string // the data and the term it was held against
	found *verb.Examination
	busy  bool
	next  time.Time
}

// examineStopped has every server examined that does not run and was not yet.
func (s *Service) examineStopped(ctx context.Context, c *watched, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	a, quiet := c.quiet()
	if !quiet {
		return
	}
	for _, m := range c.members {
		v := a.View.Find(m.rec.Name)
		if v == nil || v.Health != view.Fenced && v.Health != view.Stopped || m.last.Data.Empty ||
			m.last.Data.Unfinished != "" || m.last.Process.Running || m.stopped.busy || now.Before(m.stopped.next) ||
			m.stopped.of == c.stoppedAs(m) {
			continue
		}
		m.stopped = stoppedData{of: c.stoppedAs(m), busy: true}
		go s.examineOne(ctx, c, m, c.rec.Owner)
	}
}

// stoppedAs tells one state of a stopped server's data from another; c.mu is held.
func (c *watched) stoppedAs(m *member) string {
	d := m.last.Data
	return strings.Join([]string{c.rec.Owner, m.last.Log.Line.Fingerprint, d.State, d.Redo, d.System,
		m.last.Log.ShutdownAt}, " ")
}

// examineOne asks the primary first how far it is: what a server received before it
// stopped is never more than what the primary has written by then.
func (s *Service) examineOne(ctx context.Context, c *watched, m *member, owner string) {
	_, err := s.observe(ctx, c.name(), owner, false)
	var x *verb.Examination
	if a := c.assessNow(); err == nil && a.View.Primary == owner {
		x, err = s.examine(ctx, &plan.Input{View: a.View, Members: a.Members}, m.rec.Name, false)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	m.stopped.busy, m.stopped.found = false, x
	if err != nil || x == nil {
		m.stopped.of, m.stopped.next = "", time.Now().Add(examineAgain)
	}
}

// examined returns what is known of a stopped server's data, as long as it is that
// data; c.mu is held.
func (c *watched) examined(m *member) *verb.Examination {
	if m.last == nil || m.last.Process.Running || m.stopped.of != c.stoppedAs(m) {
		return nil
	}
	return m.stopped.found
}
