package operation

import (
	"cmp"
	"fmt"
	"strconv"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
)

func logBegins(c Condition, _ string, o, _ *observation.Server) (bool, string) {
	if len(o.Log.Files) == 0 || len(c.Values) == 0 {
		return false, c.Server + " names no log files"
	}
	return o.Log.Files[0].Name == c.Values[0], c.Server + "'s log begins with " + o.Log.Files[0].Name
}

// Condition is something that must be true after a step, told from a fresh
// observation and never from the verb's own answer.
type Condition struct {
	Kind   string   `json:"kind"`
	Server string   `json:"server"`
	Other  string   `json:"other,omitempty"`
	Values []string `json:"values,omitempty"`
	// Within is how much may be missing.
	Within position.Distance `json:"within,omitzero"`
	Term   int64             `json:"term,omitempty"`
	// Count of Values, which are servers' names.
	Count int `json:"count,omitempty"`
	// Fact names a mark that an earlier step kept; the runner puts its id and
	// position into Values before the condition is tested.
	Fact verb.Fact `json:"fact,omitzero"`
}

// The kinds of condition.
const (
	// AcknowledgesNothing: as IsStopped, or it was killed and waits for a disk that hangs.
	AcknowledgesNothing = "acknowledges nothing"
	IsStopped           = "stopped"        // no database process, or one that can write no more
	HoldsAll            = "holds all"      // Server applied all that Other wrote before its orderly stop
	IsPrimary           = "is primary"     // runs, writable, owner of Term
	IsReplica           = "is replica"     // runs read-only
	Streams             = "streams"        // runs read-only, connected to Other, on Other's history
	PointsAt            = "points at"      // its settings name Other as upstream
	IsDetached          = "detached"       // follows nobody, no connection left
	HasSlots            = "has slots"      // Values exist
	LacksSlots          = "lacks slots"    // Values do not exist
	IsClosed            = "closed"         // an unsupervised start would open read-only
	IsCaughtUp          = "caught up"      // at most Within behind Other
	HasNoted            = "noted"          // Term was noted
	IsUnbroken          = "whole"          // no unfinished copy or rewind
	HasPassed           = "passed"         // applied the mark's position
	HasMark             = "has mark"       // the mark was found in its own log
	HoldsMost           = "holds most"     // received at least what Other received
	LosesAtMost         = "loses at most"  // at most Within of what Other wrote: up to Values[0], else to where it stopped
	LogBegins           = "log begins"     // the oldest file of its log is Values[0]
	HasCheckpoint       = "has checkpoint" // a recovery would begin at Values[0] or after
	HasSetting          = "has setting"    // setting Values[0] is Values[1]
	// TakesEncrypted: connections to Server prove Values[0]; FollowsEncrypted: it has
	// its upstream prove that.
	TakesEncrypted   = "takes encrypted"
	FollowsEncrypted = "follows encrypted"
	// WaitsFor: commits on Server wait for Count of Values, or will once it is primary. HeldByEnough:
	// Count of Values hold all that was written before that was proven.
	WaitsFor     = "waits for"
	HeldByEnough = "held by enough"
	StoppedClean = "stopped clean" // data says: shut down, with everything written out
)

// Holds tests a condition against observations by server name. seen is what
// was found, in words, for the journal and for the error.
func (c Condition) Holds(engine string, obs map[string]*observation.Server) (ok bool, seen string) {
	o := obs[c.Server]
	if o == nil {
		return false, c.Server + " was not observed"
	}
	if c.Kind == HeldByEnough {
		return heldByEnough(c, engine, obs)
	}
	other := obs[c.Other]
	if c.Other != "" && other == nil {
		return false, c.Other + " was not observed"
	}
	test, known := conditionTests[c.Kind]
	if !known {
		return false, "unknown condition " + c.Kind
	}
	return test(c, engine, o, other)
}

// Known reports whether there is a test for the condition's kind.
func (c Condition) Known() bool {
	_, ok := conditionTests[c.Kind]
	return ok || c.Kind == HeldByEnough
}

// Subjects are the servers that it is tested on. Server comes last but for those that hold
// something: what they hold is then never less than what it is compared with.
func (c Condition) Subjects() []string {
	if c.Kind == HeldByEnough {
		return append([]string{c.Server}, c.Values...)
	}
	return []string{c.Other, c.Server}
}

func isStopped(c Condition, _ string, o, _ *observation.Server) (bool, string) {
	return !o.Process.Running || o.Log.ShutdownAt != "", c.Server + runs(o)
}

