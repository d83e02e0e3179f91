package store

import (
	"context"
	"time"
)

// AddSession keeps the hash of a session's secret.
func (s *Store) AddSession(ctx context.Context, hash, token string, life time.Duration) error {
	t := time.Now().UTC()
	if _, err := s.w.ExecContext(ctx, "delete from sessions where expires_at < ?", t.Format(timeText)); err != nil {
		return err
	}
	_, err := s.w.ExecContext(ctx, "insert into sessions (hash, token_name, created_at, expires_at) values (?, ?, ?, ?)",
		hash, token, t.Format(timeText), t.Add(life).Format(timeText))
	return err
}

// SessionToken returns the token that a living session was opened with. A removed
// token ends its sessions.
func (s *Store) SessionToken(ctx context.Context, hash string) (string, error) {
	var name string
	return name, notFound(s.r.GetContext(ctx, &name,
		"select token_name from sessions join tokens on name = token_name where sessions.hash = ? and "+
			"sessions.expires_at > ? and coalesce(tokens.expires_at, '9') > ?", hash, now(), now()))
}

// RemoveSession ends a session.
func (s *Store) RemoveSession(ctx context.Context, hash string) error {
	_, err := s.w.ExecContext(ctx, "delete from sessions where hash = ?", hash)
	return err
}

// AddSessionLink keeps the hash of a one-time link.
func (s *Store) AddSessionLink(ctx context.Context, hash, token string, life time.Duration) error {
	_, err := s.w.ExecContext(ctx, "insert into session_links (hash, token_name, expires_at) values (?, ?, ?)", hash,
		token, time.Now().Add(life).UTC().Format(timeText))
	return err
}

// UseSessionLink returns the token of a link, once.
func (s *Store) UseSessionLink(ctx context.Context, hash string) (string, error) {
	var name string
	return name, notFound(s.w.GetContext(ctx, &name,
		"delete from session_links where hash = ? and expires_at > ? returning token_name", hash, now()))
}
