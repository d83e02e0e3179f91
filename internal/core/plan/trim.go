package plan

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// Needs says, by file, who still needs the primary's log: every server of the
// cluster counts until it is removed. A replica of the primary needs what it has
// not applied. One that is not, fenced or adrift or away, may rejoin: it needs the
// log from where its history is known to be the primary's, which is before its
// fork; its own position says nothing, since the numbers of its tail may be used
// again. A server of which that is not known needs all of it.
func Needs(v *view.View, files []tail.LogFile, members []view.Member) []tail.LogFile {
	engine, primary := v.Engine, v.Primary
	out := append([]tail.LogFile{}, files...)
	written := -1 // the file that is written
	for i := range out {
		if out[i].Ahead {
			continue
		}
		written = i
	}
	var owner *observation.Server
	for _, m := range members {
		if m.Name == primary {
			owner = m.Last
		}
	}
	for _, m := range members {
		if m.Name == primary {
			keepSlots(engine, out, m)
			continue
		}
		at, known := needsFrom(engine, m, owner, isReplica(v, m.Name))
		for i := range out {
			if i >= written {
				break
			}
			switch {
			case !known && m.Last != nil && m.Last.Data.Empty:
			case !known:
				out[i].NeededBy = append(out[i].NeededBy, m.Name+" (from where on is not known)")
			case !holds(engine, at, out[i].To):
				out[i].NeededBy = append(out[i].NeededBy, m.Name)
			}
		}
	}
	if written >= 0 {
		out[written].NeededBy = append(out[written].NeededBy, "it is being written")
	}
	return out
}

// keepSlots marks what slots keep that belong to none of the cluster's servers.
func keepSlots(engine string, files []tail.LogFile, m view.Member) {
	if m.Last == nil || !dialect.Of(engine).Slots {
		return
	}
	for _, s := range m.Last.Links.Slots {
		if s.Ours || s.Restart == "" {
			continue
		}
		for i := range files {
			if files[i].To != "" && !holds(engine, s.Restart, files[i].To) {
				files[i].NeededBy = append(files[i].NeededBy, "slot "+s.Name)
			}
		}
	}
}

// follows reports whether a mark written on the primary will arrive at a server.
func follows(v *view.View, name string) bool {
	s := v.Find(name)
	return s != nil && (s.Health == view.InStep || s.Health == view.Behind)
}

// isReplica reports whether a server applies this primary's log and nothing else, so
// that what it has applied is what it has, also while it is stalled. One to which
// the primary refuses its log, as not its own (error 1236), has another.
func isReplica(v *view.View, name string) bool {
	s := v.Find(name)
	if s == nil || s.Health != view.Stalled {
		return follows(v, name)
	}
	o := s.Observation
	return o != nil && o.Process.Running && o.Process.Role == observation.Replica && s.Follows == v.Primary &&
		o.Links.Upstream != nil && !o.Links.Upstream.Refused
}

// needsFrom returns the position after which a server needs the primary's log;
// false when that is not known.
func needsFrom(engine string, m view.Member, owner *observation.Server, replica bool) (string, bool) {
	o := m.Last
	if o == nil || owner == nil || o.Data.Unfinished != "" {
		return "", false
	}
	if replica {
		return o.Log.Applied, o.Log.Applied != ""
	}
	fork, forked := position.ForkBetween(engine, o.Standing(), owner.Standing())
	if dialect.Of(engine).Coordinates {
		// The mark itself has to be before the fork: the primary holds it then.
		before := !forked || fork.At != "" && reaches(engine, fork.At, o.Log.KinAt)
		return o.Log.KinAt, o.Log.KinAt != "" && before
	}
	if forked {
		return fork.At, fork.At != ""
	}
	for _, at := range []string{o.Log.Applied, o.Log.ShutdownAt, o.Log.Written} {
		if at != "" {
			return at, true
		}
	}
	return "", false
}

func reaches(engine, at, want string) bool {
	ok, known := position.Reaches(engine, at, want)
	return ok && known
}

// holds reports whether a server at a position holds all that a file has.
func holds(engine, at, to string) bool {
	if to == "" {
		return true // nothing was written before its end
	}
	return reaches(engine, at, to)
}

// trim plans the removal of the oldest files of the primary's log.
func (in *Input) trim(p *operation.Plan) error {
	r := in.Request.Trim
	if r == nil {
		r = &operation.TrimRequest{}
	}
	given := 0
	for _, is := range []bool{r.To != "", r.OlderHours > 0, r.KeepBytes > 0} {
		if is {
			given++
		}
	}
	if given > 1 {
		return fmt.Errorf("say how much of the log goes in one way: by file, by age or by size")
	}
	primary := in.View.Primary
	p.Summary = "Remove the oldest log files of " + cmp.Or(primary, in.View.Cluster) + "."
	if !in.checkPrimary(p) {
		return nil
	}
	in.checkAgents(p, primary)
	if in.dialect().Slots {
		return in.trimByServer(p)
	}
	files := Needs(&in.View, in.LogFiles, in.Members)
	wanted, why, err := chooseTrim(r, files, in.View.At)
	if err != nil {
		return err
	}
	free := freeFiles(files)
	cut := min(wanted, free)
	c := operation.Check{Name: "Unneeded files", Server: primary, Result: operation.Pass,
		Why: "a server that lacks something of a removed file can only be rebuilt", Evidence: why}
	switch {
	case wanted == 0:
		c.Result, c.Evidence = operation.Fail, why+": no file is to go"
	case free == 0:
		c.Result, c.Evidence = operation.Fail,
			fmt.Sprintf("the oldest file, %s, is still needed by %s", files[0].Name, strings.Join(files[0].NeededBy, ", "))
		c.Mend = "bring them back or up to date first; a server that is gone for good is released with: crosstwin " +
			"server remove " + in.View.Cluster + " NAME"
	case cut < wanted:
		c.Result = operation.Warn
		c.Evidence = fmt.Sprintf("%s; %s is still needed by %s: it and what follows stays", why, files[cut].Name,
			strings.Join(files[cut].NeededBy, ", "))
	}
	p.AddCheck(c)
	if cut == 0 {
		return nil
	}
	bytes := int64(0)
	for _, f := range files[:cut] {
		bytes += f.Bytes
	}
	p.Summary = fmt.Sprintf("Remove %s of %s's log, %s: %s to %s.", amountOf(cut, "file"), primary, words.Size(bytes),
		files[0].Name, files[cut-1].Name)
	p.Effects = append(p.Effects, files[cut].Name+" is the oldest file that stays",
		"what the removed files held can no longer be read, and no server can follow from there")
	in.stepsOfTrim(p, files[cut].Name)
	return nil
}

