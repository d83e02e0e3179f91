package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"crosstwin/internal/core/view"
)

// Whoever has taken over a replica's host has its agent claim a newer term, and other
// addresses: the primary goes on, the claim is an alert, and the access rules of the
// others stay as they are.
func TestFalseClaim(t *testing.T) {
	t.Parallel()
	w := newWorld(t, true)
	load := w.Load(1, 30*time.Millisecond)
	defer load.Stop()
	w.settled()
	if err := w.KillAgent("heron"); err != nil {
		t.Fatal(err)
	}
	forge := func(file string, change func(map[string]any)) {
		t.Helper()
		path := filepath.Join(w.Server("heron").AgentDir, file)
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		var v map[string]any
		if err := json.Unmarshal(b, &v); err != nil {
			t.Fatal(err)
		}
		change(v)
		if b, err = json.Marshal(v); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	forge("state.json", func(v map[string]any) {
		v["guard"] = map[string]any{"noted": 9, "accepted": 9, "owner": true}
	})
	if err := w.StartAgent(w.ctx, "heron"); err != nil {
		t.Fatal(err)
	}
	w.says([]string{"heron's agent claims term 9, and no decision of this service says so"}, "status", "bookings")
	if err := load.AwaitAcks(w.ctx, 200); err != nil {
		t.Fatal(err)
	}
	v, err := w.Client.Cluster(w.ctx, w.Name)
	if err != nil {
		t.Fatal(err)
	}
	if v.Primary != "gull" || v.Find("gull").Health != view.TakesWrites || v.OwnerTerm != 1 {
		t.Errorf("after the claim: %s in term %d, %+v", v.Primary, v.OwnerTerm, v.Problems)
	}
}
