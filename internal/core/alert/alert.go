// Package alert decides when a problem becomes an alert and when the alert is
// over. The problems are those that the view shows; the time is handed in.
//
// A problem has to last before it is told, and has to be gone for a while
// before its alert ends: a lag that swings around its limit is one alert, not
// twenty. While an operation moves roles, its own side effects are not news.
package alert

import (
	"slices"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/view"
)

// Key names an alert: there is one open alert of a key at most.
type Key struct {
	Cluster string
	Server  string // empty: of the whole cluster
	Rule    cluster.Rule
}

// Hold is how long a problem lasts before it is told.
func Hold(r cluster.Rule) time.Duration {
	switch r {
	case cluster.RuleTwoPrimaries, cluster.RuleNeedsYou, cluster.RuleClaim, cluster.RuleRefused:
		return 0
	case cluster.RuleNoWrites, cluster.RuleNoFailover, cluster.RuleAdrift:
		return 3 * time.Second
	case cluster.RuleBehind, cluster.RuleAtRisk, cluster.RuleOpen, cluster.RuleClock:
		return 30 * time.Second
	case cluster.RuleLogFilling, cluster.RuleConflicts, cluster.RuleSlotFilling:
		return time.Minute
	}
	return 10 * time.Second
}

// Gone is how long a problem is away before its alert ends.
const Gone = 30 * time.Second

// duringOperations are the rules that are told even while an operation runs on
// the cluster: no plan has them as a side effect.
var duringOperations = []cluster.Rule{cluster.RuleTwoPrimaries, cluster.RuleClaim, cluster.RuleAdrift,
	cluster.RuleNeedsYou, cluster.RuleRefused, cluster.RuleLogFilling, cluster.RuleCertificate, cluster.RuleClock}

// Level says how loud an alert is.
type Level string

// The two levels: Critical means that writes, data or the way back are lost or
// about to be.
const (
	Critical Level = "critical"
	Warning  Level = "warning"
)

// LevelOf returns the level of a rule.
func LevelOf(r cluster.Rule) Level {
	if slices.Contains([]cluster.Rule{cluster.RuleTwoPrimaries, cluster.RuleClaim,
		cluster.RuleNoPrimary, cluster.RuleNoWrites, cluster.RuleNoFailover,
		cluster.RuleAdrift, cluster.RuleNeedsYou, cluster.RuleLogFilling, cluster.RuleAtRisk}, r) {
		return Critical
	}
	return Warning
}

// Change is something to be told.
type Change struct {
	Key
	Raised  bool // false: it is over
	Problem view.Problem
}

type state struct {
	raised bool
	since  time.Time // the problem began
	seen   time.Time // it was last there
	last   view.Problem
}

// Tracker remembers what is raised. The zero Tracker is ready; it is not safe
// for concurrent use.
type Tracker struct {
	states map[Key]*state
}

// Restore takes over an alert that an earlier process raised.
func (t *Tracker) Restore(k Key, now time.Time) {
	t.at(k, now).raised = true
}

func (t *Tracker) at(k Key, now time.Time) *state {
	if t.states == nil {
		t.states = map[Key]*state{}
	}
	if t.states[k] == nil {
		t.states[k] = &state{since: now, seen: now}
	}
	return t.states[k]
}

// Look takes in one cluster's view and gives what is to be told, in the view's
// order, endings last.
func (t *Tracker) Look(v *view.View, now time.Time) []Change {
	var out []Change
	here := map[Key]bool{}
	for _, p := range v.Problems {
		k := Key{v.Cluster, p.Server, p.Rule}
		if here[k] || p.SettingUp || slices.Contains(v.Policy.Muted, p.Rule) {
			continue
		}
		here[k] = true
		s := t.at(k, now)
		s.seen, s.last = now, p
		heldBack := v.Policy.Maintenance.On(now) && p.Rule != cluster.RuleTwoPrimaries
		if s.raised || heldBack || now.Sub(s.since) < Hold(p.Rule) ||
			v.Operation != nil && !slices.Contains(duringOperations, p.Rule) {
			continue
		}
		s.raised = true
		out = append(out, Change{Key: k, Raised: true, Problem: p})
	}
	for k, s := range t.states {
		if k.Cluster != v.Cluster || here[k] {
			continue
		}
		if !s.raised {
			delete(t.states, k) // it has to last without a break
			continue
		}
		if now.Sub(s.seen) >= Gone {
			delete(t.states, k)
			out = append(out, Change{Key: k, Problem: s.last})
		}
	}
	return out
}

// Missing drops what is known of clusters that are not there any more, and gives
// the keys that were raised.
func (t *Tracker) Missing(there func(cluster string) bool) (raised []Key) {
	for k, s := range t.states {
		if there(k.Cluster) {
			continue
		}
		if s.raised {
			raised = append(raised, k)
		}
		delete(t.states, k)
	}
	return raised
}