var conditionTests = map[string]func(c Condition, engine string, o, other *observation.Server) (bool, string){
	AcknowledgesNothing: func(c Condition, engine string, o, other *observation.Server) (bool, string) {
		ok, seen := isStopped(c, engine, o, other)
		return ok || o.Process.Doomed, seen
	},
	IsStopped: isStopped,
	StoppedClean: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		return !o.Process.Running && (o.Log.ShutdownAt != "" || o.Data.State == "shut down in recovery"),
			c.Server + runs(o) + ", data: " + o.Data.State
	},
	HoldsAll: func(c Condition, engine string, o, other *observation.Server) (bool, string) {
		return position.HoldsStop(engine, o.Log.Applied, other.Log.ShutdownAt),
			fmt.Sprintf("%s applied %s, %s stopped taking writes at %s", c.Server, o.Log.Applied, c.Other,
				cmp.Or(other.Log.ShutdownAt, "no known position"))
	},
	IsPrimary: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		ok := o.Process.Accepting && o.Process.Role == observation.Primary && o.Process.Writable && o.Guard.Owner &&
			o.Guard.Accepted == c.Term
		return ok, fmt.Sprintf("%s%s, owner of term %d: %t", c.Server, runs(o), o.Guard.Accepted, o.Guard.Owner)
	},
	IsReplica: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		return o.Process.Accepting && o.Process.Role == observation.Replica, c.Server + runs(o)
	},
	Streams:    streams,
	LogBegins:  logBegins,
	WaitsFor:   waitsFor,
	HasSetting: hasSetting,
	HasCheckpoint: func(c Condition, engine string, o, _ *observation.Server) (bool, string) {
		ok, _ := position.Reaches(engine, o.Data.Redo, c.Values[0])
		return ok, fmt.Sprintf("%s's last checkpoint is at %s", c.Server, cmp.Or(o.Data.Redo, "no known position"))
	},
	PointsAt: func(c Condition, _ string, o, other *observation.Server) (bool, string) {
		return pointsAt(o, other), c.Server + " points at " + upstream(o)
	},
	IsDetached: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		u := o.Links.Upstream
		if u != nil && u.Host == "" && u.State != "" {
			return false, "the receiver of " + c.Server + " is still " + u.State // told to end, and not gone
		}
		return u == nil || u.Host == "" && !u.Connected, c.Server + " points at " + upstream(o)
	},
	HasSlots: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		for _, n := range c.Values {
			if _, ok := o.SlotNamed(n); !ok {
				return false, c.Server + " has no slot " + n
			}
		}
		return true, c.Server + " has them"
	},
	LacksSlots: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		for _, n := range c.Values {
			if _, ok := o.SlotNamed(n); ok {
				return false, c.Server + " still has slot " + n
			}
		}
		return true, "none left on " + c.Server
	},
	IsClosed: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		return o.Data.ClosedByDefault, fmt.Sprintf("%s closed by default: %t", c.Server, o.Data.ClosedByDefault)
	},
	IsCaughtUp: func(c Condition, engine string, o, other *observation.Server) (bool, string) {
		lacks, known := position.Lacks(engine, o.Log.Applied, other.Log.Written)
		return known && !lacks.Exceeds(c.Within),
			fmt.Sprintf("%s applied %s, %s wrote %s", c.Server, o.Log.Applied, c.Other, other.Log.Written)
	},
	HasPassed: func(c Condition, engine string, o, _ *observation.Server) (bool, string) {
		if len(c.Values) < 2 {
			return false, "no mark was kept"
		}
		ok, _ := position.Reaches(engine, o.Log.Applied, c.Values[1])
		return ok, fmt.Sprintf("%s applied %s, the mark stands at %s", c.Server, o.Log.Applied, c.Values[1])
	},
	HasMark: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		if len(c.Values) < 1 {
			return false, "no mark was kept"
		}
		return o.Log.Kin == c.Values[0], fmt.Sprintf("the newest mark found on %s is %q, looked for %q", c.Server, o.Log.Kin,
			c.Values[0])
	},
	HoldsMost: func(c Condition, engine string, o, other *observation.Server) (bool, string) {
		lacks, known := position.Lacks(engine, o.Log.Received, other.Log.Received)
		return o.Log.Received != "" && known && lacks.IsZero(),
			fmt.Sprintf("%s received %s, %s received %s", c.Server, o.Log.Received, c.Other, other.Log.Received)
	},
	LosesAtMost: losesAtMost,
	TakesEncrypted: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		proof := observation.Proof("")
		if o.Encryption != nil {
			proof = o.Encryption.State
		}
		return string(proof) == c.Values[0], fmt.Sprintf("encryption of %s is %s", c.Server, cmp.Or(proof, "not known"))
	},
	FollowsEncrypted: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		proof := observation.ProofNone
		if o.Links.Upstream != nil {
			proof = cmp.Or(o.Links.Upstream.Proof, proof)
		}
		return string(proof) == c.Values[0], fmt.Sprintf("encryption of %s's link is %s", c.Server, proof)
	},
	HasNoted: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		return o.Guard.Noted == c.Term, fmt.Sprintf("%s noted term %d", c.Server, o.Guard.Noted)
	},
	IsUnbroken: func(c Condition, _ string, o, _ *observation.Server) (bool, string) {
		switch {
		case o.Data.Empty:
			return false, c.Server + " holds no database"
		case o.Data.Unfinished != "":
			return false, "a " + o.Data.Unfinished + " was interrupted on " + c.Server
		}
		return true, c.Server + " holds a whole database"
	},
}

