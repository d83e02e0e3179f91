// Package synchronous holds what makes an acknowledged write be on a second server: which
// replicas a commit waits for, what may be promised of that, and whose answers a failover
// needs so that nothing acknowledged is missing on the next primary. Facts are from the
// handbook, "Synchronous replication".
package synchronous

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Mode is what an administrator wants of every commit.
type Mode string

// The modes.
const (
	None Mode = "none"
	One  Mode = "one"  // it is on at least one further server
	Most Mode = "most" // it is on a majority of the servers
)

// Modes lists them.
var Modes = []Mode{None, One, Most}

// Setting is what an administrator says of a cluster.
type Setting struct {
	// Mode; empty is None.
	Mode Mode `json:"mode"`
	// AwaySeconds is how long commits wait for replicas that are away until they go on without
	// them; 0: for ever, so that no write is ever acknowledged by the primary alone.
	AwaySeconds float64 `json:"away_seconds"`
}

// Wanted reports whether commits are to wait at all.
func (s Setting) Wanted() bool { return s.Mode == One || s.Mode == Most }

// LeastAway is the shortest time after which commits may go on alone: a replica that is
// restarted is back by then.
const LeastAway = 2

// Check refuses what cannot be meant.
func (s Setting) Check() error {
	switch {
	case s.Mode != "" && !slices.Contains(Modes, s.Mode):
		return fmt.Errorf("a synchronous mode is %s, %s or %s, not %q", None, One, Most, s.Mode)
	case s.AwaySeconds != 0 && s.AwaySeconds < LeastAway:
		return fmt.Errorf("commits wait for a replica that is away for %d s at least, or for ever (0)", LeastAway)
	case s.AwaySeconds != 0 && !s.Wanted():
		return errors.New("how long commits wait for replicas that are away is for the modes one and most")
	}
	return nil
}

// List is what a commit waits for: the acknowledgements of Need of Names. The zero List is
// nobody's.
type List struct {
	Need  int      `json:"need"`
	Names []string `json:"names"` // servers, in order of their names
}

// IsZero reports whether a commit waits for nobody.
func (l List) IsZero() bool { return l.Need == 0 }

// Equal reports whether two lists are one.
func (l List) Equal(m List) bool { return l.Need == m.Need && slices.Equal(l.Names, m.Names) }

// String returns "1 of heron, tern"; "nobody" for the zero List.
func (l List) String() string {
	if l.IsZero() {
		return "nobody"
	}
	return fmt.Sprintf("%d of %s", l.Need, strings.Join(l.Names, ", "))
}

// Answers is how many of Names have to be asked so that the one that holds most holds all that
// was acknowledged: each acknowledged write is on Need of them (rule 1).
func (l List) Answers() int { return len(l.Names) - l.Need + 1 }

// Covers reports whether enough of the list answer; if not, lacks is how many answers, of whom,
// would make it so.
func (l List) Covers(answers func(server string) bool) (ok bool, lacks List) {
	lacks.Need = l.Answers()
	for _, name := range l.Names {
		if answers(name) {
			lacks.Need--
		} else {
			lacks.Names = append(lacks.Names, name)
		}
	}
	if l.IsZero() || lacks.Need <= 0 {
		return true, List{}
	}
	return false, lacks
}

// Covered reports whether enough servers answer for all lists that acknowledged writes may
// rest on; if not, all that lack says would make it so.
func Covered(lists []List, answers func(server string) bool) (ok bool, lack []List) {
	for _, l := range lists {
		if enough, more := l.Covers(answers); !enough {
			lack = With(lack, more)
		}
	}
	return len(lack) == 0, lack
}

// Held reports whether Need of a list's servers hold something.
func (l List) Held(holds func(server string) bool) bool {
	n := 0
	for _, name := range l.Names {
		if holds(name) {
			n++
		}
	}
	return n >= l.Need
}

// With returns lists with one more, if it is not among them.
func With(lists []List, l List) []List {
	if l.IsZero() || slices.ContainsFunc(lists, l.Equal) {
		return lists
	}
	return append(slices.Clone(lists), l)
}

// For returns the list of a mode, for a primary with those other servers of a rank, of an engine
// whose commits can wait for any number of replicas, or for one only.
func For(m Mode, replicas []string, anyNumber bool) (List, error) {
	l := List{Names: slices.Sorted(slices.Values(replicas))}
	switch m {
	case One:
		l.Need = 1
	case Most:
		l.Need = (len(replicas) + 1) / 2
	default:
		return List{}, nil
	}
	switch {
	case len(replicas) == 0:
		return List{}, errors.New("there is no replica that may become primary, so nobody to wait for")
	case m == Most && !anyNumber && l.Need > 1:
		return List{}, errors.New("this engine waits for one replica at most, which is no majority of more than three " +
			"servers: " +
			"use mode one")
	}
	return l, nil
}
