package view

import (
	"fmt"
	"slices"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
)

// Names lists the names of all servers.
func (v *View) Names() (out []string) {
	for _, s := range v.Servers {
		out = append(out, s.Name)
	}
	return out
}

// Leaving lists what Cross Twin made on the servers for the named ones, which are
// about to be removed from the cluster. With all of them the cluster leaves; only then
// is the account listed, since the servers that are left follow by it.
func Leaving(v *View, names ...string) []verb.Leftover {
	d, all := dialect.Of(v.Engine), len(names) == len(v.Servers)
	var out []verb.Leftover
	for _, s := range v.Servers {
		leaves := slices.Contains(names, s.Name)
		o := s.Observation
		if o == nil {
			if leaves {
				out = append(out, verb.Leftover{Server: s.Name, What: verb.MadeUnseen})
			}
			continue
		}
		if leaves && o.Data.ClosedByDefault && !o.Data.Foreign && o.Process.Role != observation.Replica {
			out = append(out, verb.Leftover{Server: s.Name, What: verb.MadeClosed, Undo: d.OpenByDefault})
		}
		for _, x := range o.Links.Slots {
			if owner, ours := verb.SlotOwner(x.Name); ours && (all || slices.Contains(names, owner)) {
				l := verb.Leftover{Server: s.Name, What: verb.MadeSlot, Name: x.Name, For: owner,
					Undo: fmt.Sprintf(d.DropSlot, x.Name)}
				if x.Active {
					l.UsedBy = []string{owner}
				}
				out = append(out, l)
			}
		}
	}
	if !all {
		return out
	}
	account := verb.Leftover{Server: v.Primary, What: verb.MadeAccount, Name: verb.ReplicationUser,
		Undo: d.DropAccount}
	for _, s := range v.Servers {
		// A server that was not seen lately may follow by it.
		if s.Name != v.Primary && s.Cause.Code != cause.NotEnrolled &&
			(s.Observation == nil || s.Observation.Links.Upstream != nil) {
			account.UsedBy = append(account.UsedBy, s.Name)
		}
	}
	return append(out, account)
}

// LeaveCalls returns what each server's agent has to undo: that the leaving ones are
// left alone, and, with drop, the listed things that nobody uses. The account goes
// with the whole cluster only.
func LeaveCalls(v *View, names []string, list []verb.Leftover, drop bool) map[string]verb.Leave {
	out := map[string]verb.Leave{}
	for _, n := range names {
		out[n] = verb.Leave{Self: true}
	}
	if !drop {
		return out
	}
	for _, l := range list {
		c := out[l.Server]
		switch {
		case len(l.UsedBy) > 0 || l.Server == "":
			continue
		case l.What == verb.MadeSlot:
			c.Slots = append(c.Slots, l.Name)
		case l.What == verb.MadeAccount && len(names) == len(v.Servers):
			for n, c := range out {
				c.Account = true // the account on the primary, and every server's rules for it
				out[n] = c
			}
			continue
		default:
			continue
		}
		out[l.Server] = c
	}
	return out
}
