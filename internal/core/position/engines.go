package position

import (
	"fmt"
	"slices"
)

// The names of the engines as they stand in records and on the wire.
const (
	EnginePostgres = "postgresql"
	EngineMariaDB  = "mariadb"
)

// Order maps a position in an engine's text form to a number that grows along
// one history, so that positions of one history can be put in order and
// subtracted. PostgreSQL: bytes of log. MariaDB: transactions, all domains
// together. ok is false for an empty or unreadable position.
func Order(engine, text string) (n int64, ok bool) {
	switch engine {
	case EnginePostgres:
		l, err := ParseLSN(text)
		return int64(l), err == nil
	case EngineMariaDB:
		p, err := ParseGTIDPosition(text)
		if err != nil || p.IsZero() {
			return 0, false
		}
		for _, g := range p.All() {
			n += int64(g.Seq)
		}
		return n, true
	}
	return 0, false
}

// Reaches reports whether a server that stands at at holds everything up to
// want. known is false when one of the two cannot be read.
func Reaches(engine, at, want string) (reaches, known bool) {
	lacks, known := Lacks(engine, at, want)
	return known && lacks.IsZero(), known
}

// Lacks returns how much of want a server that stands at at does not hold.
func Lacks(engine, at, want string) (d Distance, known bool) {
	d.Unit = UnitOf(engine)
	if engine == EngineMariaDB {
		// An empty position is that of a server without any transaction.
		mine, err1 := ParseGTIDPosition(at)
		theirs, err2 := ParseGTIDPosition(want)
		d.Amount = int64(mine.Lacks(theirs))
		return d, err1 == nil && err2 == nil && !theirs.IsZero()
	}
	mine, ok1 := Order(engine, at)
	theirs, ok2 := Order(engine, want)
	d.Amount = max(0, theirs-mine)
	return d, ok1 && ok2
}

// HoldsStop reports whether a replica that applied up to applied holds all that
// a primary wrote before it stopped taking writes at stop. For PostgreSQL it
// must be strictly past: stop is where the shutdown record begins, and without
// that record the old primary could never follow the new one (measured).
func HoldsStop(engine, applied, stop string) bool {
	if engine == EnginePostgres {
		at, ok1 := Order(engine, applied)
		end, ok2 := Order(engine, stop)
		return ok1 && ok2 && at > end
	}
	ok, known := Reaches(engine, applied, stop)
	return ok && known
}

// HistoryName returns a history's name for people.
func HistoryName(engine string, l Line) string {
	switch {
	case l.Number == 0:
		return ""
	case engine == EngineMariaDB:
		return fmt.Sprintf("term %d", l.Number)
	}
	return fmt.Sprintf("timeline %d", l.Number)
}

// Linear maps log coordinates to bytes from the beginning of the oldest file
// in the list; false when the file is not in it.
func Linear(files []LogFile, coordinates string) (int64, bool) {
	c, err := ParseCoordinates(coordinates)
	if err != nil {
		return 0, false
	}
	i := slices.IndexFunc(files, func(f LogFile) bool { return f.Name == c.File })
	if i < 0 {
		return 0, false
	}
	n := int64(c.Offset)
	for _, f := range files[:i] {
		n += int64(f.Bytes)
	}
	return n, true
}

// LogBytes returns how far a primary's log has come in bytes: the position
// itself, or its place in the log's files.
func LogBytes(engine, written string, files []LogFile, coordinates string) (int64, bool) {
	if engine == EngineMariaDB {
		return Linear(files, coordinates)
	}
	return Order(engine, written)
}

// Standing is what one server holds, as far as an observation shows it.
type Standing struct {
	Line  Line
	Past  []Branch
	At    string    // how far it has come
	State GTIDState // MariaDB: newest number of each server and domain in its log
	// Server is MariaDB's server id.
	Server uint32
}

// OwnNumber is the newest sequence number that the server itself gave in its log
// (MariaDB); 0: none.
func (s Standing) OwnNumber() (newest uint64) {
	for _, g := range s.State.All() {
		if g.Server == s.Server {
			newest = max(newest, g.Seq)
		}
	}
	return newest
}

// Parting is how two histories were found to part.
type Parting string

// All ways in which a server holds writes that the primary's history lacks.
const (
	PartedOrigin Parting = "origin" // copies of two origins: At and Fork are their identifiers
	PartedNumber Parting = "number" // one number for two histories: History names it
	PartedPast   Parting = "past"   // it is at At, past the fork at Fork
	PartedExtra  Parting = "extra"  // it holds the transactions up to those in Text
	PartedNever  Parting = "never"  // the histories have no common ancestor: Text says which
)

// Apart says how a server's history was found to part from the primary's; the
// zero Apart when there is no sign of it.
type Apart struct {
	How                     Parting
	At, Fork, History, Text string
}

