// Package view judges a cluster. Assess is a pure function: from the last
// observations of all servers, the membership, the policy and the time it
// makes the View, and every face of the product shows that View. Nothing else
// computes health.
//
// Roles are never taken from one side. What a server reports of itself
// (ReportsAs) stands beside what the cluster's term says of it (Role), and a
// server that is writable without owning the term is adrift, whatever it says.
package view

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
)

// Health is the judged state of a server or a cluster.
type Health string

// All values of Health: one word for one state.
const (
	InStep       Health = "in step"
	Behind       Health = "behind"
	Stalled      Health = "stalled"
	Seeding      Health = "seeding"
	TakesWrites  Health = "takes writes"
	TakesNoWrite Health = "takes no writes"
	Adrift       Health = "adrift"
	Fenced       Health = "fenced"
	Stopped      Health = "stopped"
	Unseen       Health = "unseen"
)

// severity orders health from good to bad; a cluster's health is that of its
// worst server.
var severity = map[Health]int{
	TakesWrites: 0, InStep: 1, Seeding: 2, Behind: 3, Fenced: 4, Stopped: 5, Unseen: 6, Stalled: 7, Adrift: 8,
	TakesNoWrite: 9,
}

// Severity orders health from good (0) to bad.
func (h Health) Severity() int { return severity[h] }

// Worse reports whether a is worse than b.
func Worse(a, b Health) bool { return severity[a] > severity[b] }

// Healths lists all values of Health, good ones first.
func Healths() []Health {
	out := make([]Health, len(severity))
	for h, n := range severity {
		out[n] = h
	}
	return out
}

// Member is one server of the cluster as the service knows it.
type Member struct {
	cluster.Member

	Last   *observation.Server // nil before the first contact
	SeenAt time.Time           // receipt of Last, service's clock
	// AskedAt is when Last was asked for, StateSince when the newest change of
	// what the server's log holds was first seen: a server can be compared with
	// one that was asked after that.
	AskedAt time.Time
	// LookedAt is when its positions were read, at the earliest.
	LookedAt time.Time
	// Unanswered is how many questions the owner of the newest term, under fencing, has
	// left without an answer; it is asked twice a second.
	Unanswered int
	// Claim is a term that the server says it owns without a decision of the service.
	Claim int64
	// Before is what the look before Last found missing.
	Before     Missing
	StateSince time.Time
	// Problem is why the last attempt to observe failed, empty when it did not.
	Problem string
	// WasAdrift is the cause of it when it was last found adrift, none since a
	// comparison with the primary or a proof showed that it is not.
	WasAdrift cause.Cause
	// ProofProblem is what the last attempt to prove its history met.
	ProofProblem string
	// Deposed: a failover took its role as primary, and it has not become part of the cluster
	// again. ComesBack: it is brought back by itself soon. StaysApart is why it is not, where
	// that was tried.
	Deposed, ComesBack bool
	StaysApart         string
	// Examined is what was found in its data, while it does not run; nil when that
	// is not known.
	Examined *verb.Examination
	// AppliedSince is when the applied position last moved, service's clock.
	AppliedSince time.Time
	// ReceivedSince is the same of the received position.
	ReceivedSince time.Time
	// ClockSkew is how far its clock is ahead of the service's, in seconds.
	ClockSkew        float64
	ConflictsPerHour float64
	// AppliedRate is in units of position.Order per second over the last half minute.
	AppliedRate float64
}

// Missing is what one look at a replica, by itself, found it to lack of the
// primary's writes.
type Missing struct {
	Applied bool // some were not applied
	Safe    bool // some were not on its disk
}

// Input is all that Assess looks at.
type Input struct {
	Cluster   string
	Engine    string
	Term      int64 // newest opened
	OwnerTerm int64 // newest decided
	KinTerm   int64 // from which on its owner has been primary without a break; 0: OwnerTerm
	Owner     string
	Policy    cluster.Policy
	Members   []Member
	Referees  []Member // agents without a database
	Gates     []Member
	Clock     *lag.Clock // where the owner stood when
	// WrittenRate is the owner's rate in the same unit over the last half minute.
	WrittenRate float64
	// WrittenBytesRate is in bytes of log a second, over the last minutes.
	WrittenBytesRate float64
	Operation        *Running
	// NeedsYou is the cluster's newest operation when it ended so.
	NeedsYou *Running
	// NoFailover is why no failover begins by itself, where one is wanted.
	NoFailover cause.Cause
	// Promised is what every acknowledged write rests on (cluster.Cluster).
	Promised []synchronous.List
	Promises int64
	Now      time.Time
}

