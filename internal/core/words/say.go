package words

import (
	"cmp"
	"fmt"
	"strings"

	"crosstwin/internal/core/cause"
)

// Say puts a cause into words; empty for none. Causes of health are predicates
// of a server that the reader already has in mind ("its link to gull is down");
// problems and parts of a cluster's sentence stand by themselves.
func Say(c cause.Cause) string {
	f, known := says[c.Code]
	if !known {
		return ""
	}
	text := f(c)
	if len(c.Others) == 1 && c.Others[0].Code == cause.WasAt {
		text += "; " + Say(c.Others[0])
	}
	return text
}

// Codes lists the codes that can be said.
func Codes() []cause.Code {
	var out []cause.Code
	for c := range says {
		out = append(out, c)
	}
	return out
}

// failoverWords say why a failover begins by itself, or does not.
var failoverWords = map[cause.Code]func(cause.Cause) string{
	cause.FailoverUnfenced: plain("fencing is off, so nothing but a person's word tells that the old primary has stopped"),
	cause.FailoverBusy:     func(c cause.Cause) string { return "a " + c.Text + " is under way" },
	cause.FailoverNeedsYou: plain("an operation ended so that a person has to look first"),
	cause.FailoverMaintenance: func(c cause.Cause) string {
		return "a maintenance is announced: " + c.Text
	},
	cause.FailoverOff: func(c cause.Cause) string { return "it is off for " + Span(c.Seconds) + " more" },
	cause.FailoverQuiet: func(c cause.Cause) string {
		return "the last one is too recent: not for " + Span(c.Seconds) + " more"
	},
	cause.FailoverNobody: plain("no other server may take over"),
	cause.FailoverUnclear: func(c cause.Cause) string {
		return "how " + c.Name + " is cannot be told"
	},
	cause.FailoverCrashed: func(c cause.Cause) string { return c.Name + "'s database crashed" },
	cause.FailoverTooFew: func(c cause.Cause) string {
		return fmt.Sprintf("%s would be left, and %d have to be", Count(c.Count, "server"), c.Total)
	},
	cause.FailoverNoStart: func(c cause.Cause) string {
		return c.Name + "'s database crashed, and could not be started again in time"
	},
	cause.StartsAgain: func(c cause.Cause) string {
		return fmt.Sprintf("%s is started again first, which may take %s%s", c.Name, Span(c.Seconds), because(c))
	},
	cause.FailoverStopped: func(c cause.Cause) string { return c.Name + " was stopped in order, as a person does" },
	cause.FailoverReopens: func(c cause.Cause) string { return c.Name + " was restarted and is about to be opened again" },
	cause.FailoverClosed:  func(c cause.Cause) string { return c.Name + " runs read-only and could not be opened again" },
	cause.FailoverHangs: func(c cause.Cause) string {
		return c.Name + "'s database runs and has not answered for " + Span(c.Seconds)
	},
	cause.FailoverDisk: func(c cause.Cause) string {
		return fmt.Sprintf("a commit on %s has been waiting for its disk for %s", c.Name, Span(c.Seconds))
	},
	cause.FailoverPath: func(c cause.Cause) string {
		return "only the way to " + c.Name + " is lost: " + c.Peer + " still receives from it"
	},
	cause.FailoverPledged: func(c cause.Cause) string {
		return "only the way to " + c.Name + " is lost: it has just asked " + c.Peer + " for its pledge, and writes by that"
	},
	cause.FailoverAlone: func(c cause.Cause) string {
		return fmt.Sprintf("besides %s too few agents answer to tell its loss from a loss of the service's own network (%d)",
			c.Name, c.Count)
	},
	cause.FailoverUnseen: func(c cause.Cause) string {
		return c.Name + "'s agent has not answered for " + Span(c.Seconds) + ", and no replica receives from it"
	},
	cause.FailoverLoss: func(c cause.Cause) string {
		return fmt.Sprintf("up to %s could be lost, by what was seen last, and %s are accepted", Size(c.Bytes), Size(c.Total))
	},
	cause.FailoverPlan: func(c cause.Cause) string { return c.Text },
	cause.NoFailover: func(c cause.Cause) string {
		return "no failover of " + c.Cluster + " begins by itself" + because(c)
	},
	cause.RejoinsByItself: func(c cause.Cause) string {
		return c.Name + " has come apart from " + c.Cluster + because(c)
	},
	cause.FailoverByHand: func(c cause.Cause) string {
		return "it begins once that is otherwise; or by hand: crosstwin failover " + c.Cluster
	},
	cause.FailoverSyncWaits: func(c cause.Cause) string {
		return c.Name + " lives: its commits wait for " + List(c.Names) + ", as they would on another server"
	},
	cause.FailoverNoPromise: func(c cause.Cause) string {
		return "the cluster may lose no write, and that every write of " + c.Name + " is on a replica was not proven yet"
	},
	cause.FailoverNotCovered: func(c cause.Cause) string {
		return "a write that " + c.Name + " acknowledged may be on none of those that answer: it takes an answer of " +
			answers(c.Others)
	},
	cause.Answers: func(c cause.Cause) string { return SomeOf(c.Count, c.Names) },
	cause.RefereeCounts: func(c cause.Cause) string {
		return fmt.Sprintf("it answers and counts towards the majority; the newest term it has noted is %d", c.Count)
	},
	cause.StillReceives: func(c cause.Cause) string { return "it receives from " + c.Peer },
}

