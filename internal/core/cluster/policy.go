package cluster

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"crosstwin/internal/core/synchronous"
)

// Policy is what an administrator sets for a cluster.
type Policy struct {
	// BehindSeconds is the lag from which a replica counts as behind.
	BehindSeconds float64 `json:"behind_seconds"`
	// UnseenSeconds is the silence after which a server counts as unseen.
	UnseenSeconds float64 `json:"unseen_seconds"`
	// StalledSeconds is the time without progress after which a replica that
	// has something to apply counts as stalled.
	StalledSeconds float64 `json:"stalled_seconds"`
	// The limits from which an alert is raised; 0: never.
	AtRiskBytes      int64   `json:"at_risk_bytes"`
	SlotBytes        int64   `json:"slot_bytes"`
	FullHours        float64 `json:"full_hours"` // until the disk is full of log
	ConflictsPerHour float64 `json:"conflicts_per_hour"`
	ClockSeconds     float64 `json:"clock_seconds"`
	// Muted rules raise no alert; the problem is shown all the same.
	Muted []Rule `json:"muted"`
	// Fencing: the primary takes writes only while a permission of the service's, or the
	// pledges of the other agents, run; when they run out its host stops it.
	Fencing bool `json:"fencing"`
	// FencingOpen: nobody has said whether Fencing is to be on. A cluster that was built here
	// has it on as soon as it can be; of one that was adopted a person is asked.
	FencingOpen bool `json:"fencing_open"`
	// Automatic is when a failover begins by itself; that needs Fencing.
	Automatic Automatic `json:"automatic"`
	// Synchronous is how many servers each commit has to be on. It is changed by an operation.
	Synchronous synchronous.Setting `json:"synchronous"`
	// Gates says how gates treat applications.
	Gates Gates `json:"gates"`
	// Maintenance is one that somebody has announced.
	Maintenance Maintenance `json:"maintenance"`
}

// Gates says how the gates of a cluster treat applications.
type Gates struct {
	// PrimaryReads: readers are led to the primary while no replica is fit for them.
	PrimaryReads bool `json:"primary_reads"`
	// LimitSeconds is how long transactions that are under way may take to end at a planned change
	// of the primary, before they are taken back and their clients told to try again.
	LimitSeconds float64 `json:"limit_seconds"`
	// WaitSeconds is how long a client waits for a server before it is refused.
	WaitSeconds float64 `json:"wait_seconds"`
}

// The longest times of Gates, in seconds.
const (
	MostGateLimit = 20
	MostGateWait  = 600
)

// Check reports what is wrong with it.
func (g Gates) Check() error {
	switch {
	case g.LimitSeconds < 0 || g.LimitSeconds > MostGateLimit:
		return fmt.Errorf("at a planned change of the primary gates give transactions up to %d s: writers wait meanwhile",
			MostGateLimit)
	case g.WaitSeconds < 1 || g.WaitSeconds > MostGateWait:
		return fmt.Errorf("gates let a client wait for a server for 1 to %d s", MostGateWait)
	}
	return nil
}

// Automatic says when a failover begins without a person.
type Automatic struct {
	On bool `json:"on"`
	// OffUntil: none begins before then.
	OffUntil time.Time `json:"off_until"`
	// What may be lost at most without anybody having accepted it: bytes of log
	// (PostgreSQL, and where the old primary cannot be examined), or transactions (MariaDB).
	LossBytes        int64 `json:"loss_bytes"`
	LossTransactions int64 `json:"loss_transactions"`
	// QuietSeconds have to lie between two.
	QuietSeconds float64 `json:"quiet_seconds"`
	// StartSeconds is how long a primary whose database crashed may take to be started again
	// before another server takes its place; 0: that is not tried.
	StartSeconds float64 `json:"start_seconds"`
	// LeastLeft is how many servers have to be left, the new primary among them.
	LeastLeft int `json:"least_left"`
	// Sites are those whose servers are preferred, the best first, where rank and log are equal.
	Sites []string `json:"sites"`
	// Rejoin is which servers are brought back as replicas without a person.
	Rejoin Rejoin `json:"rejoin"`
}

