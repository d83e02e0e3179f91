package service

import (
	"context"
	"errors"
	"strconv"
	"time"

	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// restoreAlerts takes over what an earlier process raised.
func (s *Service) restoreAlerts(ctx context.Context) error {
	open, err := s.Store.Alerts(ctx, "", true, 100000)
	if err != nil {
		return err
	}
	for _, a := range open {
		s.alerts.Restore(alert.Key{Cluster: a.Cluster, Server: a.Server, Rule: cluster.Rule(a.Rule)}, time.Now())
	}
	return nil
}

// raise begins and ends alerts by the views of this second.
func (s *Service) raise(ctx context.Context, assessments []*Assessment, now time.Time) {
	var changes []alert.Change
	there := map[string]bool{}
	for _, a := range assessments {
		there[a.View.Cluster] = true
		changes = append(changes, s.alerts.Look(&a.View, now)...)
	}
	changes = append(changes, s.alerts.Look(&view.View{Problems: s.refused.problems(now)}, now)...)
	for _, k := range s.alerts.Missing(func(cluster string) bool { return there[cluster] || cluster == "" }) {
		changes = append(changes, alert.Change{Key: k})
	}
	for _, c := range changes {
		if err := s.tell(ctx, c); err != nil && ctx.Err() == nil {
			s.log.Error("an alert cannot be recorded", "cluster", c.Cluster, "rule", c.Rule, "error", err)
		}
	}
}

func (s *Service) tell(ctx context.Context, c alert.Change) error {
	var a alert.Alert
	var err error
	if c.Raised {
		a, err = s.Store.RaiseAlert(ctx, alert.Alert{Cluster: c.Cluster, Server: c.Server, Rule: string(c.Rule),
			Level: string(alert.LevelOf(c.Rule)), Text: c.Problem.Text, Mend: c.Problem.Mend})
	} else {
		a, err = s.Store.ClearAlert(ctx, c.Cluster, c.Server, string(c.Rule))
	}
	if errors.Is(err, store.ErrTaken) || errors.Is(err, store.ErrNotFound) {
		return nil // it was recorded already
	}
	if err != nil {
		return err
	}
	s.log.Info("alert", "raised", c.Raised, "cluster", a.Cluster, "rule", a.Rule, "text", a.Text)
	s.Hub.publish(EventAlert, a.Cluster, a)
	event := "raised"
	if !c.Raised {
		event = "over"
	}
	return s.enqueue(ctx, Message{Event: event, Alert: a})
}

// Acknowledge records that somebody has taken an alert on.
func (s *Service) Acknowledge(ctx context.Context, id int64, note, who, from string) (alert.Alert, error) {
	if len(note) > 2000 {
		return alert.Alert{}, badInput("the note has %d characters: 2000 at most", len(note))
	}
	a, err := s.Store.Acknowledge(ctx, id, who, note)
	if err != nil {
		return a, orNotFound(err, "alert", strconv.FormatInt(id, 10))
	}
	s.audit(ctx, who, from, "alert acknowledged", a.Cluster, a.Text)
	s.Hub.publish(EventAlert, a.Cluster, a)
	return a, nil
}

// OpenAlerts counts open alerts by cluster and level.
func (s *Service) OpenAlerts() map[[2]string]int {
	out := map[[2]string]int{}
	list, err := s.Store.Alerts(context.Background(), "", true, 100000)
	if err != nil {
		s.log.Error("the alerts cannot be read", "error", err)
	}
	for _, a := range list {
		out[[2]string{a.Cluster, a.Level}]++
	}
	return out
}

// RecordsBytes is the size of the records.
func (s *Service) RecordsBytes() int64 { return s.Store.FileBytes() }