var says map[cause.Code]func(cause.Cause) string

func init() { // Say refers to the table, and the table to Say
	says = map[cause.Code]func(cause.Cause) string{}
	for _, part := range []map[cause.Code]func(cause.Cause) string{healthWords, linkWords, roleWords, problemWords,
		slowWords, remedyWords, sentenceWords, failoverWords, synchronousWords} {
		for code, f := range part {
			says[code] = f
		}
	}
}

func plain(text string) func(cause.Cause) string { return func(cause.Cause) string { return text } }

var healthWords = map[cause.Code]func(cause.Cause) string{
	cause.NotEnrolled:   plain("its agent has not enrolled yet"),
	cause.NeverAnswered: func(c cause.Cause) string { return cmp.Or(c.Text, "its agent has not answered yet") },
	cause.Silent: func(c cause.Cause) string {
		return cmp.Or(c.Text, "no answer for "+Span(c.Seconds))
	},
	cause.CommitsWait: func(c cause.Cause) string {
		return "a commit has been waiting for " + Span(c.Seconds) + " for a synchronous replica, or for room on the disk"
	},
	cause.NoReads: plain("it is set to take no connections while it is a replica (hot_standby is off), so how far it is " +
		"cannot be seen"),
	cause.NotLetIn: func(c cause.Cause) string {
		return "its agent may not log in, so what it does is not known" + behind(": ", c.Text)
	},
	cause.OpenWithoutTerm: func(c cause.Cause) string {
		return fmt.Sprintf("it is open for writes although %s owns term %d", c.Peer, c.Term)
	},
	cause.Strayed: func(c cause.Cause) string {
		return "it was open for writes without right, so it may hold writes that " + c.Peer + " lacks"
	},
	cause.ForeignOrigin: func(c cause.Cause) string {
		if c.At == "" {
			return "nothing shows that its data is this cluster's: its agent leaves it as it is"
		}
		return fmt.Sprintf(
			"its data is not this cluster's: its system identifier is %s, not %s; its agent leaves it as it is", c.At, c.Fork)
	},
	cause.OpenBefore: func(c cause.Cause) string {
		if c.Peer != "" {
			return "it follows " + c.Peer + " and was open for writes already when it was added: its agent leaves it as it is"
		}
		return "it took writes of its own already when it was added: its agent leaves it as it is"
	},
	cause.OpensByItself: plain("it would take writes of its own if its host started it, so its agent, which does not " +
		"know it from before, leaves it as it is"),
	cause.OtherHistory: func(c cause.Cause) string {
		return fmt.Sprintf("it reports %s like %s, but its %s began with another record: these are different writes",
			c.History, c.Peer, c.History)
	},
	cause.PastFork: func(c cause.Cause) string {
		return fmt.Sprintf("it is at %s, past the fork at %s where %s's history parted", c.At, c.Fork, c.Peer)
	},
	cause.ExtraGTIDs: func(c cause.Cause) string {
		return fmt.Sprintf("it holds transactions up to %s that %s lacks", c.Text, c.Peer)
	},
	cause.NoAncestor: func(c cause.Cause) string { return c.Text },
	cause.Copying:    func(c cause.Cause) string { return c.Text },
	cause.Interrupted: func(c cause.Cause) string {
		return fmt.Sprintf("a %s was interrupted; the data is unusable until the %s is run again", c.Name, c.Name)
	},
	cause.FencedByAgent: plain("its agent stopped it so that it takes no writes"),
	cause.NoDatabase:    plain("it holds no database yet"),
	cause.DiskHangs: func(c cause.Cause) string {
		return "a commit has been waiting for its disk for " + Span(c.Seconds)
	},
	cause.Doomed:         plain("its database was killed and waits for its disk: it acknowledges nothing any more"),
	cause.StoppedCleanly: plain("its database was stopped cleanly"),
	cause.Crashed: func(c cause.Cause) string {
		return "its database crashed (its data says: " + c.Text + ")"
	},
	cause.NotRunning: func(c cause.Cause) string { return cmp.Or(c.Text, "its database does not run") },
	cause.NoAnswer:   func(c cause.Cause) string { return cmp.Or(c.Text, "its database runs and does not answer") },
	cause.ReadOnlyBySet: func(c cause.Cause) string {
		return "its sessions are read-only, by " + cmp.Or(c.Name, "a setting")
	},
	cause.RunsAsReplica: plain("it runs read-only, as a replica"),
}

