package guard

import (
	"fmt"
	"time"
)

// Decision says who owns a term of a cluster. The service signs it, and the agents keep
// it: what an agent says of a term counts only with a decision that the service itself
// once made (invariant: no agent makes itself, or anybody else, the owner of a term).
type Decision struct {
	Cluster string `json:"cluster"`
	// Made is when the records made this cluster, as MadeText gives it: one of the same
	// name that was removed and added again is another.
	Made  string `json:"made"`
	Term  int64  `json:"term"`
	Owner string `json:"owner"`
}

// Signed is a decision with the service's signature.
type Signed struct {
	Decision
	Signature []byte `json:"signature"`
}

// Statement is what is signed: nothing else that the same key signs looks like it, and
// no two decisions look alike (names hold letters, digits and hyphens only).
func (d Decision) Statement() []byte {
	return fmt.Appendf(nil, "Cross Twin decision\x00%s\x00%s\x00%d\x00%s", d.Cluster, d.Made, d.Term, d.Owner)
}

// MadeText is how the time at which a cluster was made stands in a decision.
func MadeText(at time.Time) string { return at.UTC().Format(time.RFC3339Nano) }

// farthest is how far ahead of the records a term that an agent noted may be and still
// be its own service's: one that claims more would use the numbers up.
const farthest = 1000

// Believable reports whether an agent may have noted a term, by the newest one of the
// records.
func Believable(noted, newest int64) bool { return noted <= newest+farthest }