// Running names the operation that is under way.
type Running struct {
	ID   int64          `json:"id"`
	Kind operation.Kind `json:"kind"`
	Step string         `json:"step,omitempty"`
}

// View is the cluster as judged at one moment.
type View struct {
	Cluster  string    `json:"cluster"`
	Engine   string    `json:"engine"`
	At       time.Time `json:"at"`
	Health   Health    `json:"health"`
	Severity int       `json:"severity"` // of the health: 0 is good, more is worse
	// Parts make the sentence.
	Parts    []cause.Cause `json:"parts"`
	Sentence string        `json:"sentence"`
	Term     int64         `json:"term"`
	// OwnerTerm is the newest decided term, Primary its owner.
	OwnerTerm int64 `json:"owner_term"`
	// KinTerm is that from which on it has been primary without a break: what was proven
	// then to share its history, does.
	KinTerm int64  `json:"kin_term"`
	Primary string `json:"primary"`
	// CanLose is how many more servers may fail and the cluster can still be
	// made to take writes.
	CanLose   int            `json:"can_lose"`
	AtRisk    AtRisk         `json:"at_risk"`
	Servers   []Server       `json:"servers"`
	Referees  []Referee      `json:"referees,omitempty"`
	Gates     []Gate         `json:"gates,omitempty"`
	Problems  []Problem      `json:"problems"`
	Operation *Running       `json:"operation,omitempty"`
	Policy    cluster.Policy `json:"policy"`
	// Permission is who may take writes; nil without fencing.
	Permission *Permission `json:"permission,omitempty"`
	// Synchronous is whom commits wait for; nil where they wait for nobody.
	Synchronous *Synchronous `json:"synchronous,omitempty"`
}

// AtRisk is what is acknowledged on the primary and safe on no replica that
// may take over.
type AtRisk struct {
	Known   bool    `json:"known"`
	Bytes   int64   `json:"bytes"`
	Seconds float64 `json:"seconds"`
	On      string  `json:"on,omitempty"` // the replica that holds most
	// Everything is set when no replica may take over at all.
	Everything bool `json:"everything"`
}

// Link is the state of a replica's link to the server that it follows.
type Link string

// The states of a link; the empty Link is that of a server that follows none.
const (
	LinkConnected Link = "connected"
	LinkDown      Link = "down"
	LinkUnknown   Link = "not known" // its agent has not answered for too long
)

// Server is one server as judged.
type Server struct {
	Name string `json:"name"`
	cluster.Placement
	Agent     string           `json:"agent,omitempty"`
	Role      observation.Role `json:"role"` // as judged by the term
	ReportsAs observation.Role `json:"reports_as"`
	Health    Health           `json:"health"`
	Severity  int              `json:"severity"`
	// Cause is why it has its health; Why is that in words.
	Cause   cause.Cause `json:"cause,omitzero"`
	Why     string      `json:"why,omitempty"`
	Address string      `json:"address,omitempty"`

	Position string `json:"position,omitempty"` // written or applied
	Received string `json:"received,omitempty"`
	History  string `json:"history,omitempty"`
	Follows  string `json:"follows,omitempty"`
	Link     Link   `json:"link,omitempty"`
	// DelaySeconds is for how long it is delayed, as configured.
	DelaySeconds float64     `json:"delay_seconds"`
	LagBytes     int64       `json:"lag_bytes"`
	Lag          lag.Reading `json:"lag"`
	Stages       lag.Stages  `json:"stages"`
	CatchUp      float64     `json:"catch_up_seconds"` // negative: not at this rate
	MayTakeOver  bool        `json:"may_take_over"`
	// Unfit is why it may not take over; WhyNot is that in words.
	Unfit  cause.Cause `json:"unfit,omitzero"`
	WhyNot string      `json:"why_not,omitempty"`
	// Notes are what is worth knowing of it beside its health and the reason for that.
	Notes []string `json:"notes,omitempty"`

	// Wait names the stage at which the bytes wait, and why; Diagnosis is that in
	// words.
	Wait             cause.Cause `json:"wait,omitzero"`
	Diagnosis        string      `json:"diagnosis,omitempty"`
	ClockSkew        float64     `json:"clock_skew_seconds"`
	ConflictsPerHour float64     `json:"conflicts_per_hour"`
	LogFull          *Forecast   `json:"log_full,omitempty"`
	// Fork is where an adrift server's history left the primary's.
	Fork *position.Fork `json:"fork,omitempty"`
	// Seeding is how far its copy has come.
	Seeding *Progress `json:"seeding,omitempty"`

	LastContactSeconds float64 `json:"last_contact_seconds"` // negative: never
	// ReceivedMovedSeconds is how long ago its received position was seen to move; 0 on
	// a server that has received nothing.
	ReceivedMovedSeconds float64             `json:"received_moved_seconds,omitempty"`
	Observation          *observation.Server `json:"observation,omitempty"`
	missing              Missing
}

