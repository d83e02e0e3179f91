package verb

import (
	"testing"
)

// Slot names and server names lead to each other.
func TestSlotNames(t *testing.T) {
	for server, slot := range map[string]string{"gull": "ct_gull", "north-1": "ct_north_1"} {
		if got := SlotName(server); got != slot {
			t.Errorf("%s reads through %s, want %s", server, got, slot)
		}
		if got, ok := SlotOwner(slot); !ok || got != server {
			t.Errorf("%s is read by %s (%t), want %s", slot, got, ok, server)
		}
	}
	if _, ok := SlotOwner("by_hand"); ok {
		t.Error("a slot that somebody made by hand is ours")
	}
}
