package position

import (
	"fmt"
	"strconv"
	"strings"
)

// Branch is one line of a timeline history file: the timeline that ended, and
// the position at which the next one parted from it.
type Branch struct {
	Timeline uint32 `json:"timeline"`
	End      LSN    `json:"end"`
	Reason   string `json:"reason,omitempty"`
	// Fingerprint is that of the timeline's first record, where it is known.
	Fingerprint string `json:"fingerprint,omitempty"`
}

// History is the unbroken line of writes of one PostgreSQL server: the
// timelines it went through, oldest first, and the one it is on now.
type History struct {
	Past    []Branch `json:"past,omitempty"`
	Current uint32   `json:"current"`
}

// ParseHistory reads the content of a timeline history file for timeline
// current (documentation, "Timelines"; format as written by the server:
// parent timeline, switch position, free text). Timeline 1 has no file: pass
// empty text.
func ParseHistory(current uint32, text string) (History, error) {
	h := History{Current: current}
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		f := strings.Fields(line)
		if len(f) < 2 {
			return History{}, fmt.Errorf("timeline history, line %d: %q has no switch position", i+1, line)
		}
		tli, err := strconv.ParseUint(f[0], 10, 32)
		if err != nil || tli == 0 {
			return History{}, fmt.Errorf("timeline history, line %d: %q is not a timeline", i+1, f[0])
		}
		end, err := ParseLSN(f[1])
		if err != nil {
			return History{}, fmt.Errorf("timeline history, line %d: %w", i+1, err)
		}
		if n := len(h.Past); n > 0 && (uint32(tli) <= h.Past[n-1].Timeline || end < h.Past[n-1].End) {
			return History{}, fmt.Errorf("timeline history, line %d: timeline %d at %s does not come after %d at %s",
				i+1, tli, end, h.Past[n-1].Timeline, h.Past[n-1].End)
		}
		h.Past = append(h.Past, Branch{Timeline: uint32(tli), End: end, Reason: strings.Join(f[2:], " ")})
	}
	if n := len(h.Past); n > 0 && h.Past[n-1].Timeline >= current {
		return History{}, fmt.Errorf("timeline history: timeline %d is listed as a parent of timeline %d",
			h.Past[n-1].Timeline, current)
	}
	return h, nil
}

// Began returns the position at which the current timeline parted from its
// parent; the zero LSN for a history without a parent.
func (h History) Began() LSN {
	if n := len(h.Past); n > 0 {
		return h.Past[n-1].End
	}
	return 0
}

// span is one timeline of a history with its bounds; end is the largest LSN
// for the current timeline.
type span struct {
	timeline   uint32
	begin, end LSN
}

func (h History) spans() []span {
	var out []span
	var begin LSN
	for _, b := range h.Past {
		out = append(out, span{b.Timeline, begin, b.End})
		begin = b.End
	}
	return append(out, span{h.Current, begin, ^LSN(0)})
}

// Fork finds the position up to which two histories are the same line. It is
// the smaller end of the last timeline that both went through from the same
// beginning. same is true when neither parted from the other (equal histories:
// the fork is then wherever the shorter log ends). It compares numbers and
// positions only: equal histories can still be different writes, which only a
// Line tells apart.
func (h History) Fork(o History) (fork LSN, timeline uint32, same bool, err error) {
	a, b := h.spans(), o.spans()
	last := -1
	for i := 0; i < len(a) && i < len(b); i++ {
		if a[i].timeline != b[i].timeline || a[i].begin != b[i].begin {
			break
		}
		last = i
	}
	if last < 0 {
		return 0, 0, false, fmt.Errorf("timeline %d and timeline %d have no common ancestor", h.Current, o.Current)
	}
	fork = min(a[last].end, b[last].end)
	return fork, a[last].timeline, fork == ^LSN(0), nil
}

// LineOf returns the identity of a timeline that h went through, within the
// cluster system; fingerprint is that of the current timeline.
func (h History) LineOf(system string, timeline uint32, fingerprint string) (Line, bool) {
	var begin LSN
	for _, b := range h.Past {
		if b.Timeline == timeline {
			return Line{system, timeline, begin, b.Fingerprint}, true
		}
		begin = b.End
	}
	return Line{system, timeline, begin, fingerprint}, timeline == h.Current
}

// Line identifies one history: the cluster it belongs to, the number the
// server returns it, where it began and a fingerprint of its first record. Two
// servers are kin when their Lines are equal; a number alone proves nothing.
type Line struct {
	System      string `json:"system"`
	Number      uint32 `json:"number"`
	Began       LSN    `json:"began"`
	Fingerprint string `json:"fingerprint,omitempty"`
}

// Kinship is what two Lines say about each other.
type Kinship string

// The possible answers of Compare.
const (
	Kin      Kinship = "kin"      // the same history
	Unknown  Kinship = "unknown"  // the same number and beginning, but a fingerprint is missing
	Stranger Kinship = "stranger" // different histories
)

// Compare reports whether two lines are one history. Timeline 1 is the line that
// initdb began, so there the system identifier is the fingerprint.
func (l Line) Compare(o Line) Kinship {
	switch {
	case l.System != o.System || l.Number != o.Number || l.Began != o.Began:
		return Stranger
	case l.Number == 1 && l.Began == 0:
		return Kin
	case l.Fingerprint == "" || o.Fingerprint == "":
		return Unknown
	case l.Fingerprint == o.Fingerprint:
		return Kin
	}
	return Stranger
}