var linkWords = map[cause.Code]func(cause.Cause) string{
	cause.FollowsNone: plain("it follows no server"),
	cause.Deposed:     plain("a failover took its role as primary, and it follows no server yet"),
	cause.FollowsStranger: func(c cause.Cause) string {
		return "it follows " + c.Peer + ", which is not a server of this cluster"
	},
	cause.LinkDown: func(c cause.Cause) string { return cmp.Or(c.Text, "its link to "+c.Peer+" is down") },
	cause.UpstreamSilent: func(c cause.Cause) string {
		return fmt.Sprintf("its link to %s is down, because %s does not answer", c.Peer, c.Peer)
	},
	cause.ApplierStopped: func(c cause.Cause) string { return "applying stopped: " + c.Text },
	cause.ReplayPaused: func(c cause.Cause) string {
		if c.Bytes == 0 {
			return "replay is paused on it"
		}
		return fmt.Sprintf("replay is paused: %s wait on its disk", Size(c.Bytes))
	},
	cause.NothingArrives: func(c cause.Cause) string {
		return fmt.Sprintf("its link to %s is open, but nothing has arrived for %s while %s kept writing", c.Peer,
			Span(c.Seconds), c.Peer)
	},
	cause.PeerSaysNothing: func(c cause.Cause) string {
		return fmt.Sprintf("its link to %s is open, but %s has sent nothing for %s", c.Peer, c.Peer, Span(c.Seconds))
	},
	cause.Delayed: func(c cause.Cause) string {
		if c.Bytes == 0 {
			return fmt.Sprintf("it is delayed by %s, as configured", Span(c.Seconds))
		}
		return fmt.Sprintf("it is delayed by %s, as configured; %s wait on its disk for their time", Span(c.Seconds),
			Size(c.Bytes))
	},
	cause.WasAt: func(c cause.Cause) string {
		return fmt.Sprintf("it is where %s was %s ago", c.Peer, Span(c.Seconds))
	},
	cause.NothingApplied: func(c cause.Cause) string { return "nothing was applied for " + Span(c.Seconds) },
	cause.BytesWait: func(c cause.Cause) string {
		return fmt.Sprintf("%s of %s wait %s", Size(c.Bytes), Size(c.Total), stageWords(c))
	},
}

func stageWords(c cause.Cause) string {
	switch c.Stage {
	case cause.NotSent:
		return fmt.Sprintf("on %s, not yet sent: %s or its network is busy", c.Peer, c.Peer)
	case cause.NotReceived:
		return fmt.Sprintf("on the way from %s: the network is slow, or %s does not read from it", c.Peer, c.Server)
	case cause.NotSafe:
		return fmt.Sprintf("for the disk of %s: it received them and has not synced them yet", c.Server)
	}
	return fmt.Sprintf("on %s, received and not applied: %s", c.Server, waitWords(c))
}

