package store

import (
	"strings"
	"testing"

	"crosstwin/internal/core/access"
)

// A record that finds no room is refused with what to do, and nothing else is lost: with
// room again it goes on.
func TestNoRoom(t *testing.T) {
	s, ctx := open(t, t.TempDir()), t.Context()
	if err := s.Ping(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := s.w.ExecContext(ctx, "pragma max_page_count = 1"); err != nil {
		t.Fatal(err)
	}
	e := access.Event{Who: "ada", Action: "asked", Detail: strings.Repeat("why ", 1000)}
	var err error
	for i := 0; i < 100 && err == nil; i++ {
		err = s.AddEvent(ctx, e)
	}
	if err == nil || !strings.Contains(s.Explain(err).Error(), s.path+" is full: free some room there") {
		t.Fatal(s.Explain(err))
	}
	if _, err := s.w.ExecContext(ctx, "pragma max_page_count = 1000000"); err != nil {
		t.Fatal(err)
	}
	if err := s.AddEvent(ctx, e); err != nil {
		t.Error(err)
	}
}