// stepsOfTrim write a fresh mark first and see it on every replica that follows: a later
// comparison of histories then needs nothing of what goes.
func (in *Input) stepsOfTrim(p *operation.Plan, to string) {
	primary := in.View.Primary
	var following []string // what the others still need stays in any case
	for _, n := range in.replicas(primary) {
		if follows(&in.View, n) {
			following = append(following, n)
		}
	}
	in.stepsOfMark(p, primary, following, "nothing is removed", "%s has unproven history: nothing is removed")
	p.AddStep(operation.Step{Name: "trim",
		Action: operation.Action{Title: "Remove the files before " + to, Server: primary,
			Call: verb.Seal(verb.Trim{To: to})},
		Seconds: 0.5, NoReturn: true, OnFail: operation.NeedsYou,
		After:   []operation.Condition{{Kind: operation.LogBegins, Server: primary, Values: []string{to}}},
		IfFails: "what was removed is gone; the rest stays"})
}

// choose returns how many of the oldest files are asked for, and that in words.
func chooseTrim(r *operation.TrimRequest, files []tail.LogFile, now time.Time) (int, string, error) {
	last := len(files) - 1 // the one that is written stays in any case
	if last < 1 {
		return 0, "the log has one file", nil
	}
	switch {
	case r.To != "":
		for i, f := range files {
			if f.Name == r.To {
				return min(i, last), "all before " + r.To + " is to go", nil
			}
		}
		return 0, "", fmt.Errorf("there is no log file %q: the oldest is %s, the newest %s", r.To, files[0].Name,
			files[last].Name)
	case r.OlderHours > 0:
		n := 0
		for n < last && now.Sub(files[n].ChangedAt).Hours() > r.OlderHours {
			n++
		}
		return n, fmt.Sprintf("files that were last written more than %g h ago are to go", r.OlderHours), nil
	case r.KeepBytes > 0:
		var kept int64
		n := len(files)
		for n > 0 && kept+files[n-1].Bytes <= r.KeepBytes {
			n--
			kept += files[n].Bytes
		}
		return min(n, last), "the newest " + words.Size(r.KeepBytes) + " are to stay", nil
	}
	return last, "all that no server needs is to go", nil
}

// freeFiles returns how many of the oldest files nobody needs.
func freeFiles(files []tail.LogFile) int {
	n := 0
	for n < len(files) && len(files[n].NeededBy) == 0 {
		n++
	}
	return n
}

// trimByServer is for an engine that removes log by itself: a checkpoint lets
// it, and the plan says what keeps the rest.
func (in *Input) trimByServer(p *operation.Plan) error {
	primary := in.View.Primary
	if r := in.Request.Trim; r != nil && (r.To != "" || r.OlderHours > 0 || r.KeepBytes > 0) {
		return fmt.Errorf(
			"PostgreSQL removes log by itself, as soon as nothing keeps it: give no file, age or size; what keeps it is in "+
				"crosstwin log list %s", in.View.Cluster)
	}
	o := in.Member(primary).Last
	p.Summary = "Have " + primary + " remove the log that nothing keeps."
	var keeps []string
	for _, s := range o.Links.Slots {
		if !s.Active && s.KeptBytes > 0 {
			keeps = append(keeps, fmt.Sprintf("slot %s keeps %s", s.Name, words.Size(s.KeptBytes)))
		}
	}
	if n := o.Config.Live["wal_keep_size"]; n != "" && n != "0" {
		keeps = append(keeps, "wal_keep_size keeps "+n+" for servers that rejoin")
	}
	c := operation.Check{Name: "What keeps log", Server: primary, Result: operation.Pass,
		Evidence: "nothing but what replicas in step still read"}
	if len(keeps) > 0 {
		c.Result, c.Evidence = operation.Warn, strings.Join(keeps, "; ")
		c.Mend = "bring the server behind an unread slot back, or release it: crosstwin server remove " + in.View.Cluster +
			" NAME"
	}
	p.AddCheck(c)
	p.AddStep(operation.Step{Name: "trim",
		Action: operation.Action{Title: "write a checkpoint on " + primary +
			", after which it removes or reuses what nothing keeps", Server: primary, Call: verb.Seal(verb.Trim{})}, Seconds: 2,
		Limit:   600,
		After:   []operation.Condition{{Kind: operation.HasCheckpoint, Server: primary, Values: []string{o.Log.Written}}},
		IfFails: "nothing has changed"})
	return nil
}

func amountOf(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