func waitWords(c cause.Cause) string {
	switch c.Wait {
	case cause.WaitRows:
		return "replay waits for a query that still needs rows which it removes"
	case cause.WaitTablespace:
		return "replay waits for a query that uses a tablespace which it drops"
	case cause.WaitTable:
		return "replay waits for a session that holds a lock on a table (" + c.Text + ")"
	case cause.WaitPage:
		return "replay waits for a query that holds a page"
	case cause.WaitDisk:
		return "replay waits for the disk (" + c.Text + ")"
	case cause.WaitCPU:
		return fmt.Sprintf("replay works in one process, which uses %.0f%% of a core", c.Share*100)
	case cause.WaitOneThread:
		return "one thread applies everything (" + c.Name + ")" + behind("; the server reports: ", c.Text)
	}
	return "replay does not keep up" + behind("; the server reports: ", c.Text)
}

var roleWords = map[cause.Code]func(cause.Cause) string{
	cause.IsPrimary: plain("it is the primary"),
	cause.RankNever: plain("its rank is never"),
	cause.RankNotTold: plain("its agent does not know yet that it may become primary: it is told once the primary " +
		"knows, and writes"),
	cause.MayNotTakeOver: func(c cause.Cause) string {
		return "may not take over" + because(c)
	},
	cause.Filtered: func(c cause.Cause) string {
		return "it is no full copy: " + strings.Join(c.Names, ", ")
	},
	cause.WasFiltered: func(c cause.Cause) string {
		return "it left writes out while " + strings.Join(c.Names, ", ") + " was set, and lacks them until it is rebuilt"
	},
	cause.NotProven: func(c cause.Cause) string {
		return "since it was started it has not been proven to share " + c.Peer + "'s history" + behind(": ", c.Text)
	},
	cause.DiskFull: func(c cause.Cause) string { return "its disk is full: " + Size(c.Bytes) + " are left" },
	cause.UnfitNow: func(c cause.Cause) string {
		return "it " + Said(c.Health, 1) + because(c)
	},
}

// because puts what a cause rests on behind a colon, where there is something.
func because(c cause.Cause) string {
	if c.Because == nil {
		return ""
	}
	return behind(": ", Say(*c.Because))
}

var problemWords = map[cause.Code]func(cause.Cause) string{
	cause.NoPrimary: func(c cause.Cause) string { return c.Cluster + " has no primary yet" },
	cause.TwoPrimaries: func(c cause.Cause) string {
		if len(c.Names) == 2 {
			return List(c.Names) + " both report themselves as primary"
		}
		return List(c.Names) + " all report themselves as primary"
	},
	cause.HealthIs: func(c cause.Cause) string {
		return c.Server + " " + Said(c.Health, 1) + because(c)
	},
	cause.NeedsYou: func(c cause.Cause) string {
		return fmt.Sprintf("operation %d (%s) needs you: not every step succeeded", c.Number, c.Name)
	},
	cause.AllAtRisk: plain("every write is at risk: no replica may take over"),
	cause.AtRisk: func(c cause.Cause) string {
		return fmt.Sprintf("at risk: %s, the writes of the last %s", Size(c.Bytes), Span(c.Seconds))
	},
	cause.SlotLost: func(c cause.Cause) string {
		return fmt.Sprintf("slot %s on %s is lost: log that %s needs is gone", c.Name, c.Server, cmp.Or(c.Peer, "its reader"))
	},
	cause.SlotOfNone: func(c cause.Cause) string {
		return fmt.Sprintf("slot %s on %s belongs to no server of %s and keeps %s of log", c.Name, c.Server, c.Cluster,
			Size(c.Bytes))
	},
	cause.SlotUnread: func(c cause.Cause) string {
		return fmt.Sprintf("slot %s on %s is not being read and keeps %s of log", c.Name, c.Server, Size(c.Bytes))
	},
	cause.SlotForeign: func(c cause.Cause) string {
		return fmt.Sprintf("slot %s on %s, which Cross Twin did not make, is not being read and keeps %s of log", c.Name,
			c.Server, Size(c.Bytes))
	},
}