// Parted finds signs that a server holds writes that the primary's history
// lacks. after says that the primary was asked after the server's state was
// seen: only then does a higher number of the primary's own writes mean anything.
func Parted(engine string, mine, primary Standing, after bool) Apart {
	if mine.Line.System != "" && primary.Line.System != "" && mine.Line.System != primary.Line.System {
		return Apart{How: PartedOrigin, At: mine.Line.System, Fork: primary.Line.System}
	}
	if mine.Line.Number != 0 && mine.Line.Number == primary.Line.Number && mine.Line.Compare(primary.Line) == Stranger {
		return Apart{How: PartedNumber, History: HistoryName(engine, mine.Line)}
	}
	if engine == EngineMariaDB {
		return partedGTID(mine, primary, after)
	}
	if mine.Line.Number == 0 || primary.Line.Number == 0 || mine.Line.Number == primary.Line.Number {
		return Apart{}
	}
	a := History{Past: mine.Past, Current: mine.Line.Number}
	b := History{Past: primary.Past, Current: primary.Line.Number}
	fork, _, same, err := a.Fork(b)
	if err != nil {
		return Apart{How: PartedNever, Text: err.Error()}
	}
	if at, err := ParseLSN(mine.At); err == nil && !same && at > fork {
		return Apart{How: PartedPast, At: at.String(), Fork: fork.String()}
	}
	return Apart{}
}

// Beyond returns how much of a server's log goes on from where another log ends: what it holds
// although it has parted from that log before its end is nothing of that. Where it is not known
// to have parted, all counts.
func Beyond(engine string, mine Standing, line Line, end string) (d Distance, known bool) {
	parted := mine.Line.Number != 0 && mine.Line.Number < line.Number
	switch {
	case engine != EngineMariaDB && parted:
		return Distance{Unit: UnitOf(engine)}, true
	case engine != EngineMariaDB || mine.State.IsZero():
		return Lacks(engine, end, mine.At)
	}
	at, err := ParseGTIDPosition(mine.At)
	theirs, err2 := ParseGTIDPosition(end)
	var on GTIDPosition
	for _, g := range at.All() {
		if last, ok := theirs.In(g.Domain); !ok || mine.holds(g, last) {
			on = on.With(g)
		}
	}
	d, known = Lacks(engine, end, on.String())
	return d, err == nil && err2 == nil && (known || on.IsZero() && !at.IsZero())
}

// holds reports whether a server that stands at one transaction of a domain has another of it.
func (s Standing) holds(at, g GTID) bool {
	own, _ := s.State.Newest(g.Domain, g.Server)
	return at.Server == g.Server && at.Seq >= g.Seq || own.Seq >= g.Seq
}

// Fork is where a server's history left the primary's, as far as observations
// show it. Amounts that are not known are negative.
type Fork struct {
	At        string `json:"at,omitempty"`
	TailBytes int64  `json:"tail_bytes"`
	// TailCount is the number of transactions of the tail (MariaDB).
	TailCount int64 `json:"tail_transactions"`
	// SinceBytes is what the primary has written since.
	SinceBytes int64 `json:"since_bytes"`
}

// ForkBetween finds the fork of a server's history and the primary's; false when
// observations do not show one.
func ForkBetween(engine string, mine, primary Standing) (Fork, bool) {
	f := Fork{TailBytes: -1, TailCount: -1, SinceBytes: -1}
	if engine == EngineMariaDB {
		extra := mine.State.Extra(primary.State)
		if len(extra) == 0 {
			return f, false
		}
		f.TailCount = 0
		for _, g := range extra {
			shared, found := primary.State.Newest(g.Domain, g.Server)
			if !found {
				return Fork{TailBytes: -1, TailCount: -1, SinceBytes: -1}, true
			}
			f.At = shared.String()
			f.TailCount += int64(g.Seq - shared.Seq)
		}
		return f, true
	}
	if mine.Line.Number == 0 || primary.Line.Number == 0 {
		return f, false
	}
	a := History{Past: mine.Past, Current: mine.Line.Number}
	b := History{Past: primary.Past, Current: primary.Line.Number}
	fork, _, same, err := a.Fork(b)
	if err != nil || same {
		return f, false
	}
	f.At = fork.String()
	if at, err := ParseLSN(primary.At); err == nil && at >= fork {
		f.SinceBytes = int64(at - fork)
	}
	if at, err := ParseLSN(mine.At); err == nil {
		if at <= fork {
			return f, false
		}
		f.TailBytes = int64(at - fork)
	}
	return f, true
}

func partedGTID(mine, primary Standing, after bool) Apart {
	if primary.State.IsZero() {
		return Apart{}
	}
	var extra []GTID
	for _, g := range mine.State.Extra(primary.State) {
		if after || g.Server != primary.Server {
			extra = append(extra, g)
		}
	}
	if len(extra) == 0 {
		return Apart{}
	}
	return Apart{How: PartedExtra, Text: joinGTIDs(extra)}
}
