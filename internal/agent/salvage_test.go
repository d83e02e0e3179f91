package agent

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// Saved tails stay for as long as the service says, and longer while something unfinished
// may need them; without a word they stay for ever.
func TestForgetTails(t *testing.T) {
	r := newRig(t)
	if err := os.MkdirAll(r.salvageDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	old, young := filepath.Join(r.salvageDir(), "old.sql"), filepath.Join(r.salvageDir(), "young.sql")
	now := time.Now()
	for file, age := range map[string]time.Duration{old: 50 * time.Hour, young: time.Hour} {
		if err := os.WriteFile(file, []byte("rows"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(file, now.Add(-age), now.Add(-age)); err != nil {
			t.Fatal(err)
		}
	}
	there := func(what string, wantOld bool) {
		t.Helper()
		_, err := os.Stat(old)
		_, err2 := os.Stat(young)
		if (err == nil) != wantOld || err2 != nil {
			t.Errorf("%s: the old one is there: %t; the young one: %v", what, err == nil, err2)
		}
	}
	r.forgetTails(now, 0)
	there("nothing said", true)
	r.memory.SetUnfinished("rewind")
	r.forgetTails(now.Add(2*forgetEvery), 48*time.Hour)
	there("a rewind is unfinished", true)
	r.memory.SetUnfinished("")
	r.forgetTails(now.Add(2*forgetEvery+time.Minute), 48*time.Hour)
	there("looked at a minute ago", true)
	r.forgetTails(now.Add(4*forgetEvery), 48*time.Hour)
	there("after two days", false)
}