var slowWords = map[cause.Code]func(cause.Cause) string{
	cause.LogKept: func(c cause.Cause) string {
		return fmt.Sprintf("%s keeps log for %s (not connected); when its disk will be full is not known", c.Server,
			List(c.Names))
	},
	cause.LogFilling: func(c cause.Cause) string {
		return fmt.Sprintf("%s keeps log for %s (not connected); %s's log disk will be full in about %s", c.Server,
			List(c.Names), c.Server, Span(c.Seconds))
	},
	cause.ConflictsMany: func(c cause.Cause) string {
		return fmt.Sprintf("replay cancels %d queries per hour on %s", c.Count, c.Server)
	},
	cause.ClockOff: func(c cause.Cause) string {
		way := "ahead of"
		if c.Seconds < 0 {
			way = "behind"
		}
		return fmt.Sprintf("the clock of %s is %s %s the service's", c.Server, Span(max(c.Seconds, -c.Seconds)), way)
	},
	cause.CertificateEnd: func(c cause.Cause) string {
		return fmt.Sprintf("the certificate of %s ends in %s", c.Server, Span(max(0, c.Seconds)))
	},
	cause.AgentOld: func(c cause.Cause) string {
		return fmt.Sprintf("the agent of %s (version %s) is too old for this service", c.Server, c.Text)
	},
	cause.AgentNew: func(c cause.Cause) string {
		return fmt.Sprintf("the agent of %s (version %s) is too new for this service", c.Server, c.Text)
	},
	cause.FalseClaim: func(c cause.Cause) string {
		return fmt.Sprintf("%s's agent claims term %d, and no decision of this service says so: the claim counts for nothing",
			c.Server, c.Term)
	},
	cause.CallRefused: func(c cause.Cause) string {
		whose := c.Name
		if c.Peer != "" {
			whose = fmt.Sprintf("the agent of %s in %s", c.Peer, c.Cluster)
		}
		return fmt.Sprintf("%s's agent refused a request from %s: the certificate of %s is not good for %s", c.Server, c.At,
			whose, c.Text)
	},
	cause.TokenRefused: func(c cause.Cause) string {
		return fmt.Sprintf("a request from %s was refused: the token %s is not good for %s", c.At, c.Name, c.Text)
	},
	cause.TokenRemoved: func(c cause.Cause) string {
		return fmt.Sprintf("the token %s, which was removed, was used from %s and refused", c.Name, c.At)
	},
	cause.TokenExpired: func(c cause.Cause) string {
		return fmt.Sprintf("the token %s, which has expired, was used from %s and refused", c.Name, c.At)
	},
	cause.LoginsFailed: func(c cause.Cause) string {
		return fmt.Sprintf("logins from %s fail again and again", c.At)
	},
	cause.NoDeadman: plain("fencing is on, and its deadman does not run (crosstwin deadman): it would get no permission " +
		"to write"),
	cause.FencingBegins: func(c cause.Cause) string {
		return "Fencing begins: " + c.Name + " is being given its first permission to write"
	},
	cause.PermissionGranted: func(c cause.Cause) string {
		return fmt.Sprintf("Fencing is on: %s may write for %s more, and the service renews that", c.Name,
			Span(c.Seconds))
	},
	cause.PermissionPledged: func(c cause.Cause) string {
		by := "by itself: no other server may become primary"
		if len(c.Names) > 0 {
			by = "because the agents of " + List(c.Names) + " renew their pledges"
		}
		return fmt.Sprintf("Fencing is on: %s may write for %s more, %s", c.Name, Span(c.Seconds), by)
	},
	cause.PermissionNone: func(c cause.Cause) string {
		return "Fencing is on: " + c.Name + " has no permission to write"
	},
	cause.PermissionNoDeadman: func(c cause.Cause) string {
		return "The deadman of " + c.Name + " (crosstwin deadman) does not run or does not answer: until it does, " +
			c.Name + " gets none"
	},
	cause.PermissionUnseen: func(c cause.Cause) string {
		return "Fencing is on: " + c.Name + " writes only while its permission runs, and its host stops it then"
	},
	cause.PermissionAlone: func(c cause.Cause) string {
		if len(c.Names) > 1 {
			return "Losing the service now stops writes: " + List(c.Names) + ", which would have to pledge, do not answer"
		}
		return "Losing the service now stops writes: " + List(c.Names) + ", which would have to pledge, does not answer"
	},
	cause.RefereeSilent: func(c cause.Cause) string {
		return "referee " + c.Name + " does not answer" + because(c) +
			". It counts towards the majority that a failover needs"
	},
	cause.StartReferee: func(c cause.Cause) string {
		return "see that crosstwin referee runs on " + c.Server + "'s host, and that the service reaches it"
	},
	cause.GateSilent: func(c cause.Cause) string {
		return "gate " + c.Name + " does not answer" + because(c) +
			". It leads applications by what the service said last, as long as the primary's agent confirms that"
	},
	cause.StartGate: func(c cause.Cause) string {
		return "see that crosstwin gate runs on " + c.Server + "'s host, and that the service reaches it"
	},
	cause.EnrollGate: func(c cause.Cause) string {
		return "make a code with crosstwin server code " + c.Cluster + " " + c.Server +
			", then on its host: crosstwin gate enroll"
	},
	cause.OpenByDefault: func(c cause.Cause) string {
		return c.Server + " would open for writes if anything but its agent started it"
	},
}

