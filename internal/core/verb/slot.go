package verb

import "strings"

// slotPrefix begins the name of every slot that Cross Twin makes.
const slotPrefix = "ct_"

// SlotName returns the name of the slot through which a server reads. Server
// names hold no underscore, so two servers never share a slot.
func SlotName(server string) string { return slotPrefix + strings.ReplaceAll(server, "-", "_") }

// SlotOwner returns the server that reads through a slot of ours; ok is false
// for a slot that somebody else made. It is the only place that leads from slots
// to servers.
func SlotOwner(slot string) (server string, ok bool) {
	name, ok := strings.CutPrefix(slot, slotPrefix)
	if !ok {
		return "", false
	}
	return strings.ReplaceAll(name, "_", "-"), true
}