func streams(c Condition, engine string, o, other *observation.Server) (bool, string) {
	kin := o.Log.Line.Compare(other.Log.Line)
	ok := o.Process.Accepting && o.Process.Role == observation.Replica && pointsAt(o, other) &&
		o.Links.Upstream.Connected && o.Links.Upstream.ApplierProblem == "" && kin != position.Stranger
	text := c.Server + runs(o) + ", points at " + upstream(o)
	if o.Links.Upstream != nil {
		text += fmt.Sprintf(", connected: %t", o.Links.Upstream.Connected)
		for _, problem := range []string{o.Links.Upstream.Problem, o.Links.Upstream.ApplierProblem} {
			if problem != "" {
				text += " (" + problem + ")"
			}
		}
	}
	return ok, fmt.Sprintf("%s, history: %s (%s, %s has %s)", text, kin,
		cmp.Or(position.HistoryName(engine, o.Log.Line), "none"), c.Other,
		cmp.Or(position.HistoryName(engine, other.Log.Line), "none"))
}

func pointsAt(o, other *observation.Server) bool {
	return o.Links.Upstream != nil && o.Links.Upstream.Host == other.Host.Address.Host &&
		o.Links.Upstream.Port == other.Host.Address.Port
}

func upstream(o *observation.Server) string {
	if o.Links.Upstream == nil || o.Links.Upstream.Host == "" {
		return "nobody"
	}
	return o.Links.Upstream.Address().String()
}

func runs(o *observation.Server) string {
	switch {
	case !o.Process.Running:
		return " does not run"
	case !o.Process.Accepting:
		return " still runs and takes no connections"
	case o.Process.Writable:
		return " runs as " + string(o.Process.Role) + ", writable"
	}
	return " runs as " + string(o.Process.Role) + ", read-only"
}

func hasSetting(c Condition, _ string, o, _ *observation.Server) (bool, string) {
	if len(c.Values) < 2 {
		return false, "no value was asked for"
	}
	have := o.Config.Live[c.Values[0]]
	return sameSetting(have, c.Values[1]), fmt.Sprintf("%s is %s on %s", c.Values[0], cmp.Or(have, "not set"), c.Server)
}

// sameSetting reports whether two texts are one value: servers print sizes and
// times in the unit that fits best.
func sameSetting(have, want string) bool {
	if have == want {
		return true
	}
	a, ok1 := baseUnit(have)
	b, ok2 := baseUnit(want)
	return ok1 && ok2 && a == b
}

// units give the size of a unit in its base: bytes or milliseconds.
var units = map[string]float64{"": 1, "B": 1, "kB": 1 << 10, "MB": 1 << 20, "GB": 1 << 30, "TB": 1 << 40, "ms": 1,
	"s": 1e3, "min": 60e3, "h": 3600e3, "d": 86400e3}

func baseUnit(s string) (float64, bool) {
	i := 0
	for i < len(s) && (s[i] >= '0' && s[i] <= '9' || s[i] == '.' || s[i] == '-') {
		i++
	}
	n, err := strconv.ParseFloat(s[:i], 64)
	unit, known := units[s[i:]]
	return n * unit, err == nil && known
}

// losesAtMost: an end or a position that is not known fails it.
func losesAtMost(c Condition, engine string, o, other *observation.Server) (bool, string) {
	end := other.Log.ShutdownAt
	if len(c.Values) > 0 {
		end = c.Values[0]
	}
	if end == "" {
		return false, "where " + c.Other + " stopped is not known"
	}
	lacks, known := position.Lacks(engine, cmp.Or(o.Log.Received, o.Log.Applied), end)
	return known && !lacks.Exceeds(c.Within),
		fmt.Sprintf("%s received %s, %s's log ends at %s", c.Server, cmp.Or(o.Log.Received, o.Log.Applied, "nothing known"),
			c.Other, end)
}

func waitsFor(c Condition, _ string, o, _ *observation.Server) (bool, string) {
	s, want := o.Synchronous, synchronous.List{Need: c.Count, Names: c.Values}
	if s == nil {
		return false, "whom commits on " + c.Server + " wait for is not known"
	}
	ok := !s.ByHand && (want.IsZero() && s.Set.IsZero() ||
		s.Set.Equal(want) && (s.Live || o.Process.Role == observation.Replica))
	return ok, fmt.Sprintf("commits on %s wait for %s, proven: %t", c.Server, s.Set, s.Live)
}

func heldByEnough(c Condition, engine string, obs map[string]*observation.Server) (bool, string) {
	o := obs[c.Server]
	if o.Synchronous == nil || o.Synchronous.ProvenAt == "" {
		return false, "from where on commits on " + c.Server + " waited is not known"
	}
	at := o.Synchronous.ProvenAt
	var hold []string
	for _, n := range c.Values {
		if x := obs[n]; x != nil {
			if ok, _ := position.Reaches(engine, cmp.Or(x.Log.Received, x.Log.Applied), at); ok {
				hold = append(hold, n)
			}
		}
	}
	return len(hold) >= c.Count, fmt.Sprintf("%d of %d hold %s", len(hold), len(c.Values), at)
}
