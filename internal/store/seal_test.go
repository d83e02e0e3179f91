package store

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crosstwin/internal/core/alert"
)

// A channel's secret is read back by the key beside the records, and by nothing else: it
// stands in no file of theirs, one that an older version kept as it was included.
func TestSecretsAreSealed(t *testing.T) {
	dir := t.TempDir()
	ctx := t.Context()
	open := func() *Store {
		t.Helper()
		s, err := Open(ctx, dir)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := open()
	duty := alert.Channel{Name: "duty", URL: "https://duty.example", Secret: "planted-secret"}
	if err := s.AddChannel(ctx, duty); err != nil {
		t.Fatal(err)
	}
	if _, err := s.w.ExecContext(ctx, "insert into channels (name, url, secret, created_at) values ('old', 'https://x', "+
		"'planted-before', ?)", now()); err != nil {
		t.Fatal(err)
	}
	s.Close()
	s = open()
	if _, err := s.w.ExecContext(ctx, "vacuum"); err != nil {
		t.Fatal(err)
	}
	list, err := s.Channels(ctx)
	if err != nil || len(list) != 2 || list[0].Secret != "planted-secret" || list[1].Secret != "planted-before" ||
		list[0].Problem != "" {
		t.Errorf("%+v %v", list, err)
	}
	// One that is moved to another channel's record opens nothing.
	if _, err := s.w.ExecContext(ctx, "update channels set secret = (select secret from channels where name = 'old') "+
		"where name = 'duty'"); err != nil {
		t.Fatal(err)
	}
	if list, err = s.Channels(ctx); err != nil || list[0].Secret != "" || list[0].Problem == "" {
		t.Errorf("another channel's secret: %+v %v", list, err)
	}
	s.Close()
	files, err := filepath.Glob(filepath.Join(dir, "crosstwin.db*"))
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		if b, err := os.ReadFile(f); err != nil || bytes.Contains(b, []byte("planted-")) {
			t.Errorf("%s holds a secret: %v", f, err)
		}
	}
	key := filepath.Join(dir, keyFile)
	if fi, err := os.Stat(key); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}

	// Without its key the service goes on, and says which channels are mute.
	if err := os.Remove(key); err != nil {
		t.Fatal(err)
	}
	s = open()
	list, err = s.Channels(ctx)
	if err != nil || len(list) != 2 || list[1].Secret != "" || !strings.Contains(list[1].Problem, "add it again") {
		t.Errorf("%+v %v", list, err)
	}
	s.Close()
	if err := os.WriteFile(key, []byte("hello"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(ctx, dir); err == nil || !strings.Contains(err.Error(), "holds no key") {
		t.Errorf("%v", err)
	}
}
