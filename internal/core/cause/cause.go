// Package cause holds why something is so, as facts: why a server has its
// health, what is wrong with a cluster and what puts it right, why a server may
// not take over. Decisions read the code and the facts. Sentences are made from
// them in package words, last, and nothing ever reads a sentence.
package cause

// Code says what kind of cause it is.
type Code string

// Why a server has its health.
const (
	NotEnrolled     Code = "not enrolled"
	NeverAnswered   Code = "never answered"            // Text: why the last question failed
	Silent          Code = "silent"                    // Seconds; Text: why the last question failed
	OpenWithoutTerm Code = "open without a term"       // Peer owns Term
	CommitsWait     Code = "commits wait"              // Seconds
	SyncWaits       Code = "commits wait for replicas" // Names, Seconds
	DiskHangs       Code = "disk hangs"                // Seconds: a commit waits for it
	Doomed          Code = "doomed"                    // killed, and waits for its disk
	NoReads         Code = "no reads"                  // a replica that is set to take no connections
	NotLetIn        Code = "not let in"                // Text: what the server said
	Strayed         Code = "strayed"                   // Peer: the primary
	ForeignOrigin   Code = "foreign origin"            // At: its system identifier, Fork: the primary's
	OpensByItself   Code = "opens by itself"           // stopped, and its agent does not know it from before
	OpenBefore      Code = "open before"               // Peer: whom it follows all the same, where it does
	OtherHistory    Code = "other history"             // History: the name that both use; Peer
	PastFork        Code = "past the fork"             // At, Fork, Peer
	ExtraGTIDs      Code = "extra transactions"        // Text: the GTIDs, Peer
	NoAncestor      Code = "no common history"         // Text
	Copying         Code = "copying"                   // Text: what the job does now
	Interrupted     Code = "interrupted"               // Name: seed or rewind
	FencedByAgent   Code = "fenced by its agent"
	NoDatabase      Code = "no database"
	StoppedCleanly  Code = "stopped cleanly"
	Crashed         Code = "crashed" // Text: what the data says
	NotRunning      Code = "not running"
	NoAnswer        Code = "no answer"              // Text: the server's own words
	ReadOnlyBySet   Code = "read-only by a setting" // Name: the setting
	RunsAsReplica   Code = "runs as a replica"
	FollowsNone     Code = "follows no server"
	Deposed         Code = "deposed"               // a failover took its role, and it follows no server
	FollowsStranger Code = "follows a stranger"    // Peer
	LinkDown        Code = "link down"             // Peer; Text: the server's own words
	UpstreamSilent  Code = "upstream silent"       // Peer
	ApplierStopped  Code = "applier stopped"       // Text, Number
	ReplayPaused    Code = "replay paused"         // Bytes wait on its disk
	NothingArrives  Code = "nothing arrives"       // Peer, Seconds: the link is open
	PeerSaysNothing Code = "upstream says nothing" // Peer, Seconds: the link is open
	Delayed         Code = "delayed"               // Seconds, Bytes wait for their time
	NothingApplied  Code = "nothing applied"       // Seconds
	BytesWait       Code = "bytes wait"            // Stage, Bytes of Total; Wait, Because
)

// Whom commits wait for: Count of Names, on Name, the primary.
const (
	SyncUnknown  Code = "synchronous not known"
	SyncPromised Code = "synchronous until now"
	SyncByHand   Code = "synchronous by hand" // Text: what the server has
	// SyncFound: Text is what the server has, Total how many it asks for; Mode comes nearest to
	// that, and asks for Count.
	SyncFound       Code = "synchronous found"
	SyncSet         Code = "synchronous set" // the command for Mode, as in SyncFound
	SyncEnds        Code = "synchronous ends"
	SyncHolds       Code = "synchronous"
	SyncWentOn      Code = "went on without replicas"
	SyncBegins      Code = "synchronous begins"
	SyncNotYet      Code = "synchronous not yet"
	SyncDouble      Code = "two replicas of one name"     // Names are those under which more than one is connected
	SyncStranger    Code = "somebody else acknowledges"   // Count can, and the cluster has Total
	SyncUnwaited    Code = "commits that wait for nobody" // Count roles, databases and functions on Name
	SyncSeeDefaults Code = "see who does not wait"
	AloneAtRisk     Code = "acknowledged alone"             // Count commits, At the time, and Names do not have them yet
	AloneCovered    Code = "acknowledged alone, and caught" // the same, and enough have them by now
	SyncSetAgain    Code = "set synchronous again"          // Text: the mode
	SyncReturns     Code = "synchronous returns"            // when Names are back
	SyncNameOnce    Code = "name replicas once"
	SyncReleases    Code = "what releases commits" // Names
)

