package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/alert"
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
	return op, orNotFound(err, "operation", fmt.Sprint(id))
}

// Audit lists the audit trail, newest first.
func (s *Service) Audit(ctx context.Context, limit int) ([]access.Event, error) {
	return s.Store.Events(ctx, limit)
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