// Open reports whether it runs as a primary, whether writes go on now, wait for something or
// are kept out of its sessions by a setting, which any session may change for itself.
func (s *Server) Open() bool {
	o := s.Observation
	return o != nil && o.Process.Accepting && o.Process.Role == observation.Primary
}

// FreshSeconds is how long ago something that a replica received is proof that its upstream
// lives, where nothing depends on less.
const FreshSeconds = 10

// ReceivesFrom returns how many seconds ago a replica that answers got something of an
// upstream, if that was just now. That a link counts as connected says nothing: it does so for
// a minute after its host has lost power (measured).
func (s *Server) ReceivesFrom(upstream string, within float64) (ago float64, does bool) {
	if s.Health == Unseen || s.Observation == nil || s.Follows != upstream {
		return 0, false
	}
	up := s.Observation.Links.Upstream
	if !s.Observation.Process.Accepting || up == nil || !up.Connected {
		return 0, false
	}
	if ago = up.IdleSeconds + s.LastContactSeconds; up.IdleSeconds > 0 && ago < within {
		return ago, true
	}
	ago = s.ReceivedMovedSeconds
	return ago, ago > 0 && ago < within
}

// Missing returns what the newest look at the server found missing.
func (s *Server) Missing() Missing { return s.missing }

// Progress is how far a long piece of work has come. Negative SecondsLeft: not
// known.
type Progress struct {
	DoneBytes   int64   `json:"done_bytes"`
	TotalBytes  int64   `json:"total_bytes"`
	BytesPerSec float64 `json:"bytes_per_second"`
	SecondsLeft float64 `json:"seconds_left"`
}

// Find returns a server of the view by name.
func (v *View) Find(name string) *Server {
	for i := range v.Servers {
		if v.Servers[i].Name == name {
			return &v.Servers[i]
		}
	}
	return nil
}

// WithoutObservations returns the view without the raw facts of its servers.
func (v *View) WithoutObservations() View {
	out := *v
	out.Servers = slices.Clone(v.Servers)
	for i := range out.Servers {
		out.Servers[i].Observation = nil
	}
	return out
}

// Render puts all causes into words, last: nothing is decided from them.
func (v *View) Render(say func(cause.Cause) string, sentence func([]cause.Cause) string) {
	v.Sentence = sentence(v.Parts)
	for i := range v.Servers {
		s := &v.Servers[i]
		s.Why, s.WhyNot, s.Diagnosis = say(s.Cause), say(s.Unfit), say(s.Wait)
		s.Notes = s.notes(say)
		if f := s.LogFull; f != nil {
			f.Text, f.Mend = say(f.what), say(f.remedy)
		}
	}
	if p := v.Permission; p != nil {
		p.Text = sayAll(say, p.Causes)
	}
	if s := v.Synchronous; s != nil {
		s.Text = sayAll(say, s.Causes)
	}
	for i := range v.Referees {
		r := &v.Referees[i]
		r.Why = say(r.Cause)
	}
	for i := range v.Gates {
		g := &v.Gates[i]
		g.Why = say(g.Cause)
	}
	for i := range v.Problems {
		p := &v.Problems[i]
		p.Text, p.Mend = say(p.Cause), say(p.Remedy)
	}
}

func sayAll(say func(cause.Cause) string, causes []cause.Cause) string {
	var texts []string
	for _, c := range causes {
		texts = append(texts, say(c))
	}
	return strings.Join(texts, ". ")
}

func (s *Server) notes(say func(cause.Cause) string) []string {
	var notes []string
	if note := cmp.Or(s.Diagnosis, s.Why); s.Health == InStep && note != "" {
		notes = append(notes, note)
	}
	// The other reasons show in its health, its rank and its role.
	if slices.Contains([]cause.Code{cause.Filtered, cause.WasFiltered, cause.NotProven, cause.DiskFull,
		cause.NoDeadman, cause.RankNotTold}, s.Unfit.Code) {
		unfit := s.Unfit
		notes = append(notes, say(cause.Cause{Code: cause.MayNotTakeOver, Because: &unfit}))
	}
	return notes
}
