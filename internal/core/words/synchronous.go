package words

import (
	"fmt"
	"strings"

	"crosstwin/internal/core/cause"
)

// SomeOf says "1 of heron and tern", or "tern" where all have to.
func SomeOf(n int64, names []string) string {
	if int(n) == len(names) {
		return List(names)
	}
	return fmt.Sprintf("%d of %s", n, List(names))
}

// answers says whose answers it takes.
func answers(list []cause.Cause) string {
	var out []string
	for _, c := range list {
		out = append(out, Say(c))
	}
	return strings.Join(out, ", and of ")
}

var synchronousWords = map[cause.Code]func(cause.Cause) string{
	cause.SyncWaits: func(c cause.Cause) string {
		return "commits wait for " + List(c.Names) + ", for " + Span(c.Seconds) + " by now"
	},
	cause.SyncUnknown: func(c cause.Cause) string { return "Whom commits on " + c.Name + " wait for is not known" },
	cause.SyncHolds: func(c cause.Cause) string {
		return "Synchronous: each commit on " + c.Name + " waits until " + SomeOf(c.Count, c.Names) + hold(c) + " it"
	},
	cause.SyncPromised: func(c cause.Cause) string {
		return "Synchronous: each write that " + c.Name + " acknowledged is on " + SomeOf(c.Count, c.Names) + " too"
	},
	cause.SyncByHand: func(c cause.Cause) string {
		if c.Text == "" {
			return "Commits on " + c.Name + " wait for nobody: that was set by hand, and nothing is promised of them"
		}
		return "Whom commits on " + c.Name + " wait for was set by hand (" + c.Text + "), and nothing is promised of them"
	},
	cause.SyncFound: func(c cause.Cause) string {
		return "Commits on " + c.Name + " wait for replicas, as somebody set by hand (" + c.Text +
			"). To have that kept over changes " +
			"of the primary: " + setMode(c)
	},
	cause.SyncSet: setMode,
	cause.SyncEnds: func(c cause.Cause) string {
		return "Synchronous mode ends: commits on " + c.Name + " soon wait for nobody"
	},
	cause.SyncWentOn: func(c cause.Cause) string {
		return "Commits on " + c.Name + " go on without a replica: " + List(c.Names) + " did not acknowledge in time"
	},
	cause.SyncBegins: func(c cause.Cause) string {
		return "Synchronous mode begins once " + SomeOf(c.Count, c.Names) + follow(c) + " closely: until then commits on " +
			c.Name + " wait for nobody"
	},
	cause.SyncNotYet: func(c cause.Cause) string {
		return "Commits on " + c.Name + " wait for " + SomeOf(c.Count, c.Names) +
			", and that all of before is safe as well is not proven yet"
	},
	cause.SyncDouble: func(c cause.Cause) string {
		return "More than one replica is connected to " + c.Name + " as " + List(c.Names) +
			": an acknowledgement of one counts for the other"
	},
	cause.SyncStranger: func(c cause.Cause) string {
		return fmt.Sprintf("%d replicas can acknowledge commits of %s, and %d are of this cluster", c.Count, c.Name, c.Total)
	},
	cause.SyncUnwaited: func(c cause.Cause) string {
		return fmt.Sprintf("Roles, databases or functions on %s whose commits wait for no replica by default "+
			"(synchronous_commit): %d", c.Name, c.Count)
	},
	cause.SyncSeeDefaults: func(c cause.Cause) string {
		return "on " + c.Server + ": select * from pg_db_role_setting, and in each database select proname, proconfig from " +
			"pg_proc where proconfig is not null"
	},
	cause.AloneAtRisk: func(c cause.Cause) string {
		return fmt.Sprintf("%s on %s, the last at %s, as far as %s tells, and too few of %s hold them yet",
			acknowledgedAlone(c.Count), c.Name, c.At, c.Name, List(c.Names))
	},
	cause.AloneCovered: func(c cause.Cause) string {
		return fmt.Sprintf("%s on %s, the last at %s, as far as %s tells; replicas hold them by now",
			acknowledgedAlone(c.Count), c.Name, c.At, c.Name)
	},
	cause.SyncSetAgain: func(c cause.Cause) string {
		return "have it as the mode says: crosstwin cluster set " + c.Cluster + " --synchronous " + c.Text +
			"; or end the mode: --synchronous none"
	},
	cause.SyncReturns: func(c cause.Cause) string {
		return "it is over by itself when enough of " + List(c.Names) + " hold everything again"
	},
	cause.SyncNameOnce: func(c cause.Cause) string {
		return "disconnect from " + c.Server + " what is no replica of this cluster"
	},
	cause.SyncReleases: func(c cause.Cause) string {
		return "bring " + List(c.Names) + " back; or have writes go on without a replica, at the risk of losing them: " +
			"crosstwin cluster set " + c.Cluster + " --synchronous none"
	},
}

// setMode is the command for the mode that comes nearest to what somebody set by hand.
func setMode(c cause.Cause) string {
	text := "crosstwin cluster set " + c.Cluster + " --synchronous " + c.Mode
	if c.Total > c.Count {
		text += fmt.Sprintf(" (each commit then waits for %d instead of %d)", c.Count, c.Total)
	}
	return text
}

func acknowledgedAlone(n int64) string {
	return fmt.Sprintf("%d%s acknowledged without a replica", n, numbered(n, " commit was", " commits were"))
}

// hold and follow are the verbs behind SomeOf.
func hold(c cause.Cause) string   { return numbered(c.Count, " holds", " hold") }
func follow(c cause.Cause) string { return numbered(c.Count, " follows", " follow") }

func numbered(n int64, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}
