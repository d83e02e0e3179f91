package words

import (
	"fmt"

	"crosstwin/internal/core/verb"
)

// Leftover says what Cross Twin made on a server and what becomes of it.
func Leftover(l verb.Leftover) string {
	text := leftoverWords(l)
	if l.Problem != "" {
		text += "; it could not be undone: " + l.Problem
	}
	switch {
	case l.Gone || l.Undo == "":
	case len(l.UsedBy) > 0 && l.What == verb.MadeAccount:
		text += "; to drop them once that has ended: " + l.Undo
	case len(l.UsedBy) > 0:
		text += "; to drop it once that has ended: " + l.Undo
	default:
		text += "; by hand: " + l.Undo
	}
	return text
}

func leftoverWords(l verb.Leftover) string {
	switch l.What {
	case verb.MadeClosed:
		if l.Gone {
			return l.Server + " starts open for writes again"
		}
		return l.Server + " starts read-only next time"
	case verb.MadeSlot:
		switch {
		case l.Gone:
			return fmt.Sprintf("slot %s on %s was dropped", l.Name, l.Server)
		case len(l.UsedBy) > 0:
			return fmt.Sprintf("slot %s on %s keeps log for %s, which reads through it now", l.Name, l.Server, l.For)
		}
		return fmt.Sprintf("slot %s on %s keeps log for %s", l.Name, l.Server, l.For)
	case verb.MadeAccount:
		switch {
		case l.For != "" && l.Gone:
			return "the account " + l.Name + " was dropped: " + l.For + " follows by it no more"
		case l.For != "":
			return "the account " + l.Name + " on " + l.Server + ": " + l.For + " can follow by it no more, from that moment on"
		case l.Gone:
			return "the accounts " + l.Name + " were dropped, with their access rules and Cross Twin's tables"
		case len(l.UsedBy) > 0:
			return "the accounts " + l.Name + " and their access rules: " + List(l.UsedBy) + " " +
				plural(len(l.UsedBy), "follows", "follow") + " by them"
		}
		return "the accounts " + l.Name + " and their access rules, on every server"
	case verb.MadeShown:
		return fmt.Sprintf("%s shows a certificate of the service's until %s, which is renewed no more; "+
			"a replica that has it proven stops following then", l.Server, l.Until.Format("2006-01-02"))
	case verb.MadeGuard:
		return l.Server + "'s agent could not be told that it left, so it goes on keeping " + l.Server +
			" from taking writes: stop that agent on its host"
	}
	return l.Server + " was never seen: what stays there is not known"
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}
