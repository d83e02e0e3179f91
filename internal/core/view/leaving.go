package view

import (
	"fmt"
	"slices"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// Leaving lists what stays on the servers when the named ones are taken out of
// the cluster, with how each is undone. Nothing is removed by itself: somebody
// may rest on it.
func Leaving(v *View, names ...string) []string {
	d := dialect.Of(v.Engine)
	var out []string
	for _, s := range v.Servers {
		o := s.Observation
		if o == nil {
			if slices.Contains(names, s.Name) {
				out = append(out, s.Name+" was never seen: what stays there is not known")
			}
			continue
		}
		if slices.Contains(names, s.Name) && o.Data.ClosedByDefault && !o.Data.Foreign &&
			o.Process.Role != observation.Replica {
			out = append(out, fmt.Sprintf("%s's next start is read-only; to undo that, %s", s.Name, d.OpenByDefault))
		}
		for _, x := range o.Links.Slots {
			if owner, ours := verb.SlotOwner(x.Name); ours && slices.Contains(names, owner) {
				out = append(out, fmt.Sprintf("slot %s on %s keeps log for %s; to drop it: %s", x.Name, s.Name, owner,
					fmt.Sprintf(d.DropSlot, x.Name)))
			}
		}
	}
	return append(out, "the account "+verb.ReplicationUser+" and its access rules, on every server")
}
