package cli

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/spf13/viper"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
)

func newApp() (*app, *bytes.Buffer) {
	var b bytes.Buffer
	v := viper.New()
	v.Set("output", "table")
	return &app{v: v, out: &b, err: &b}, &b
}

func TestExitCodes(t *testing.T) {
	for _, c := range []struct {
		err  error
		code int
	}{
		{exitWith(exitUsage, "x"), 2},
		{fmt.Errorf("deep: %w", client.ErrUnreachable), 6},
		{apitype.Problem{Code: apitype.CodeUnauthorized}, 6}, {apitype.Problem{Code: apitype.CodeForbidden}, 6},
		{apitype.Problem{Code: apitype.CodeRefused}, 3},
		{apitype.Problem{Code: apitype.CodeConfirm}, 3},
		{apitype.Problem{Code: apitype.CodeNotFound}, 2},
		{apitype.Problem{Code: apitype.CodeBadInput}, 2},
		{outcomeError(operation.Operation{Outcome: operation.OutcomeUndone}), 4},
		{outcomeError(operation.Operation{Outcome: operation.OutcomeNeedsYou}), 5},
		{outcomeError(operation.Operation{Outcome: operation.OutcomeRefused}), 3},
		{errors.New("anything else"), 1},
	} {
		if got := exitCode(c.err); got != c.code {
			t.Errorf("%v: %d, want %d", c.err, got, c.code)
		}
	}
	if err := outcomeError(operation.Operation{Outcome: operation.OutcomeFinished}); err != nil {
		t.Error(err)
	}
	if text := explain(client.ErrUnreachable); !strings.Contains(text, "crosstwin serve") {
		t.Errorf("a service that does not run: %q", text)
	}
}

