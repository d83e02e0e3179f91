package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/store"
)

// Operations lists operations, newest first, without steps and journal. An empty
// cluster, state or kind means all.
func (s *Service) Operations(ctx context.Context, cluster, state, kind string, limit int) ([]operation.Operation,
	error) {
	return s.Store.Operations(ctx, cluster, state, kind, limit)
}

// Operation returns one operation with steps and journal.
func (s *Service) Operation(ctx context.Context, id int64) (operation.Operation, error) {
	op, err := s.Store.Operation(ctx, id)
	op.Moments = op.Course()
	return op, orNotFound(err, "operation", fmt.Sprint(id))
}

// Audit lists the audit trail, newest first.
func (s *Service) Audit(ctx context.Context, before int64, limit int) ([]access.Event, error) {
	return s.Store.Events(ctx, before, limit)
}

// NoteRequest writes into the audit trail that somebody asked for something, before it
// is done. What cannot be written there is not done.
func (s *Service) NoteRequest(ctx context.Context, who, from, what, target string) error {
	if err := s.Store.AddEvent(ctx, access.Event{Who: who, From: from, Action: "asked", Target: target,
		Detail: what}); err != nil {
		return fmt.Errorf("the audit trail cannot be written, so nothing was done: %w", err)
	}
	return nil
}

// NoteRefusal writes into the audit trail that somebody asked for what they may not, and
// raises an alert.
func (s *Service) NoteRefusal(ctx context.Context, who, from, target, why string) {
	s.refused.note(who, cause.Cause{Code: cause.TokenRefused, Name: who, Text: target, At: from},
		cause.Cause{Code: cause.RemoveToken, Name: who}, time.Now())
	s.audit(ctx, who, from, "refused", target, why)
}

// CopyRecords writes a consistent copy of the records, as a file of its own.
func (s *Service) CopyRecords(ctx context.Context, w io.Writer) error {
	name, err := s.Store.TemporaryCopy(ctx)
	if err != nil {
		return err
	}
	defer os.Remove(name)
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.Copy(w, f)
	return err
}

// Token returns what a token is good for, while it lasts.
func (s *Service) Token(ctx context.Context, name string) (access.Token, error) {
	t, err := s.Store.Token(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return t, ErrUnknownToken
	}
	return t, err
}

// Tokens lists access tokens, without their secrets.
func (s *Service) Tokens(ctx context.Context) ([]access.Token, error) { return s.Store.Tokens(ctx) }

// Alerts lists alerts, open ones first.
func (s *Service) Alerts(ctx context.Context, cluster string, onlyOpen bool, limit int) ([]alert.Alert, error) {
	return s.Store.Alerts(ctx, cluster, onlyOpen, limit)
}

// Channels lists where alerts are sent.
func (s *Service) Channels(ctx context.Context) ([]alert.Channel, error) {
	return s.Store.Channels(ctx)
}

// RecordsSize measures the records.
func (s *Service) RecordsSize(ctx context.Context) (history.RecordsSize, error) {
	return s.Store.Measure(ctx, s.Keep, time.Now())
}

// NoteUse records that a token was used.
func (s *Service) NoteUse(ctx context.Context, name string) {
	if err := s.Store.TouchToken(ctx, name); err != nil {
		s.log.Warn("could not record the use of a token", "error", err)
	}
}

// SessionName returns whose session a cookie belongs to, empty for none.
func (s *Service) SessionName(ctx context.Context, cookie string) (string, error) {
	name, err := s.Store.SessionToken(ctx, Hash(cookie))
	if errors.Is(err, store.ErrNotFound) {
		return "", nil
	}
	return name, err
}

// CloseSession ends a session.
func (s *Service) CloseSession(ctx context.Context, cookie string) error {
	return s.Store.RemoveSession(ctx, Hash(cookie))
}
