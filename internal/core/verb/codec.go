package verb

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"crosstwin/internal/core/tail"
)

// entry is what is known of a verb by its name.
type entry struct {
	read   func(args []byte) (Call, error)
	long   bool     // carried out as a job that an observation reports
	yields FactKind // the fact that a step may keep of it
}

// verbs is the one table of all verbs.
var verbs = map[Name]entry{}

func register[C Call](long bool, yields FactKind) {
	var zero C
	verbs[zero.Verb()] = entry{long: long, yields: yields, read: func(args []byte) (Call, error) {
		var c C
		if len(args) == 0 || string(args) == "null" {
			return c, nil
		}
		err := json.Unmarshal(args, &c)
		return c, err
	}}
}

func init() {
	register[Note](false, "")
	register[Start](false, "")
	register[Stop](false, "")
	register[Fence](false, "")
	register[Promote](false, "")
	register[Follow](false, "")
	register[Slots](false, "")
	register[Checkpoint](false, "")
	register[Prepare](false, "")
	register[Account](false, "")
	register[Probe](false, "")
	register[Fit](false, "")
	register[Leave](false, "")
	register[Events](false, "")
	register[Mark](false, FactMark)
	register[AwaitMark](false, "")
	register[Settle](false, "")
	register[Seed](true, "")
	register[Verify](true, "")
	register[Rewind](true, "")
	register[Salvage](true, FactTail)
	register[Hold](false, FactHold)
	register[Snapshot](false, "")
	register[Release](false, "")
	register[Sums](true, FactSums)
	register[Rows](false, "")
	register[Forget](false, "")
	register[Trim](false, "")
	register[Set](false, "")
	register[OpenTerm](false, "")
	register[Outlast](false, "")
	register[Detach](false, "")
	register[Decide](false, "")
	register[Judge](false, FactComparison)
	register[Reread](false, FactTail)
	register[Synchronize](false, "")
	register[TimeCommits](false, FactTimed)
	register[Promise](false, "")
	register[RestGates](false, FactGates)
	register[HoldGates](false, FactGates)
	register[ReleaseGates](false, FactGates)
}

// Names lists all verbs in order.
func Names() []Name { return slices.Sorted(maps.Keys(verbs)) }

// Long reports whether a verb is carried out as a job.
func Long(n Name) bool { return verbs[n].long }

// Read reads a call from its name and its arguments as JSON.
func Read(n Name, args []byte) (Call, error) {
	e, known := verbs[n]
	if !known {
		return nil, fmt.Errorf("unknown verb %q", n)
	}
	c, err := e.read(args)
	if err != nil {
		return nil, fmt.Errorf("the arguments of %s cannot be read: %w", n, err)
	}
	return c, nil
}

// Sealed carries a call through JSON as {"verb": …, "args": …}. The zero Sealed
// holds no call.
type Sealed struct{ Call }

// Seal wraps a call.
func Seal(c Call) Sealed { return Sealed{c} }

// IsZero reports whether there is no call.
func (s Sealed) IsZero() bool { return s.Call == nil }

// Name returns the verb's name, empty without a call.
func (s Sealed) Name() Name {
	if s.Call == nil {
		return ""
	}
	return s.Verb()
}

type sealed struct {
	Verb Name            `json:"verb"`
	Args json.RawMessage `json:"args,omitempty"`
}

// MarshalJSON implements json.Marshaler.
func (s Sealed) MarshalJSON() ([]byte, error) {
	if s.Call == nil {
		return []byte("null"), nil
	}
	args, err := json.Marshal(s.Call)
	if err != nil {
		return nil, err
	}
	if string(args) == "{}" {
		args = nil
	}
	return json.Marshal(sealed{s.Verb(), args})
}

// UnmarshalJSON implements json.Unmarshaler.
func (s *Sealed) UnmarshalJSON(b []byte) error {
	if string(b) == "null" {
		return nil
	}
	var x sealed
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	c, err := Read(x.Verb, x.Args)
	s.Call = c
	return err
}

// FactKind is what kind of result a step keeps for later steps.
type FactKind string

// All kinds of fact.
const (
	FactMark       FactKind = "mark"
	FactTail       FactKind = "tail"
	FactHold       FactKind = "hold"
	FactSums       FactKind = "sums" // one for each server
	FactComparison FactKind = "comparison"
	FactTimed      FactKind = "commits" // Of: before or after
	FactGates      FactKind = "gates"   // Of: before, held or after
)

// Fact names one kept result. Of is the server, where there is one for each.
type Fact struct {
	Kind FactKind
	Of   string
}

// String returns the name under which a fact is kept, such as "sums tern".
func (f Fact) String() string { return strings.TrimSuffix(string(f.Kind)+" "+f.Of, " ") }

// IsZero reports whether nothing is named.
func (f Fact) IsZero() bool { return f.Kind == "" }

// MarshalText implements encoding.TextMarshaler.
func (f Fact) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (f *Fact) UnmarshalText(b []byte) error {
	kind, of, _ := strings.Cut(string(b), " ")
	*f = Fact{FactKind(kind), of}
	return nil
}

// KeepsFact reports whether a call's result is a fact of that kind.
func KeepsFact(c Call, kind FactKind) bool {
	return c != nil && kind != "" && verbs[c.Verb()].yields == kind
}

// take decodes a fact of the one kind that a call takes.
func take[R any](verb Name, f Fact, kind FactKind, value []byte) (r R, err error) {
	if f.Kind != kind {
		return r, fmt.Errorf("%s takes no fact %q", verb, f)
	}
	if value == nil {
		return r, nil // only asked whether it would be taken
	}
	if err := json.Unmarshal(value, &r); err != nil {
		return r, fmt.Errorf("the kept %s cannot be read: %w", f, err)
	}
	return r, nil
}

// Take implements Taker.
func (c AwaitMark) Take(f Fact, value []byte) (Call, error) {
	m, err := take[Marked](c.Verb(), f, FactMark, value)
	return AwaitMark{Mark: m}, err
}

// Take implements Taker.
func (c Snapshot) Take(f Fact, value []byte) (Call, error) {
	h, err := take[Held](c.Verb(), f, FactHold, value)
	c.Hold = h
	return c, err
}

// Take implements Taker.
func (c Reread) Take(f Fact, value []byte) (Call, error) {
	t, err := take[tail.Tail](c.Verb(), f, FactTail, value)
	c.Tail = t
	return c, err
}

// Take implements Taker.
func (c Judge) Take(f Fact, value []byte) (Call, error) {
	list, err := take[[]TableSum](c.Verb(), f, FactSums, value)
	sums := maps.Clone(c.Sums)
	if sums == nil {
		sums = map[string][]TableSum{}
	}
	sums[f.Of] = list
	c.Sums = sums
	return c, err
}