// WasAt adds to a cause how old what a replica shows is: Peer was there Seconds
// ago.
const WasAt Code = "was at"

// Why a server may not take over.
const (
	IsPrimary   Code = "is the primary"
	RankNotTold Code = "rank not told" // its agent does not know yet that it may become primary
	RankNever   Code = "rank is never"
	// MayNotTakeOver says of a server that it is no candidate, because of another cause.
	MayNotTakeOver Code = "may not take over"
	DiskFull       Code = "disk full"    // Bytes that are left
	UnfitNow       Code = "unfit now"    // Health
	Filtered       Code = "filtered"     // Names: the filters
	WasFiltered    Code = "was filtered" // Names: the filters
	NotProven      Code = "not proven"   // Peer; Text: what the last try met
)

// What is wrong with a cluster or a server.
const (
	NoPrimary      Code = "no primary"
	TwoPrimaries   Code = "two primaries" // Names
	HealthIs       Code = "health"        // Health, Because
	NeedsYou       Code = "needs you"     // Number: operation; Name: its kind
	AllAtRisk      Code = "all at risk"
	AtRisk         Code = "at risk"           // Bytes, Seconds
	SlotLost       Code = "slot lost"         // Name: slot; Peer: its reader, where known
	SlotOfNone     Code = "slot of no server" // Name, Bytes
	SlotUnread     Code = "slot unread"       // Name, Peer, Bytes
	SlotForeign    Code = "slot of others"    // Name, Bytes
	LogKept        Code = "log kept"          // Names are away
	LogFilling     Code = "log filling"       // Names are away, Seconds until the disk is full
	ConflictsMany  Code = "conflicts"         // Count an hour
	ClockOff       Code = "clock off"         // Seconds, negative: behind
	CertificateEnd Code = "certificate ends"  // Seconds
	AgentOld       Code = "agent too old"     // Text: its version
	AgentNew       Code = "agent too new"     // Text: its version
	OpenByDefault  Code = "open by default"
	// Who may write under fencing. Name is the primary.
	// Whether a failover begins by itself. Name is the primary.
	FailoverUnfenced    Code = "failover: no fencing"
	FailoverBusy        Code = "failover: busy" // Text: with which operation
	FailoverNeedsYou    Code = "failover: needs you"
	FailoverMaintenance Code = "failover: maintenance" // Text: why
	FailoverOff         Code = "failover: off"         // for Seconds more
	FailoverQuiet       Code = "failover: quiet"       // for Seconds more
	FailoverNobody      Code = "failover: nobody"
	FailoverUnclear     Code = "failover: unclear"
	FailoverTooFew      Code = "failover: too few" // Count would be left, Total have to
	FailoverNoStart     Code = "failover: no start"
	StartsAgain         Code = "starts again" // Name is given Seconds; Because
	FailoverCrashed     Code = "failover: crashed"
	FailoverStopped     Code = "failover: stopped"
	FailoverReopens     Code = "failover: reopens"
	FailoverClosed      Code = "failover: closed"
	FailoverDisk        Code = "failover: disk"    // hangs for Seconds
	FailoverHangs       Code = "failover: hangs"   // for Seconds
	FailoverPath        Code = "failover: path"    // Peer still receives
	FailoverPledged     Code = "failover: pledged" // Peer was asked for its pledge
	FailoverAlone       Code = "failover: alone"   // Count others answer
	FailoverUnseen      Code = "failover: unseen"  // for Seconds
	FailoverPlan        Code = "failover: plan"    // Text: why not
	NoFailover          Code = "no failover"       // Because
	RejoinsByItself     Code = "rejoins by itself" // Because
	RejoinByHand        Code = "rejoin by hand"    // Text: why not by itself
	FailoverByHand      Code = "failover by hand"
	FailoverLoss        Code = "failover: loss"                // Bytes at risk, Total are accepted
	FailoverSyncWaits   Code = "failover: its commits wait"    // for Names
	FailoverNoPromise   Code = "failover: nothing is promised" // of acknowledged writes
	FailoverNotCovered  Code = "failover: too few are asked"   // Others: the Answers that are missing
	Answers             Code = "answers"                       // Count: how many of Names
	StillReceives       Code = "still receives"                // from Peer, Seconds ago
	RefereeCounts       Code = "referee counts"                // Count: the newest term that it has noted
	// Who may write under fencing. Name is the primary.
	NoDeadman         Code = "no deadman"
	FencingBegins     Code = "fencing begins"
	PermissionGranted Code = "permission granted" // Seconds are left
	PermissionPledged Code = "permission pledged" // Names pledged, Seconds are left
	PermissionNone    Code = "no permission"
	// PermissionNoDeadman: Name's does not run, so it gets none.
	PermissionNoDeadman Code = "no permission without a deadman"
	PermissionUnseen    Code = "permission unseen"
	PermissionAlone     Code = "permission alone" // Names do not answer
	RejoinsSoon         Code = "rejoins soon"
	FailsOverSoon       Code = "fails over soon"
	RefereeSilent       Code = "referee silent" // Name, Because
	StartReferee        Code = "start referee"
	GateSilent          Code = "gate silent" // Name, Because
	StartGate           Code = "start gate"
	EnrollGate          Code = "enroll gate"
	FalseClaim          Code = "false claim"   // Term
	CallRefused         Code = "call refused"  // Name: the certificate; Peer, Cluster: whose; Text: what; At: from where
	TokenRefused        Code = "token refused" // Name; Text: what was asked; At: from where
	TokenRemoved        Code = "token removed" // Name; At: from where
	TokenExpired        Code = "token expired" // Name; At: from where
	LoginsFailed        Code = "logins failed" // At: from where
)

