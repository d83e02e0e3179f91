package view

import (
	"slices"
	"testing"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

// Who may become primary, and why not: kin or nothing, and a filter is no copy.
func TestMayTakeOver(t *testing.T) {
	crash := func(in *Input) {
		o := in.Members[0].Last
		o.Process.Running, o.Process.Accepting, o.Process.Role, o.Process.Writable = false, false, "", false
		in.Members[1].Last.Links.Upstream.Connected = false
	}
	for name, c := range map[string]struct {
		change func(in *Input)
		why    cause.Code // none: it may
	}{
		"proven":                          {nil, ""},
		"proven, and the primary is dead": {crash, ""},
		"not proven":                      {func(in *Input) { in.Members[1].Last.Log.ProvenTerm = 0 }, cause.NotProven},
		"not proven, the primary is dead": {func(in *Input) { crash(in); in.Members[1].Last.Log.ProvenTerm = 0 },
			cause.NotProven},
		"proven in an older term": {func(in *Input) { in.Members[1].Last.Log.ProvenTerm = 1 }, cause.NotProven},
		"a larger number, and not proven": {func(in *Input) {
			crash(in)
			l := &in.Members[1].Last.Log
			l.ProvenTerm, l.Received = 0, "9/0"
		}, cause.NotProven},
		"adrift, then the primary died": {func(in *Input) { crash(in); adriftBefore(in) }, cause.UnfitNow},
		"adrift once, proven since": {
			func(in *Input) { crash(in); adriftBefore(in); in.Members[1].Last.Log.ProvenTerm = 2 }, ""},
		"strayed, though in step": {func(in *Input) { in.Members[1].Last.Data.Strayed = true }, cause.UnfitNow},
		"filtered": {
			func(in *Input) { in.Members[1].Last.Log.Filters = []string{"replicate_ignore_db = logs"} }, cause.Filtered},
		"filtered before": {
			func(in *Input) { in.Members[1].Last.Log.Filtered = []string{"replicate_ignore_db = logs"} }, cause.WasFiltered},
		"foreign": {func(in *Input) { in.Members[1].Last.Data.Foreign = true }, cause.UnfitNow},
		"its disk is full": {func(in *Input) { in.Members[1].Last.Host.LogDiskFreeBytes = observation.Known[int64](0) },
			cause.DiskFull},
		"its agent was not told of its rank yet": {func(in *Input) {
			in.Policy.Fencing = true
			in.Members[1].Last.Permission = &observation.Permission{Fencing: true, Deadman: true, NeverLeads: true}
		}, cause.RankNotTold},
		"its agent was told": {func(in *Input) {
			in.Policy.Fencing = true
			in.Members[1].Last.Permission = &observation.Permission{Fencing: true, Deadman: true}
		}, ""},
		"its rank is never": {func(in *Input) { in.Members[1].Rank = 0 }, cause.RankNever},
		"its agent may not log in": {func(in *Input) {
			p := &in.Members[1].Last.Process
			p.Accepting, p.NotLetIn = false, true
		}, cause.UnfitNow},
		"unseen": {func(in *Input) { in.Members[1].SeenAt = now.Add(-time.Hour) }, cause.UnfitNow},
	} {
		v := Assess(bookings(c.change))
		s := v.Find("tern")
		if s.MayTakeOver != (c.why == "") || s.Unfit.Code != c.why {
			t.Errorf("%s: may take over %t, %+v (%s: %+v)", name, s.MayTakeOver, s.Unfit, s.Health, s.Cause)
		}
		// What shows in no other column is said.
		v.Render(func(c cause.Cause) string { return string(c.Code) }, func([]cause.Cause) string { return "" })
		hidden := c.why == cause.NotProven || c.why == cause.Filtered || c.why == cause.WasFiltered ||
			c.why == cause.DiskFull || c.why == cause.RankNotTold
		if said := slices.Contains(s.Notes, string(cause.MayNotTakeOver)); said != hidden {
			t.Errorf("%s: said that it may not take over: %t (%v)", name, said, s.Notes)
		}
	}
}

func adriftBefore(in *Input) {
	in.Members[1].WasAdrift = cause.Cause{Code: cause.PastFork, Peer: "gull"}
	in.Members[1].Last.Log.ProvenTerm = 0
}

// What an examination found in a stopped server's data makes it adrift, with the size
// of its tail; it says nothing of a server that runs.
func TestExaminedData(t *testing.T) {
	for name, c := range map[string]struct {
		found   verb.Examination
		running bool
		health  Health
		code    cause.Code
	}{
		"a tail": {verb.Examination{TailBytes: 4096, Fork: "0/2000000", End: "0/2001000"}, false, Adrift,
			cause.PastFork},
		"nothing of its own":  {verb.Examination{Fork: "0/2000000", End: "0/2000000"}, false, Stopped, cause.Crashed},
		"opened in place":     {verb.Examination{Kinship: string(position.Stranger)}, false, Adrift, cause.Strayed},
		"it has been started": {verb.Examination{TailBytes: 4096, Fork: "0/2000000"}, true, InStep, ""},
	} {
		v := Assess(bookings(func(in *Input) {
			m := &in.Members[1]
			if !c.running {
				m.Last.Process.Running, m.Last.Process.Accepting = false, false
				m.Last.Data.State = "in production"
				m.Last.Log.Line.Number, m.Last.Log.Written, m.Last.Log.Received, m.Last.Log.Applied = 1, "", "", ""
			}
			m.Examined = &c.found
		}))
		s := v.Find("tern")
		if s.Health != c.health || s.Cause.Code != c.code && c.code != "" {
			t.Errorf("%s: %s, %+v", name, s.Health, s.Cause)
		}
		if c.code == cause.PastFork && (s.Fork == nil || s.Fork.TailBytes != 4096 || s.Fork.At != "0/2000000") {
			t.Errorf("%s: %+v", name, s.Fork)
		}
	}
}
