package verb

import (
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
)

// Examine asks what is in a data directory beyond what an observation can see:
// the end of its log, and whether its tail parted at a fork. It is no step of a
// plan: plans are made from it.
type Examine struct {
	// Past and Line are the history to compare with, Written how far it has come.
	Line    position.Line     `json:"line"`
	Past    []position.Branch `json:"past,omitempty"`
	Written string            `json:"written,omitempty"`
	// Primary is whose history that is.
	Primary Peer `json:"primary"`
}

// Examination is what a server holds, found without changing anything.
type Examination struct {
	Running   bool          `json:"running"`
	Role      string        `json:"role,omitempty"`
	Clean     bool          `json:"clean"` // stopped cleanly
	State     string        `json:"state"`
	Line      position.Line `json:"line"`
	End       string        `json:"end"`  // of the log, on Line
	Fork      string        `json:"fork"` // where the histories part; End when they do not
	ForkLine  uint32        `json:"fork_line"`
	Kinship   string        `json:"kinship"` // of the two histories up to the fork
	TailBytes int64         `json:"tail_bytes"`
	// BrokenTo is where a record would have ended in which the log breaks off; empty
	// when it ends with a whole one. A server whose log goes on past End but not to
	// BrokenTo holds no write more.
	BrokenTo string `json:"broken_to,omitempty"`
	// Unfinished names a copy or rewind that was interrupted here.
	Unfinished string `json:"unfinished,omitempty"`
	Empty      bool   `json:"empty"`
	// Rewindable reports whether blocks can be taken back; WhyNot says why not.
	Rewindable bool       `json:"rewindable"`
	WhyNot     string     `json:"why_not,omitempty"`
	Tail       *tail.Tail `json:"tail,omitempty"`
	System     string     `json:"system"`
	// ByContent: the histories were compared transaction by transaction, not by
	// their positions. Strayed: the server was open for writes without right, so
	// that a comparison by positions shows nothing.
	ByContent bool `json:"by_content"`
	// Doubt is why its log is no proof of what its data holds; empty without a reason.
	Doubt   string `json:"doubt,omitempty"`
	Strayed bool   `json:"strayed,omitempty"`
}

// WithoutValues returns what was found without any value that a row or statement holds.
func (x *Examination) WithoutValues() *Examination {
	if x == nil {
		return nil
	}
	out := *x
	out.Tail = x.Tail.WithoutValues()
	return &out
}
