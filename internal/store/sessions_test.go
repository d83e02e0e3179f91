package store

import (
	"errors"
	"testing"
	"time"

	"crosstwin/internal/core/access"
)

// A session lives as long as it may and as its token; a link opens one session.
func TestSessions(t *testing.T) {
	s, ctx := open(t, t.TempDir()), t.Context()
	for _, n := range []string{"night-shift", "day-shift"} {
		if err := s.AddToken(ctx, access.Token{Name: n}, "hash of "+n); err != nil {
			t.Fatal(err)
		}
	}
	for hash, life := range map[string]time.Duration{"living": time.Hour, "over": -time.Second} {
		if err := s.AddSession(ctx, hash, "night-shift", life); err != nil {
			t.Fatal(err)
		}
	}
	if name, err := s.SessionToken(ctx, "living"); err != nil || name != "night-shift" {
		t.Errorf("%q %v", name, err)
	}
	for _, hash := range []string{"over", "never made"} {
		if name, err := s.SessionToken(ctx, hash); !errors.Is(err, ErrNotFound) {
			t.Errorf("%s: %q %v", hash, name, err)
		}
	}
	if err := s.AddSession(ctx, "orphan", "nobody", time.Hour); err == nil {
		t.Error("a session without a token")
	}
	if err := s.RemoveToken(ctx, "night-shift"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SessionToken(ctx, "living"); !errors.Is(err, ErrNotFound) {
		t.Errorf("its token is gone: %v", err)
	}
	for hash, life := range map[string]time.Duration{"link": time.Minute, "old link": -time.Second} {
		if err := s.AddSessionLink(ctx, hash, "day-shift", life); err != nil {
			t.Fatal(err)
		}
	}
	if name, err := s.UseSessionLink(ctx, "link"); err != nil || name != "day-shift" {
		t.Errorf("%q %v", name, err)
	}
	for _, hash := range []string{"link", "old link"} {
		if _, err := s.UseSessionLink(ctx, hash); !errors.Is(err, ErrNotFound) {
			t.Errorf("%s: %v", hash, err)
		}
	}
}