// What puts it right.
const (
	AddPrimary      Code = "add a primary"
	UpdateAgent     Code = "update the agent"
	EnrollIt        Code = "enroll it"
	UpdateService   Code = "update the service"
	SeeTail         Code = "see the tail"
	ReadOperation   Code = "read the operation"   // Number
	FollowOperation Code = "follow the operation" // Number; Name: its kind
	BringBackRank   Code = "bring a ranked replica back"
	WatchStages     Code = "watch the stages"
	MakeAnother     Code = "make another primary"
	SeeDisk         Code = "see its disk"
	SeeAgent        Code = "see its agent"      // At: its address
	EndSyncWait     Code = "end the wait"       // Name: the setting
	LetWrite        Code = "let sessions write" // Text: the statement
	LetIn           Code = "let the agent in"
	LetRead         Code = "let it be read"
	SeedIt          Code = "seed it"
	RemoveOrReplace Code = "remove or replace it"
	CloseAndRejoin  Code = "close and rejoin it" // Text: what closes it
	CloseAndAdopt   Code = "close and adopt it"  // Text: the statement
	SeedReplace     Code = "seed it again"
	DropSlot        Code = "drop the slot"    // Name
	BringBack       Code = "bring it back"    // Peer
	StartReader     Code = "start the reader" // Name
	WaitSession     Code = "wait for the session"
	SeeConflicts    Code = "see the conflicts"
	WatchIt         Code = "watch it"
	CheckNetwork    Code = "check the network" // Peer
	NothingToDo     Code = "nothing to do"
	ResumeReplay    Code = "resume replay" // Text: the statement
	TailThenRebuild Code = "tail, then rebuild"
	RejoinIt        Code = "rejoin it"
	SetClock        Code = "set the clock"
	EnrollAgain     Code = "enroll it again"
	AgentCloses     Code = "its agent closes it"
	SeeHost         Code = "see to its host"
	FindHolder      Code = "find whoever holds it" // Name: the token
	RemoveToken     Code = "remove the token"      // Name
	SeeAudit        Code = "see the audit trail"
	SeeKey          Code = "see who has the key"       // Peer, Cluster: whose agent's
	SeeOldKey       Code = "see whose old key that is" // Peer: a server that was removed; Cluster: its
)

