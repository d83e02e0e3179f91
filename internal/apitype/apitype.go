// Package apitype holds the bodies of the service's HTTP API, shared by the
// handlers and the Go client. Names are snake_case, times RFC 3339 in UTC,
// durations seconds, sizes bytes, positions the server's own text form.
package apitype

import (
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// Problem is every error's body (RFC 9457). Code stays the same over time.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Code   string `json:"code"`
	// Plan is given when a plan was refused or has to be confirmed.
	Plan *Plan `json:"plan,omitempty"`
	// Operation is the record of a refused operation.
	Operation int64 `json:"operation,omitempty"`
}

func (p Problem) Error() string { return p.Detail }

// The codes of problems.
const (
	CodeBadInput     = "bad-input"
	CodeNotFound     = "not-found"
	CodeTaken        = "taken"
	CodeRefused      = "refused"
	CodeConfirm      = "confirmation-needed"
	CodeChanged      = "plan-changed"
	CodeUnauthorized = "unauthorized"
	CodeForeign      = "foreign-request"
	CodeForbidden    = "forbidden"
	CodeTooMany      = "too-many-failures"
	CodeAgent        = "agent-unreachable"
	CodeInternal     = "internal"
)

// NewCluster is the body for adding a cluster.
type NewCluster struct {
	Name   string `json:"name"`
	Engine string `json:"engine,omitempty"`
}

// ClusterChange changes a cluster; what is absent stays.
type ClusterChange struct {
	Policy *cluster.Policy `json:"policy,omitempty"`
}

// NewServer is the body for adding a server. Rank 0 is never.
type NewServer struct {
	Name string `json:"name"`
	cluster.Placement
	Primary bool `json:"primary,omitempty"`
	// Referee: an agent without a database, which counts towards the majority.
	Referee bool `json:"referee,omitempty"`
	// Gate: an address that applications connect to, without a database.
	Gate bool `json:"gate,omitempty"`
}

// Leaving says what becomes of the things that Cross Twin made on servers that are
// removed: beforehand what is expected, afterwards what came about.
type Leaving struct {
	Leftovers []Leftover `json:"leftovers"`
}

// Leftover is one of them, with what is to be said of it.
type Leftover struct {
	verb.Leftover
	Text string `json:"text"`
}

// ToLeaving puts leftovers into words: before they are undone, or after.
func ToLeaving(list []verb.Leftover, before bool) Leaving {
	out := Leaving{Leftovers: []Leftover{}}
	for _, l := range list {
		said := l
		if before && l.Gone {
			said.Gone, said.Undo = false, ""
		}
		out.Leftovers = append(out.Leftovers, Leftover{l, words.Leftover(said)})
	}
	return out
}

// ServerChange changes a server; what is absent stays.
type ServerChange struct {
	cluster.Change
}

// EnrolmentCode is a one-time code for an agent.
type EnrolmentCode struct {
	Code    string `json:"code"`
	Cluster string `json:"cluster"`
	Server  string `json:"server"`
	// Referee: it is for an agent without a database. Gate: it is for a gate.
	Referee bool `json:"referee,omitempty"`
	Gate    bool `json:"gate,omitempty"`
}

// GateSessions are the sessions of one gate, the oldest first; a long list is cut.
type GateSessions struct {
	Sessions []observation.GateSession `json:"sessions"`
}

// NewOperation asks for an operation. Plan is the digest of the plan that was
// shown; to begin an operation it is needed, for a preview it is not.
type NewOperation struct {
	operation.Request
	Plan string `json:"plan,omitempty"`
}

// Plan is a plan with the digest by which it is begun.
type Plan struct {
	Digest string `json:"digest"`
	operation.Plan
}

// NewToken names a token to be made.
type NewToken struct {
	Name string `json:"name"`
	// Scopes are what it is good for: metrics, watch, read-data, operate, admin.
	Scopes []string `json:"scopes"`
	// Clusters limits it to some; none: all.
	Clusters []string `json:"clusters,omitempty"`
	// Days is how long it lasts; 0: for ever.
	Days int `json:"days"`
}

// MadeToken is a new token, shown this once.
type MadeToken struct {
	access.Token
	Secret string `json:"token"`
}

// Version is what the service is.
type Version struct {
	Version   string    `json:"version"`
	StartedAt time.Time `json:"started_at"`
}

// Clusters lists all clusters.
type Clusters struct {
	Clusters []view.View `json:"clusters"`
}

// Operations lists operations, newest first.
type Operations struct {
	Operations []operation.Operation `json:"operations"`
}

// Tokens lists tokens.
type Tokens struct {
	Tokens []access.Token `json:"tokens"`
}

// Events lists the audit trail, newest first.
type Events struct {
	Events []access.Event `json:"events"`
}

// NewSession opens a session of the console: with a token, or with the code of
// a one-time address.
type NewSession struct {
	Token string `json:"token,omitempty"`
	Code  string `json:"code,omitempty"`
}

// Session is who is logged in.
type Session struct {
	Name string `json:"name"`
	// May are the scopes that its token is good for, all that these include.
	May []access.Scope `json:"may"`
}

// SessionLink is an address below the service's that opens a session once.
type SessionLink struct {
	Path string `json:"path"`
}

// Alerts lists alerts, open ones first.
type Alerts struct {
	Alerts []alert.Alert `json:"alerts"`
}

// Acknowledgement is what somebody says who takes an alert on.
type Acknowledgement struct {
	Note string `json:"note,omitempty"`
}

// Channels lists where alerts are sent. Command is the program that the service
// was started with for them.
type Channels struct {
	Channels []alert.Channel `json:"channels"`
	Command  string          `json:"command,omitempty"`
}

// NewChannel is the body for adding a channel.
type NewChannel struct {
	Name string `json:"name"`
	URL  string `json:"url"`
}

// MadeChannel is a new channel with the secret that signs what is sent to it,
// shown this once.
type MadeChannel struct {
	Name   string `json:"name"`
	URL    string `json:"url"`
	Secret string `json:"secret"`
}

// Logs are the files of one server's log, oldest first.
type Logs struct {
	Server string         `json:"server"`
	Files  []tail.LogFile `json:"files"`
}

// LogPage is a part of one server's log.
type LogPage struct {
	Server string `json:"server"`
	tail.LogPage
}

// Complaints are lines of a server's own error log, newest first.
type Complaints struct {
	Complaints []tail.Complaint `json:"complaints"`
}

// AuthorityRotation names the authority that is to be exchanged, as it was shown.
type AuthorityRotation struct {
	Fingerprint string `json:"fingerprint"`
}
