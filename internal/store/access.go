package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"crosstwin/internal/core/access"
)

// AddToken keeps the hash of a new token with what it is good for.
func (s *Store) AddToken(ctx context.Context, t access.Token, hash string) error {
	var scopes []string
	for _, x := range t.Scopes {
		scopes = append(scopes, string(x))
	}
	var expires *string
	if t.ExpiresAt != nil {
		text := t.ExpiresAt.UTC().Format(timeText)
		expires = &text
	}
	_, err := s.w.ExecContext(ctx,
		"insert into tokens (name, hash, created_at, scopes, clusters, expires_at) values (?, ?, ?, ?, ?, ?)", t.Name, hash,
		now(), strings.Join(scopes, ","), strings.Join(t.Clusters, ","), expires)
	if unique(err) {
		return fmt.Errorf("token %s: %w", t.Name, ErrTaken)
	}
	return err
}

// TokenName returns the name of a token by its hash, while it lasts.
func (s *Store) TokenName(ctx context.Context, hash string) (string, error) {
	var name string
	return name, notFound(s.r.GetContext(ctx, &name,
		"select name from tokens where hash = ? and coalesce(expires_at, '9') > ?", hash, now()))
}

// Token returns a token's record, while it lasts.
func (s *Store) Token(ctx context.Context, name string) (access.Token, error) {
	var r tokenRow
	err := s.r.GetContext(ctx, &r, "select * from tokens where name = ? and coalesce(expires_at, '9') > ?", name, now())
	if err != nil {
		return access.Token{}, notFound(err)
	}
	return r.token(), nil
}

type tokenRow struct {
	Name       string         `db:"name"`
	ID         int64          `db:"id"`
	Hash       string         `db:"hash"`
	CreatedAt  string         `db:"created_at"`
	LastUsedAt sql.NullString `db:"last_used_at"`
	Scopes     string         `db:"scopes"`
	Clusters   string         `db:"clusters"`
	ExpiresAt  sql.NullString `db:"expires_at"`
}

func (r tokenRow) token() access.Token {
	t := access.Token{Name: r.Name, CreatedAt: must(r.CreatedAt), LastUsedAt: parseTime(r.LastUsedAt),
		ExpiresAt: parseTime(r.ExpiresAt), Scopes: []access.Scope{}, Clusters: []string{}}
	for _, s := range strings.Split(r.Scopes, ",") {
		t.Scopes = append(t.Scopes, access.Scope(s))
	}
	if r.Clusters != "" {
		t.Clusters = strings.Split(r.Clusters, ",")
	}
	return t
}

// TouchToken records that a token was used, at most once a minute.
func (s *Store) TouchToken(ctx context.Context, name string) error {
	s.touch.Lock()
	fresh := time.Since(s.touched[name]) < time.Minute
	if !fresh {
		s.touched[name] = time.Now()
	}
	s.touch.Unlock()
	if fresh {
		return nil // most requests write nothing
	}
	_, err := s.w.ExecContext(ctx, "update tokens set last_used_at = ? where name = ? and coalesce(last_used_at, '') < ?",
		now(), name, time.Now().Add(-time.Minute).UTC().Format(timeText))
	return err
}

// Tokens lists all tokens.
func (s *Store) Tokens(ctx context.Context) ([]access.Token, error) {
	var rows []tokenRow
	if err := s.r.SelectContext(ctx, &rows, "select * from tokens order by name"); err != nil {
		return nil, err
	}
	out := []access.Token{}
	for _, r := range rows {
		out = append(out, r.token())
	}
	return out, nil
}

// RemoveToken removes a token. Its name and hash stay, so that it is known when somebody
// uses it all the same.
func (s *Store) RemoveToken(ctx context.Context, name string) error {
	tx, err := s.w.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "insert or replace into removed_tokens (hash, name, removed_at) "+
		"select hash, name, ? from tokens where name = ?", now(), name); err != nil {
		return err
	}
	var gone string
	if err := tx.GetContext(ctx, &gone, "delete from tokens where name = ? returning name", name); err != nil {
		return notFound(err)
	}
	return tx.Commit()
}

// OldToken returns the name of a token that was removed, or has expired, by its hash.
func (s *Store) OldToken(ctx context.Context, hash string) (name string, removed bool, err error) {
	err = s.r.GetContext(ctx, &name, "select name from removed_tokens where hash = ?", hash)
	if err == nil {
		return name, true, nil
	}
	return name, false, notFound(s.r.GetContext(ctx, &name, "select name from tokens where hash = ?", hash))
}

// AddEvent records who asked for what.
func (s *Store) AddEvent(ctx context.Context, e access.Event) error {
	_, err := s.w.ExecContext(ctx,
		"insert into events (at, who, from_address, action, target, detail) values (?, ?, ?, ?, ?, ?)", now(), e.Who, e.From,
		e.Action, e.Target, e.Detail)
	return err
}

// Events returns the newest events first; before an event's number when that is not 0.
func (s *Store) Events(ctx context.Context, before int64, limit int) ([]access.Event, error) {
	var rows []struct {
		ID     int64  `db:"id"`
		At     string `db:"at"`
		Who    string `db:"who"`
		From   string `db:"from_address"`
		Action string `db:"action"`
		Target string `db:"target"`
		Detail string `db:"detail"`
	}
	if err := s.r.SelectContext(ctx, &rows,
		"select * from events where ? in (0) or id < ? order by id desc limit ?", before,
		before, limit); err != nil {
		return nil, err
	}
	out := []access.Event{}
	for _, r := range rows {
		out = append(out, access.Event{ID: r.ID, At: must(r.At), Who: r.Who, From: r.From, Action: r.Action, Target: r.Target,
			Detail: r.Detail})
	}
	return out, nil
}
