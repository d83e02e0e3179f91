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
// about to be removed from the cluster. With all of them the cluster leaves, which its
// servers may go on replicating without; a server that leaves alone loses its way in.
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
				if x.Active && all {
					l.UsedBy = []string{owner}
				}
				out = append(out, l)
			}
		}
		if leaves && o.Encryption != nil && o.Encryption.State == observation.ProofAuthority {
			out = append(out, verb.Leftover{Server: s.Name, What: verb.MadeShown, Until: o.Encryption.CertificateEnds,
				Undo: d.DropCertificate})
		}
	}
	if !all {
		for _, n := range names {
			out = append(out, verb.Leftover{Server: v.Primary, What: verb.MadeAccount, Name: verb.ReplicationUser(n), For: n,
				Undo: fmt.Sprintf(d.DropOne, verb.ReplicationUser(n))})
		}
		return out
	}
	account := verb.Leftover{Server: v.Primary, What: verb.MadeAccount, Name: verb.AccountsOfAll,
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
// left alone; that a server which leaves alone follows no more (invariant: who is
// removed has no way in); and, with drop, the listed things that nobody uses.
func LeaveCalls(v *View, names []string, list []verb.Leftover, drop bool) map[string]verb.Leave {
	out := map[string]verb.Leave{}
	for _, n := range names {
		out[n] = verb.Leave{Self: true}
	}
	alone := len(names) < len(v.Servers)
	for _, s := range v.Servers {
		if alone && s.Observation != nil && !slices.Contains(names, s.Name) {
			out[s.Name] = verb.Leave{Revoke: names}
		}
	}
	for _, l := range list {
		c := out[l.Server]
		switch {
		case !drop && !alone || len(l.UsedBy) > 0 || l.Server == "":
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

// NotUndone lists what stays because a server's agent could not be asked to undo it.
func NotUndone(server string, call verb.Leave, problem string) (out []verb.Leftover) {
	if call.Self {
		out = append(out, verb.Leftover{Server: server, What: verb.MadeGuard, Problem: problem})
	}
	for _, n := range call.Revoke {
		out = append(out, verb.Leftover{Server: server, What: verb.MadeAccount, Name: verb.ReplicationUser(n), For: n,
			Problem: problem})
	}
	for _, n := range call.Slots {
		out = append(out, verb.Leftover{Server: server, What: verb.MadeSlot, Name: n, Problem: problem})
	}
	return out
}