// The parts of a cluster's sentence.
const (
	NoServers   Code = "no servers"
	NoneYet     Code = "no primary yet"
	TakesNone   Code = "takes no writes" // Server, Health, Because
	TakesWrites Code = "takes writes"    // Server; Others: what is wrong, worst first
	InStep      Code = "in step"         // Names
	LagIs       Code = "lag"             // Server, Seconds; AtLeast
	NoReplica   Code = "no replica"
	CanLose     Code = "can lose" // Count
	NoneAtRisk  Code = "nothing at risk"
)

// Stage is where bytes wait on their way to being applied.
type Stage string

// The stages at which bytes wait.
const (
	NotSent     Stage = "sent"
	NotReceived Stage = "received"
	NotSafe     Stage = "safe"
	NotApplied  Stage = "applied"
)

// Wait is what an applier waits for.
type Wait string

// All that an applier waits for; the empty Wait is not known or nothing.
const (
	WaitRows       Wait = "rows"       // a query that still needs rows which it removes
	WaitTablespace Wait = "tablespace" // a query that uses a tablespace which it drops
	WaitTable      Wait = "table"      // a query or session that holds a lock on a table
	WaitPage       Wait = "page"       // a query that holds a page
	WaitDisk       Wait = "disk"
	WaitCPU        Wait = "processor"  // Share of a core
	WaitOneThread  Wait = "one thread" // one thread applies everything
)

// Conflict reports whether an applier waits for a session of a client.
func (w Wait) Conflict() bool {
	return w == WaitRows || w == WaitTablespace || w == WaitTable || w == WaitPage
}

// UnderMaintenance: people work on the cluster, until At, because of Text.
const UnderMaintenance Code = "under maintenance"

// Cause is one cause with its facts. Which fields mean something depends on the
// code, as said there.
type Cause struct {
	Code    Code     `json:"code"`
	Cluster string   `json:"cluster,omitempty"`
	Server  string   `json:"server,omitempty"`
	Peer    string   `json:"peer,omitempty"`
	Name    string   `json:"name,omitempty"`
	Names   []string `json:"names,omitempty"`
	Health  string   `json:"health,omitempty"`
	Bytes   int64    `json:"bytes,omitempty"`
	Total   int64    `json:"total_bytes,omitempty"`
	Seconds float64  `json:"seconds,omitempty"`
	AtLeast bool     `json:"at_least,omitempty"`
	Share   float64  `json:"share,omitempty"`
	Count   int64    `json:"count,omitempty"`
	Number  int64    `json:"number,omitempty"`
	Term    int64    `json:"term,omitempty"`
	At      string   `json:"at,omitempty"`
	Fork    string   `json:"fork,omitempty"`
	History string   `json:"history,omitempty"`
	Stage   Stage    `json:"stage,omitempty"`
	Wait    Wait     `json:"wait,omitempty"`
	Text    string   `json:"text,omitempty"` // the server's own words
	Mode    string   `json:"mode,omitempty"` // synchronous.Mode
	Because *Cause   `json:"because,omitempty"`
	Others  []Cause  `json:"others,omitempty"`
}

// IsZero reports whether there is no cause.
func (c Cause) IsZero() bool { return c.Code == "" }
