package console

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"

	"crosstwin/internal/demo"
)

// Watching, clicked: a setting changed with its plan, the log read and trimmed,
// an alert acknowledged, a channel added, a replica pointed elsewhere.
func TestWatchingClicked(t *testing.T) {
	t.Parallel()
	v := newVisit(t, demo.Bookings)
	v.ok(v.SeedAll(v.ctx, nil))
	load := v.Load(1, 20*time.Millisecond)
	defer load.Stop()

	v.ok(v.page.Go("/clusters/bookings/tuning", "hot_standby_feedback"))
	v.ok(v.page.Click(`button[aria-label="Change hot_standby_feedback of heron"]`))
	v.ok(v.page.TypeInto(`input[aria-label="hot_standby_feedback of heron"]`, strings.Repeat(kb.Backspace, 3)+"on"))
	v.ok(v.page.Press("Plan"))
	v.ok(v.page.Await("Nothing has been changed", "Set hot_standby_feedback to on on heron"))
	v.ok(v.page.Press("Change a setting of heron"))
	v.ok(v.page.Await("Setting: finished."))
	v.ok(v.page.Go("/clusters/bookings/tuning", "gull, tern and heron differ in 1 of",
		"it makes its primary keep dead rows"))

	v.ok(load.AwaitAcks(v.ctx, 20)) // what the page is to show is there
	v.ok(v.page.Go("/clusters/bookings/log?table=public.bookings", "1 inserted", "Transaction COMMIT"))
	v.act("Trim…", "Trim the log of bookings", "Trim: finished.", false)

	db, err := v.Server("tern").Open()
	v.ok(err)
	defer db.Close()
	_, err = db.ExecContext(v.ctx, "select pg_wal_replay_pause()")
	v.ok(err)
	v.ok(v.page.Go("/alerts", "1 alert is open.", "tern is stalled"))
	v.ok(v.page.Press("Acknowledge…"))
	v.ok(v.page.TypeInto(`input[aria-label="Note"]`, "letting it go on"))
	v.ok(v.page.Press("Acknowledge"))
	v.ok(v.page.Await("first letting it go on"))
	v.ok(v.page.Go("/clusters/bookings", "replay is paused", "tern is stalled"))
	_, err = db.ExecContext(v.ctx, "select pg_wal_replay_resume()")
	v.ok(err)
	v.ok(v.page.Await("tern and heron are in step"))
	for _, kind := range []string{"bytes behind", "by stage", "at risk", "written", "24 h", "30 days", "5 min"} {
		v.ok(v.page.Press(kind))
	}

	// A maintenance, announced and ended; saving the limits beside it does neither.
	v.ok(v.page.Go("/clusters/bookings/policy", "alerts are held back"))
	v.ok(v.page.TypeInto(`input[placeholder="new disks on gull"]`, "new disks"))
	v.ok(v.page.Press("Begin"))
	v.ok(v.page.Await("End it now", ": new disks"))
	v.ok(v.page.Press("Save the policy of bookings"))
	v.ok(v.page.Await("saved", "End it now"))
	v.ok(v.page.Go("/clusters/bookings", "Maintenance until", "(new disks)"))
	v.ok(v.page.Go("/clusters/bookings/policy", "End it now"))
	v.ok(v.page.Press("End it now"))
	v.ok(v.page.Await("Begin"))

	v.ok(v.page.Go("/settings", "Where alerts are sent", "Samples of 3 servers"))
	v.ok(v.page.TypeInto(`input[aria-label="Name of a channel"]`, "pager"))
	v.ok(v.page.TypeInto(`input[aria-label="Web address"]`, "http://127.0.0.1:9/hook"))
	v.ok(v.page.Press("Add"))
	v.ok(v.page.Await("the secret that signs what pager gets"))
	v.ok(v.page.Press("Test"))
	v.ok(v.page.Await("The test message did not arrive"))
	v.quiet("watching")

	// By keyboard alone: the first stop leads past the header, the next ones are
	// its links, and each says what it is.
	v.ok(v.page.Go("/", "1 of 1 cluster is in step"))
	want := []string{"Skip to the page", "Cross Twin", "Fleet", "Alerts", "Operations", "Audit trail", "Settings",
		"Add a cluster…", "Find a cluster, server or site"}
	for _, words := range want {
		v.ok(v.page.Keys(kb.Tab))
		got, err := v.page.Focused()
		v.ok(err)
		if !strings.HasPrefix(got, words) {
			t.Errorf("the focus is on %q, not on %q", got, words)
		}
	}

	v.removes()
}

// removes takes one server, then the cluster, out of Cross Twin on their pages: the
// dialog says what stays, before and after, and stays open when the page has gone.
func (v *visit) removes() {
	v.ok(v.page.Go("/clusters/bookings/heron", "heron is in step"))
	v.ok(v.page.Press("Remove…"))
	v.ok(v.page.Await("Remove heron from Cross Twin", "To be undone", "account crosstwin_follow_heron", "slot ct_heron"))
	v.ok(v.page.Press("Remove heron"))
	v.ok(v.page.Await("heron was removed from Cross Twin", "slot ct_heron on gull was dropped"))
	v.ok(v.page.Press("Close"))
	v.ok(v.page.Await("tern is in step"))

	v.ok(v.page.Go("/clusters/bookings/policy", "Policy and ranks of bookings"))
	v.ok(v.page.Press("Remove bookings…"))
	v.ok(v.page.Await("Remove bookings from Cross Twin", "What stays", "accounts crosstwin"))
	v.ok(v.page.Press("Remove bookings"))
	v.ok(v.page.Await("bookings was removed from Cross Twin", "accounts crosstwin"))
	v.ok(v.page.Press("Close"))
	v.ok(v.page.Await("No cluster yet"))
	v.quiet("removing")
}
