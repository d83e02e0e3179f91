package cluster

import (
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
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
	// Maintenance is one that somebody has announced.
	Maintenance Maintenance `json:"maintenance"`
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
		AtRiskBytes: 64 << 20, SlotBytes: 1 << 30, FullHours: 24, ConflictsPerHour: 20, ClockSeconds: 1, Muted: []Rule{}}
}