var remedyWords = map[cause.Code]func(cause.Cause) string{
	cause.AddPrimary: func(c cause.Cause) string {
		return "enroll the agents of its servers, then take over what runs: crosstwin adopt " + c.Cluster
	},
	cause.FindHolder: func(c cause.Cause) string {
		return fmt.Sprintf("find out who still holds the token %s, and who may have seen it", c.Name)
	},
	cause.RemoveToken: func(c cause.Cause) string {
		return fmt.Sprintf("if that was not its holder, somebody else has it: crosstwin token remove %s", c.Name)
	},
	cause.SeeAudit: plain("see who tries: crosstwin audit list"),
	cause.SeeKey: func(c cause.Cause) string {
		const say = "nobody asks so by mistake: whoever did has that certificate's key; look at the host of "
		if c.Peer == "" {
			return say + "the service"
		}
		return fmt.Sprintf("%s%s; nobody gives anything to a server that was removed: crosstwin server remove %s %s", say,
			c.Peer, c.Cluster, c.Peer)
	},
	cause.SeeOldKey: func(c cause.Cause) string {
		return fmt.Sprintf("%s is no server of %s any more, and its certificate is good for nothing; look at its former "+
			"host: its agent can be stopped, or somebody has that certificate's key", c.Peer, c.Cluster)
	},
	cause.EnrollIt: func(c cause.Cause) string {
		return fmt.Sprintf("run the command that was printed when it was added, on its host; or get a new one: "+
			"crosstwin server code %s %s", c.Cluster, c.Server)
	},
	cause.UpdateAgent: func(c cause.Cause) string {
		return "install the service's version of crosstwin on the host of " + c.Server + ", and restart its agent"
	},
	cause.UpdateService: plain("install the agent's version of crosstwin on the service's host, and restart the service"),
	cause.SeeTail: func(c cause.Cause) string {
		return fmt.Sprintf("see what only one of them has: crosstwin tail %s %s", c.Cluster, c.Server)
	},
	cause.ReadOperation: func(c cause.Cause) string {
		return fmt.Sprintf("read what was done and what was not: crosstwin operation show %d", c.Number)
	},
	cause.FollowOperation: func(c cause.Cause) string {
		return fmt.Sprintf("operation %d (%s) is under way: crosstwin operation follow %d", c.Number, c.Name, c.Number)
	},
	cause.BringBackRank: func(c cause.Cause) string {
		return "bring a replica with a rank back: crosstwin status " + c.Cluster
	},
	cause.WatchStages: func(c cause.Cause) string {
		return "see where the bytes wait: crosstwin watch " + c.Cluster
	},
	cause.MakeAnother: func(c cause.Cause) string {
		return fmt.Sprintf(
			"make another server primary: crosstwin failover %s; or start %s again: crosstwin failover %s --to %s", c.Cluster,
			c.Server, c.Cluster, c.Server)
	},
	cause.SeeAgent: func(c cause.Cause) string {
		return "check that its agent runs and is reachable at " + cmp.Or(c.At, "its address")
	},
	cause.SeedIt: func(c cause.Cause) string { return fmt.Sprintf("crosstwin seed %s %s", c.Cluster, c.Server) },
	cause.EndSyncWait: func(c cause.Cause) string {
		return fmt.Sprintf("bring the replica back that %s waits for, make room on its disk, or change %s there", c.Server,
			c.Name)
	},
	cause.LetWrite: func(c cause.Cause) string {
		return "on " + c.Server + ": " + c.Text
	},
	cause.LetRead: func(c cause.Cause) string {
		return fmt.Sprintf("set hot_standby = on in its configuration, then crosstwin restart %s %s", c.Cluster, c.Server)
	},
	cause.LetIn: func(c cause.Cause) string {
		return "let the agent's account log in on " + c.Server +
			" through the socket, as the error says; the agent's settings are superuser and socket_dir in its agent.yaml"
	},
	cause.RemoveOrReplace: func(c cause.Cause) string {
		return fmt.Sprintf(
			"if it belongs to others, take it out of this cluster: crosstwin server remove %s %s; if nothing in it is "+
				"needed: crosstwin seed %s %s --replace", c.Cluster, c.Server, c.Cluster, c.Server)
	},
	cause.CloseAndRejoin: func(c cause.Cause) string {
		return fmt.Sprintf("if it shall follow again: %s, then crosstwin rejoin %s %s; if it belongs to others: "+
			"crosstwin server remove %s %s", c.Text, c.Cluster, c.Server, c.Cluster, c.Server)
	},
	cause.CloseAndAdopt: func(c cause.Cause) string {
		return fmt.Sprintf("close it: %s, there and in its configuration file; then crosstwin adopt %s", c.Text, c.Cluster)
	},
	cause.SeedReplace: func(c cause.Cause) string {
		return fmt.Sprintf("crosstwin seed %s %s --replace", c.Cluster,
			c.Peer)
	},
	cause.DropSlot: dropWords,
	cause.BringBack: func(c cause.Cause) string {
		return fmt.Sprintf("bring %s back: crosstwin rejoin %s %s; or remove it: crosstwin server remove %s %s", c.Peer,
			c.Cluster, c.Peer, c.Cluster, c.Peer)
	},
	cause.StartReader: func(c cause.Cause) string { return "start its reader again, or " + dropWords(c) },
	cause.WaitSession: func(c cause.Cause) string {
		return "replay continues when that session ends: find it with show processlist on " + c.Server
	},
	cause.SeeConflicts: func(c cause.Cause) string {
		return "the causes, and the trade between cancelled queries and lag: crosstwin conflicts " + c.Cluster
	},
	cause.WatchIt: func(c cause.Cause) string { return "watch it: crosstwin watch " + c.Cluster },
	cause.CheckNetwork: func(c cause.Cause) string {
		return fmt.Sprintf("check the network between %s and %s, and whether %s's receiver hangs; replication then resumes",
			c.Peer, c.Server, c.Server)
	},
	cause.NothingToDo: plain("nothing to do on it: it follows again once there is a primary"),
	cause.ResumeReplay: func(c cause.Cause) string {
		return fmt.Sprintf("resume replay on %s: %s", c.Server, c.Text)
	},
	cause.TailThenRebuild: func(c cause.Cause) string {
		return fmt.Sprintf("see what differs: crosstwin tail %s %s; then crosstwin rejoin %s %s --way rebuild", c.Cluster,
			c.Server, c.Cluster, c.Server)
	},
	cause.RejoinIt: func(c cause.Cause) string { return fmt.Sprintf("crosstwin rejoin %s %s", c.Cluster, c.Server) },
	cause.RejoinsSoon: func(c cause.Cause) string {
		return fmt.Sprintf("it comes back by itself in a moment; or at once: crosstwin rejoin %s %s", c.Cluster,
			c.Server)
	},
	cause.FailsOverSoon: func(c cause.Cause) string {
		return fmt.Sprintf("a failover begins by itself once %s is known to be lost; or at once: crosstwin failover %s",
			c.Server, c.Cluster)
	},
	cause.RejoinByHand: func(c cause.Cause) string {
		return fmt.Sprintf("crosstwin rejoin %s %s (it does not rejoin by itself: %s)", c.Cluster, c.Server, c.Text)
	},
	cause.SetClock: plain("set it by a time server; lag is measured with the service's clock alone and stays right"),
	cause.EnrollAgain: func(c cause.Cause) string {
		return fmt.Sprintf("enroll it again: crosstwin server code %s %s, then the command it prints", c.Cluster, c.Server)
	},
	cause.SeeDisk: func(c cause.Cause) string {
		return "see to " + c.Server + "'s disk: its processes end when that comes back; then: crosstwin rejoin " +
			c.Cluster + " " + c.Server
	},
	cause.SeeHost: func(c cause.Cause) string {
		return fmt.Sprintf("its host may have been taken over, or its agent may belong to another service: check the host, "+
			"then enroll its agent again: crosstwin server code %s %s", c.Cluster, c.Server)
	},
	cause.AgentCloses: plain("its agent corrects that by itself; if this stays, read the agent's log"),
}