// Rejoin says which servers that crashed or were fenced rejoin by themselves.
type Rejoin string

// The choices of Rejoin. Neither copies all data again: that is for a person to ask for.
const (
	RejoinNever       Rejoin = "never"
	RejoinWithoutTail Rejoin = "without a tail"        // those that hold nothing that the primary lacks
	RejoinAfterSaving Rejoin = "after saving the tail" // also those whose tail can be saved and taken back
)

// Rejoins are the choices of Rejoin.
var Rejoins = []Rejoin{RejoinNever, RejoinWithoutTail, RejoinAfterSaving}

// MostStart is the longest time for which a crashed primary is started again first.
const MostStart = 10 * time.Minute

// MostOff is the longest time for which automatic failover is off and comes back by itself.
const MostOff = 7 * 24 * time.Hour

// Check reports what is wrong with it at a time.
func (a Automatic) Check(now time.Time) error {
	switch {
	case a.LossBytes < 0 || a.LossTransactions < 0 || a.QuietSeconds < 0 || a.StartSeconds < 0 || a.LeastLeft < 0:
		return errors.New("a limit of automatic failover is not negative")
	case a.StartSeconds > MostStart.Seconds():
		return fmt.Errorf("a crashed primary may take %g s to be started again at most: nobody can write meanwhile",
			MostStart.Seconds())
	case slices.Contains(a.Sites, ""):
		return errors.New("a preferred site has a name")
	case a.Rejoin != "" && !slices.Contains(Rejoins, a.Rejoin):
		return fmt.Errorf("automatic rejoin is %q, %q or %q, not %q", RejoinNever, RejoinWithoutTail, RejoinAfterSaving,
			a.Rejoin)
	case a.OffUntil.Sub(now) > MostOff:
		return fmt.Errorf("automatic failover is off for %d days at most; for longer, switch it off",
			int(MostOff/(24*time.Hour)))
	}
	return nil
}

// Maintenance is a time in which people work on a cluster's hosts and servers: no alert is
// raised but that of a second primary, and a primary that comes back closed is left so. It ends by itself. The zero
// Maintenance is none. Fencing goes on: two writable servers are nobody's plan.
type Maintenance struct {
	// Always told: what a change leaves out stays as it was.
	Until time.Time `json:"until"`
	Why   string    `json:"why"`
}

// MostMaintenance is the longest one.
const MostMaintenance = 7 * 24 * time.Hour

// On reports whether it is maintenance at a time.
func (m Maintenance) On(now time.Time) bool { return now.Before(m.Until) }

// Check reports what is wrong with a maintenance that is announced at a time.
func (m Maintenance) Check(now time.Time) error {
	switch {
	case m == Maintenance{}:
		return nil
	case !m.On(now):
		return errors.New("a maintenance ends in the future")
	case m.Until.Sub(now) > MostMaintenance:
		return fmt.Errorf("a maintenance lasts %d days at most", int(MostMaintenance/(24*time.Hour)))
	case strings.TrimSpace(m.Why) == "" || len(m.Why) > 200:
		return errors.New("a maintenance says why, in 200 characters at most: others will want to know")
	case strings.ContainsFunc(m.Why, unicode.IsControl):
		return errors.New("why there is a maintenance is one line of text")
	}
	return nil
}

// DefaultPolicy is used for new clusters.
func DefaultPolicy() Policy {
	return Policy{BehindSeconds: 3, UnseenSeconds: 5, StalledSeconds: 15,
		AtRiskBytes: 64 << 20, SlotBytes: 1 << 30, FullHours: 24, ConflictsPerHour: 20, ClockSeconds: 1, Muted: []Rule{},
		Synchronous: synchronous.Setting{Mode: synchronous.None},
		Automatic: Automatic{LossBytes: 1 << 20, LossTransactions: 100, QuietSeconds: 600,
			LeastLeft: 1, Sites: []string{}, Rejoin: RejoinNever},
		Gates: Gates{LimitSeconds: 1, WaitSeconds: 30}}
}