// The first line is the answer; what is wrong stands under the table with the
// way to mend it; nothing reads null or grows without meaning.
func TestPrintView(t *testing.T) {
	a, b := newApp()
	a.printView(b, view.View{Cluster: "bookings", Primary: "gull", Sentence: "bookings takes writes on gull.",
		Servers: []view.Server{
			{Name: "gull", Role: "primary", ReportsAs: "primary", Health: view.TakesWrites, Position: "0/7",
				History:   "timeline 2",
				Placement: cluster.Placement{Rank: 1}},
			{Name: "tern", Role: "replica", ReportsAs: "primary", Health: view.Adrift, Placement: cluster.Placement{Rank: 2},
				LastContactSeconds: 90},
			{Name: "heron", Role: "replica", ReportsAs: "replica", Health: view.Behind,
				Lag: lag.Reading{Known: true, Seconds: 65, AtLeast: true}, LagBytes: 3 << 20, Follows: "gull",
				LastContactSeconds: 1},
		}, Problems: []view.Problem{{Server: "tern", Text: "tern is adrift", Mend: "crosstwin rejoin bookings tern"}},
		Operation: &view.Running{ID: 7, Kind: "seed"}})
	out := b.String()
	if !strings.HasPrefix(out, "bookings takes writes on gull.\n") {
		t.Errorf("the first line is not the answer:\n%s", out)
	}
	for _, want := range []string{"= takes writes", "replica (says primary)", "/ adrift", "- behind", "3.0 MB",
		"at least 1 min 5 s", "1 min 30 s ago", "never", "! tern is adrift", "crosstwin rejoin bookings tern",
		"Operation 7 (seed)"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
	if strings.Contains(out, "null") || strings.Contains(out, "\x1b[") {
		t.Errorf("null, or colours without a terminal:\n%q", out)
	}
}

func TestPrintPlan(t *testing.T) {
	a, b := newApp()
	p := &operation.Plan{Summary: "Move it.", Destroys: "the tail", ConfirmName: "bookings",
		Checks: []operation.Check{{Name: "fine", Result: operation.Pass, Evidence: "e1"},
			{Name: "odd", Server: "tern", Result: operation.Warn, Evidence: "e2", Why: "w2", Mend: "m2"},
			{Name: "bad", Result: operation.Fail, Evidence: "e3"}},
		Choices: []operation.Choice{{Server: "tern", Chosen: true, Why: "rank 2"},
			{Server: "heron", Why: "its rank is never"}},
		Ways: []operation.Way{{Name: "follow", Why: "no"}, {Name: "rewind", Possible: true, Chosen: true, Why: "yes"}},
		Steps: []operation.Step{{Name: "a", Action: operation.Action{Title: "stop gull"}, InPause: true, IfFails: "x"},
			{Name: "b", Action: operation.Action{Title: "promote tern"}, InPause: true, NoReturn: true, IfFails: "y"}}}
	a.printPlan(b, p, false)
	out := b.String()
	order := []string{"Move it.", "! This discards the tail", "-> tern: rank 2", "-> rewind (chosen)", "FAIL  bad",
		"WARN  odd (tern)", "Fix: m2", "1 more checks", "stop gull", "point of no return", "promote tern"}
	at := 0
	for _, want := range order {
		i := strings.Index(out[at:], want)
		if i < 0 {
			t.Fatalf("%q is missing, or not in its place, in\n%s", want, out)
		}
		at += i
	}
	if strings.Contains(out, "e1") {
		t.Error("a passed check is shown in full")
	}
}

// A follower prints each step once, in order, whatever it gets to see between.
func TestFollower(t *testing.T) {
	a, b := newApp()
	now := time.Now()
	op := operation.Operation{ID: 4, Term: 2, State: operation.Running, Plan: operation.Plan{Steps: []operation.Step{
		{Action: operation.Action{Title: "one"}, Undo: []operation.Step{{Action: operation.Action{Title: "un-one"}}}},
		{Action: operation.Action{Title: "two"}}, {Action: operation.Action{Title: "three"}}}},
		Steps: []operation.StepRecord{{Seq: 0, State: operation.StepWaiting}, {Seq: 1, State: operation.StepWaiting},
			{Seq: 2, State: operation.StepWaiting}}}
	f := follower{a: a}
	f.report(op)
	op.Steps[0] = operation.StepRecord{Seq: 0, State: operation.StepDone, StartedAt: &now, EndedAt: &now}
	f.report(op)
	f.report(op)
	op.Steps[1] = operation.StepRecord{Seq: 1, State: operation.StepFailed, StartedAt: &now, EndedAt: &now,
		Error: "the disk is full"}
	op.Steps[0].State = operation.StepUndone
	op.State = operation.Ended
	f.report(op)
	out := b.String()
	for want, n := range map[string]int{"operation 4, term 2": 1, "  one": 1, "  two": 1, "the disk is full": 1,
		"undone: un-one": 1, "three": 0} {
		if got := strings.Count(out, want); got != n {
			t.Errorf("%q stands %d times, not %d, in\n%s", want, got, n, out)
		}
	}
	op.State, op.Steps[2] = operation.Running,
		operation.StepRecord{Seq: 2, State: operation.StepRunning,
			Progress: &operation.Progress{DoneBytes: 50 << 20, TotalBytes: 100 << 20, BytesPerSec: 10 << 20, SecondsLeft: 5}}
	if got := liveLine(op); got != "   3  three: 50.0 MB of 100.0 MB (50 %), 10.0 MB/s, 5.0 s left" {
		t.Errorf("%q", got)
	}
}

func TestPrintTail(t *testing.T) {
	a, b := newApp()
	a.printTail(b, "gull", verb.Examination{Unfinished: "rewind"})
	a.printTail(b, "gull", verb.Examination{End: "0/5", Kinship: "kin"})
	a.printTail(b, "gull", verb.Examination{Tail: &tail.Tail{Timeline: 1, From: "0/5", Bytes: 2048,
		Transactions: []tail.Transaction{
			{ID: 7, Outcome: "committed", Schema: true, At: time.Unix(0, 0).UTC(),
				Changes: []tail.Change{{Table: "bookings.public.t", Inserts: 2, Deletes: 1}}},
			{ID: 8, Outcome: "unfinished", Changes: []tail.Change{{Table: "x", Updates: 5}}}}}})
	out := b.String()
	for _, want := range []string{"A rewind was interrupted on gull", "gull has no tail: its log ends at 0/5",
		"1 committed transactions with 2 inserts, 0 updates, 1 deletes", "(definitions)", "1970-01-01 00:00:00.000 UTC",
		"unfinished"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing in\n%s", want, out)
		}
	}
}

func TestSmallThings(t *testing.T) {
	for in, want := range map[string]int{"never": 0, "1": 1, "12": 12} {
		if n, err := parseRank(in); err != nil || n != want || rank(n) != in {
			t.Errorf("%s: %d %v", in, n, err)
		}
	}
	for _, bad := range []string{"0", "-1", "first", ""} {
		if _, err := parseRank(bad); err == nil {
			t.Errorf("%q is a rank", bad)
		}
	}
	if got := wrap("one two three four", 9, "  "); got != "one two\n  three\n  four" {
		t.Errorf("%q", got)
	}
	if _, err := operationNumber("x"); exitCode(err) != exitUsage {
		t.Error(err)
	}
}
