package service

import (
	"encoding/json"
	"sync"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/view"
)

// Assessment is a cluster as judged at one moment, with what it was judged
// from. It is never changed: an observation that comes in ends in a new one.
type Assessment struct {
	View view.View
	// Members are what plans are made from. Nothing in them is changed later.
	Members []view.Member
	// WrittenBytesRate is in bytes of log a second.
	WrittenBytesRate float64

	once  sync.Once
	shown json.RawMessage
	err   error
}

// Shown returns the view as lists and the stream show it, in JSON: without observations,
// which are too large for every second. It is encoded once, however many ask.
func (a *Assessment) Shown() (json.RawMessage, error) {
	a.once.Do(func() { a.shown, a.err = json.Marshal(a.View.WithoutObservations()) })
	return a.shown, a.err
}

// assess judges the cluster; c.mu is held.
func (c *watched) assess(now time.Time) *Assessment {
	in := c.input(now)
	a := &Assessment{View: view.Assess(in), Members: in.Members, WrittenBytesRate: in.WrittenBytesRate}
	for i, m := range c.members {
		m.missing = a.View.Servers[i].Missing()
		m.adrift = cause.Cause{}
		if a.View.Servers[i].Health == view.Adrift {
			m.adrift = a.View.Servers[i].Cause
		}
	}
	c.latest.Store(a)
	return a
}

// assessNow judges the cluster once more, because time itself has passed.
func (c *watched) assessNow() *Assessment {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.assess(time.Now())
}

// Assessments returns the newest assessment of every cluster, by name.
func (s *Service) Assessments() []*Assessment {
	var out []*Assessment
	for _, c := range s.all() {
		out = append(out, c.latest.Load())
	}
	return out
}

// Assessment returns the newest assessment of one cluster.
func (s *Service) Assessment(name string) (*Assessment, error) {
	c, err := s.cluster(name)
	if err != nil {
		return nil, err
	}
	return c.latest.Load(), nil
}

// Views returns all clusters as judged last, by name.
func (s *Service) Views() []view.View {
	out := []view.View{}
	for _, a := range s.Assessments() {
		out = append(out, a.View)
	}
	return out
}

// View returns one cluster as judged last.
func (s *Service) View(name string) (view.View, error) {
	a, err := s.Assessment(name)
	if err != nil {
		return view.View{}, err
	}
	return a.View, nil
}