func dropWords(c cause.Cause) string {
	return fmt.Sprintf("drop it on %s if nothing needs it: select pg_drop_replication_slot('%s')", c.Server, c.Name)
}

var sentenceWords = map[cause.Code]func(cause.Cause) string{
	cause.NoServers: func(c cause.Cause) string { return c.Cluster + " has no servers yet." },
	cause.NoneYet:   func(c cause.Cause) string { return c.Cluster + " takes no writes: it has no primary yet." },
	cause.TakesNone: func(c cause.Cause) string {
		why := ""
		if c.Because != nil {
			why = Say(*c.Because)
		}
		state := Said(c.Health, 1)
		switch {
		case c.Health == "takes no writes" && why != "":
			return fmt.Sprintf("%s takes no writes. Primary %s: %s.", c.Cluster, c.Server, why)
		case c.Health == "takes no writes":
			return fmt.Sprintf("%s takes no writes on %s.", c.Cluster, c.Server)
		case c.Health == "unseen":
			return fmt.Sprintf("Whether %s takes writes is not known. Primary %s %s%s.", c.Cluster, c.Server, state,
				behind(": ", why))
		}
		return fmt.Sprintf("%s takes no writes. Primary %s %s%s.", c.Cluster, c.Server, state, behind(": ", why))
	},
	cause.TakesWrites: func(c cause.Cause) string {
		text := c.Cluster + " takes writes on " + c.Server
		var wrong []string
		for _, o := range c.Others {
			wrong = append(wrong, Say(o))
		}
		return text + behind("; ", strings.Join(wrong, ", ")) + "."
	},
	cause.InStep: func(c cause.Cause) string { return List(c.Names) + " " + Said("in step", len(c.Names)) + "." },
	cause.LagIs: func(c cause.Cause) string {
		least := ""
		if c.AtLeast {
			least = "at least "
		}
		return fmt.Sprintf("%s is %s%s behind", c.Server, least, Span(c.Seconds))
	},
	cause.NoReplica: plain("It has no replica."),
	cause.CanLose: func(c cause.Cause) string {
		if c.Count == 0 {
			return "It cannot lose another server."
		}
		return "It can lose " + Count(c.Count, "more server") + "."
	},
	cause.NoneAtRisk: plain("Nothing at risk."),
	cause.UnderMaintenance: func(c cause.Cause) string {
		return fmt.Sprintf("Maintenance until %s (%s): alerts are held back, and a primary that comes back closed stays so.",
			c.At, c.Text)
	},
}

// Sentence joins the parts of a cluster's sentence.
func Sentence(parts []cause.Cause) string {
	var out []string
	for _, p := range parts {
		text := Say(p)
		switch p.Code {
		case cause.AllAtRisk:
			text = "At risk: every write, because no replica may take over."
		case cause.AtRisk:
			text = strings.ToUpper(text[:1]) + text[1:] + "."
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}
