// Package access says who may do what with the API: tokens with their scopes, and
// the audit trail.
package access

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Scope is a kind of thing that a token lets its holder do.
type Scope string

// All scopes. Operate includes Watch, Admin includes all; ReadData is for nobody else.
const (
	Metrics  Scope = "metrics"   // read /metrics
	Watch    Scope = "watch"     // read states, plans, operations, alerts, settings
	ReadData Scope = "read-data" // read rows: in logs, tails, saved tails, comparisons
	Operate  Scope = "operate"   // begin and cancel operations, acknowledge alerts
	Admin    Scope = "admin"     // change clusters, servers, policies, channels, tokens
)

// Scopes lists all, least first.
var Scopes = []Scope{Metrics, Watch, ReadData, Operate, Admin}

var includes = map[Scope][]Scope{
	Metrics: {Metrics}, Watch: {Watch, Metrics}, ReadData: {ReadData, Watch, Metrics},
	Operate: {Operate, Watch, Metrics}, Admin: Scopes,
}

// Token is an access token's record; the token itself is not kept.
type Token struct {
	Name string `json:"name"`
	// Scopes are what it lets its holder do, in Clusters: all for none named.
	Scopes     []Scope    `json:"scopes"`
	Clusters   []string   `json:"clusters"`
	CreatedAt  time.Time  `json:"created_at"`
	ExpiresAt  *time.Time `json:"expires_at,omitempty"` // absent: never
	LastUsedAt *time.Time `json:"last_used_at,omitempty"`
}

// May reports whether the token is good for a scope, in some cluster at least.
func (t Token) May(s Scope) bool {
	return slices.ContainsFunc(t.Scopes, func(have Scope) bool { return slices.Contains(includes[have], s) })
}

// Sees reports whether the token is good for a cluster. The empty name is what belongs
// to no cluster: for that a token must be good for all.
func (t Token) Sees(cluster string) bool {
	return len(t.Clusters) == 0 || cluster != "" && slices.Contains(t.Clusters, cluster)
}

// ParseScopes reads scopes from their names.
func ParseScopes(names []string) ([]Scope, error) {
	var out []Scope
	for _, n := range names {
		s := Scope(strings.TrimSpace(n))
		if !slices.Contains(Scopes, s) {
			return nil, fmt.Errorf("there is no scope %q: the scopes are metrics, watch, read-data, operate and admin", n)
		}
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("a token needs a scope: metrics, watch, read-data, operate or admin")
	}
	return out, nil
}

// Event is one line of the audit trail.
type Event struct {
	ID     int64     `json:"id"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	From   string    `json:"from"`
	Action string    `json:"action"`
	Target string    `json:"target"`
	Detail string    `json:"detail,omitempty"`
}
