package store

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func withCluster(t *testing.T) *Store {
	s := open(t, t.TempDir())
	if _, err := s.AddCluster(t.Context(), "bookings", "postgresql"); err != nil {
		t.Fatal(err)
	}
	return s
}

// The owner of a term is decided once; terms never go back.
func TestTerms(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	for _, c := range []struct {
		do   func() error
		ok   bool
		what string
	}{
		{func() error { return s.Decide(ctx, "bookings", 1, "gull") }, false, "decide a term that is not open"},
		{func() error { return s.OpenTerm(ctx, "bookings", 1, 7) }, true, "open 1"},
		{func() error { return s.OpenTerm(ctx, "bookings", 1, 7) }, true, "open 1 again"},
		{func() error { return s.OpenTerm(ctx, "bookings", 1, 8) }, false, "open 1 for another operation"},
		{func() error { return s.Decide(ctx, "bookings", 1, "gull") }, true, "decide 1"},
		{func() error { return s.Decide(ctx, "bookings", 1, "gull") }, true, "decide 1 the same again"},
		{func() error { return s.Decide(ctx, "bookings", 1, "tern") }, false, "decide 1 otherwise"},
		{func() error { return s.OpenTerm(ctx, "bookings", 5, 7) }, true, "open 5"},
		{func() error { return s.OpenTerm(ctx, "bookings", 4, 7) }, false, "open 4 after 5"},
		{func() error { return s.Decide(ctx, "bookings", 4, "tern") }, false, "decide 4 while 5 is open"},
		{func() error { return s.Decide(ctx, "bookings", 5, "tern") }, true, "decide 5"},
		{func() error { return s.Decide(ctx, "cargo", 1, "wren") }, false, "decide for nobody"},
	} {
		if err := c.do(); (err == nil) != c.ok {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	if c, err := s.Cluster(ctx, "bookings"); err != nil || c.Term != 5 || c.OwnerTerm != 5 || c.Owner != "tern" {
		t.Errorf("%+v %v", c, err)
	}
}

// A new term makes nothing unproven before its owner writes in it.
func TestKinWhileTheOwnerIsClosed(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	kin := func(want int64, do ...error) {
		t.Helper()
		if c, err := s.Cluster(ctx, "bookings"); err != nil || errors.Join(do...) != nil || c.KinTerm != want {
			t.Errorf("kin since term %d, want %d: %v", c.KinTerm, want, errors.Join(append(do, err)...))
		}
	}
	kin(1, s.OpenTerm(ctx, "bookings", 1, 7), s.Decide(ctx, "bookings", 1, "gull"))
	kin(1, s.OpenTerm(ctx, "bookings", 2, 8), s.DecideInPlace(ctx, "bookings", 2, "gull"))
	kin(1, s.DecideInPlace(ctx, "bookings", 2, "gull"))
	kin(2, s.Decide(ctx, "bookings", 2, "gull"))
	kin(2, s.Decide(ctx, "bookings", 2, "gull"), s.DecideInPlace(ctx, "bookings", 2, "gull"))
	kin(2, s.OpenTerm(ctx, "bookings", 3, 9), s.DecideInPlace(ctx, "bookings", 3, "tern")) // before it is promoted
	kin(3, s.Decide(ctx, "bookings", 3, "tern"))
}

// A primary is given no term in place while an operation is under way, and an operation whose
// plan was made before it was is refused.
func TestNoTermInPlaceDuringAnOperation(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	if err := errors.Join(s.OpenTerm(ctx, "bookings", 1, 0), s.Decide(ctx, "bookings", 1, "gull")); err != nil {
		t.Fatal(err)
	}
	opens := func(term int64) *operation.Plan {
		return &operation.Plan{Kind: operation.Switchover, Cluster: "bookings", Primary: "gull", OwnerTerm: 1, Term: term,
			Steps: []operation.Step{{Action: operation.Action{Call: verb.Seal(verb.OpenTerm{Term: term})}}}}
	}
	id, err := s.AddOperation(ctx, opens(2), "ada", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.OpenInPlace(ctx, "bookings", 2); err == nil {
		t.Error("a term was opened in place that the operation opens")
	}
	if err := s.OpenTerm(ctx, "bookings", 2, id); err != nil {
		t.Errorf("the operation's own term: %v", err)
	}
	if err := s.EndOperation(ctx, id, operation.OutcomeUndone, "", 0); err != nil {
		t.Fatal(err)
	}
	if err := s.OpenInPlace(ctx, "bookings", 3); err != nil {
		t.Errorf("nothing is under way: %v", err)
	}
	if _, err := s.AddOperation(ctx, opens(3), "ada", "127.0.0.1"); !errors.Is(err, ErrMoved) {
		t.Errorf("a plan of before the term in place: %v", err)
	}
}

// That a step is done stands in the records with the beginning of the next one, or not at all.
func TestNextStep(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	id, err := s.AddOperation(ctx, &operation.Plan{Kind: operation.Seed, Cluster: "bookings", Term: 3,
		Steps: []operation.Step{{Name: "a"}, {Name: "b"}, {Name: "c"}}}, "ada", "")
	if err != nil {
		t.Fatal(err)
	}
	states := func(want ...operation.StepState) {
		t.Helper()
		op, err := s.Operation(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		for i, w := range want {
			if op.Steps[i].State != w {
				t.Errorf("step %d is %s, want %s", i, op.Steps[i].State, w)
			}
		}
	}
	end := func(seq int) *operation.StepEnd { return &operation.StepEnd{Seq: seq, State: operation.StepDone} }
	if err := s.StartStep(ctx, id, 0, "a", false, nil); err != nil {
		t.Fatal(err)
	}
	if err := s.StartStep(ctx, id, 1, "b", false, end(0)); err != nil {
		t.Fatal(err)
	}
	states(operation.StepDone, operation.StepRunning, operation.StepWaiting)
	if err := s.Cancel(ctx, id); err != nil {
		t.Fatal(err)
	}
	if err := s.StartStep(ctx, id, 2, "c", true, end(1)); !errors.Is(err, ErrCancelled) {
		t.Fatalf("past the point of no return although it was cancelled: %v", err)
	}
	states(operation.StepDone, operation.StepRunning, operation.StepWaiting)
}

func TestOneOperationACluster(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	p := &operation.Plan{Kind: operation.Seed, Cluster: "bookings", Term: 3,
		Steps: []operation.Step{{Name: "a"}, {Name: "b"}}, Checks: []operation.Check{{Name: "c", Result: operation.Pass}}}
	first, err := s.AddOperation(ctx, p, "ada", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddOperation(ctx, p, "ada", ""); !errors.Is(err, ErrTaken) {
		t.Errorf("a second operation: %v", err)
	}
	other := *p
	other.Cluster = "cargo"
	if _, err := s.AddCluster(ctx, "cargo", "mariadb"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddOperation(ctx, &other, "ada", ""); err != nil {
		t.Errorf("another cluster's: %v", err)
	}
	if _, err := s.AddRefused(ctx, p, "ada", "", "no"); err != nil {
		t.Errorf("a refused one beside it: %v", err)
	}
	if err := s.StartStep(ctx, first, 0, "a", false, nil); err != nil {
		t.Fatal(err)
	}
	facts := map[string]json.RawMessage{"mark": json.RawMessage(`{"id":"x"}`)}
	done := operation.StepEnd{State: operation.StepDone, Seen: "seen it", Text: "done", Facts: facts}
	if err := s.EndStep(ctx, first, done); err != nil {
		t.Fatal(err)
	}
	if err := s.SetProgress(ctx, first, 1, operation.Progress{DoneBytes: 5, TotalBytes: 10, SecondsLeft: -1}); err != nil {
		t.Fatal(err)
	}
	if err := s.Cancel(ctx, first); err != nil || !s.Cancelled(ctx, first) {
		t.Errorf("cancel: %v", err)
	}
	if ids, _ := s.Unfinished(ctx); len(ids) != 2 || ids[0] != first {
		t.Errorf("unfinished %v", ids)
	}
	if err := s.EndOperation(ctx, first, operation.OutcomeFinished, "well", 0.09); err != nil {
		t.Fatal(err)
	}
	if err := s.Cancel(ctx, first); !errors.Is(err, ErrNotFound) {
		t.Errorf("an ended one was cancelled: %v", err)
	}
	op, err := s.Operation(ctx, first)
	if err != nil || op.Plan.Term != 3 || len(op.Plan.Steps) != 2 || string(op.Facts["mark"]) != `{"id":"x"}` ||
		op.PauseSeconds != 0.09 || op.AskedBy != "ada" {
		t.Errorf("%+v %v", op, err)
	}
	if op.Steps[0].Seen != "seen it" || op.Steps[1].Progress.TotalBytes != 10 ||
		op.Steps[1].State != operation.StepWaiting {
		t.Errorf("%+v", op.Steps)
	}
	for i := 1; i < len(op.Journal); i++ {
		if op.Journal[i].At.Before(op.Journal[i-1].At) {
			t.Error("the journal is not in order")
		}
	}
	if _, err := s.AddOperation(ctx, p, "ada", ""); err != nil {
		t.Errorf("after the end of the first: %v", err)
	}
	for want, q := range map[int][4]string{3: {"bookings", "", "", ""}, 1: {"", string(operation.OutcomeRefused), "", ""},
		2: {"", string(operation.Running), "", ""}, 0: {"", "", string(operation.Compare), ""}} {
		if ops, err := s.Operations(ctx, q[0], q[1], q[2], 50); err != nil || len(ops) != want {
			t.Errorf("%v: %d operations, %v", q, len(ops), err)
		}
	}
	if _, err := s.Operation(ctx, 99); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
}

func TestServersAndCodes(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	if err := s.AddServer(ctx, "bookings",
		cluster.Member{Name: "gull", Placement: cluster.Placement{Rank: 1}, FirstPrimary: true}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddServer(ctx, "bookings", cluster.Member{Name: "gull"}); !errors.Is(err, ErrTaken) {
		t.Error(err)
	}
	if err := s.AddServer(ctx, "cargo", cluster.Member{Name: "wren"}); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
	g, err := s.Server(ctx, "bookings", "gull")
	if err != nil || g.Enrolled || !g.FirstPrimary {
		t.Fatalf("%+v %v", g, err)
	}
	s.AddEnrollment(ctx, g.ID, "old", time.Now().Add(time.Hour))
	s.AddEnrollment(ctx, g.ID, "late", time.Now().Add(-time.Second))
	for _, hash := range []string{"old", "late", "never"} {
		if _, err := s.UseEnrollment(ctx, hash, "h:1", "h", 5432); !errors.Is(err, ErrNotFound) {
			t.Errorf("code %s was good: %v", hash, err)
		}
	}
	s.AddEnrollment(ctx, g.ID, "good", time.Now().Add(time.Hour))
	got, err := s.UseEnrollment(ctx, "good", "harbour:7720", "harbour", 5432)
	if err != nil || got.Agent != "harbour:7720" || got.Host != "harbour" || got.Port != 5432 ||
		!got.Enrolled {
		t.Errorf("%+v %v", got, err)
	}
	if _, err := s.UseEnrollment(ctx, "good", "thief:1", "thief", 1); !errors.Is(err, ErrNotFound) {
		t.Error("a code was good twice")
	}
	g.Rank, g.Site = 0, "island"
	if err := s.SetServer(ctx, g); err != nil {
		t.Error(err)
	}
	if err := s.SetPolicy(ctx, "bookings",
		cluster.Policy{BehindSeconds: 9, UnseenSeconds: 9, StalledSeconds: 9}); err != nil {
		t.Error(err)
	}
	if c, _ := s.Cluster(ctx, "bookings"); c.Policy.BehindSeconds != 9 {
		t.Errorf("%+v", c.Policy)
	}
	if err := s.RemoveCluster(ctx, "bookings"); err != nil {
		t.Error(err)
	}
	if all, _ := s.Servers(ctx, ""); len(all) != 0 {
		t.Error("servers outlived their cluster")
	}
}

func TestTokensAndEvents(t *testing.T) {
	s, ctx := open(t, t.TempDir()), t.Context()
	night := access.Token{Name: "night", Scopes: []access.Scope{access.Watch, access.ReadData},
		Clusters: []string{"bookings"}}
	if err := s.AddToken(ctx, night, "h1"); err != nil {
		t.Fatal(err)
	}
	if err := s.AddToken(ctx, access.Token{Name: "night"}, "h2"); !errors.Is(err, ErrTaken) {
		t.Error(err)
	}
	if name, err := s.TokenName(ctx, "h1"); err != nil || name != "night" {
		t.Error(name, err)
	}
	s.TouchToken(ctx, "night")
	if all, _ := s.Tokens(ctx); len(all) != 1 || all[0].LastUsedAt == nil {
		t.Errorf("%+v", all)
	}
	if err := s.RemoveToken(ctx, "night"); err != nil {
		t.Error(err)
	}
	if _, err := s.Token(ctx, "night"); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
	over := time.Now().Add(-time.Second)
	if err := s.AddToken(ctx, access.Token{Name: "late", ExpiresAt: &over}, "h3"); err != nil {
		t.Error(err)
	}
	if _, err := s.TokenName(ctx, "h3"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a token that has ended: %v", err)
	}
	if _, err := s.TokenName(ctx, "h1"); !errors.Is(err, ErrNotFound) {
		t.Error("a removed token is good")
	}
	for _, a := range []string{"one", "two"} {
		s.AddEvent(ctx, access.Event{Who: "ada", Action: a})
	}
	if e, _ := s.Events(ctx, 0, 1); len(e) != 1 || e[0].Action != "two" {
		t.Errorf("%+v", e)
	}
}

// The file survives a second opening, refuses a second service, and can be
// copied while in use.
func TestFile(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s.AddCluster(t.Context(), "bookings", "postgresql")
	if _, err := Open(t.Context(), dir); err == nil || !strings.Contains(err.Error(), "another service") {
		t.Errorf("a second service: %v", err)
	}
	copyTo := filepath.Join(t.TempDir(), "copy", "crosstwin.db")
	os.MkdirAll(filepath.Dir(copyTo), 0o700)
	if err := s.Backup(t.Context(), copyTo); err != nil {
		t.Fatal(err)
	}
	if err := s.Backup(t.Context(), copyTo); err == nil {
		t.Error("a copy was overwritten")
	}
	s.Close()
	for _, d := range []string{dir, filepath.Dir(copyTo)} {
		if c, err := open(t, d).Cluster(t.Context(), "bookings"); err != nil || c.Name != "bookings" {
			t.Errorf("%s: %+v %v", d, c, err)
		}
	}
	if fi, err := os.Stat(filepath.Join(dir, "crosstwin.db")); err != nil || fi.Mode().Perm()&0o077 != 0 &&
		fi.Mode().Perm() != 0o644 {
		t.Errorf("%v %v", fi.Mode(), err)
	}
}

// A name that comes back begins anew: what its namesake's operation left undone
// is not its own.
func TestNamesake(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	id, err := s.AddOperation(ctx, &operation.Plan{Kind: operation.Seed, Cluster: "bookings", Term: 3}, "ada", "")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.EndOperation(ctx, id, operation.OutcomeNeedsYou, "look", 0); err != nil {
		t.Fatal(err)
	}
	if need, err := s.NeedYou(ctx, ""); err != nil || need["bookings"].ID != id {
		t.Fatalf("%v %v", need, err)
	}
	if err := s.RemoveCluster(ctx, "bookings"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Millisecond) // times are kept to the millisecond
	if _, err := s.AddCluster(ctx, "bookings", "postgresql"); err != nil {
		t.Fatal(err)
	}
	if need, err := s.NeedYou(ctx, ""); err != nil || len(need) != 0 {
		t.Errorf("%v %v", need, err)
	}
}

// A server that lost its role to another one by a failover is deposed until it follows
// again, or is primary again.
func TestDeposed(t *testing.T) {
	s, ctx, term := withCluster(t), t.Context(), int64(0)
	do := func(outcome operation.Outcome, p operation.Plan) {
		t.Helper()
		p.Cluster = "bookings"
		term++
		err := errors.Join(s.OpenTerm(ctx, "bookings", term, 0), s.Decide(ctx, "bookings", term, p.Primary))
		p.OwnerTerm = term
		id, err2 := s.AddOperation(ctx, &p, "ada", "")
		if err = errors.Join(err, err2); err == nil {
			err = s.EndOperation(ctx, id, outcome, "", 0)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	deposed := func(want ...string) {
		t.Helper()
		got, err := s.Deposed(ctx, "bookings")
		if err != nil || len(got["bookings"]) != len(want) {
			t.Fatalf("deposed are %v (%v), want %v", got, err, want)
		}
		for _, n := range want {
			if !got["bookings"][n] {
				t.Errorf("%s is not deposed: %v", n, got)
			}
		}
	}
	failover := func(from, to string) operation.Plan {
		return operation.Plan{Kind: operation.Failover, Primary: from, Candidate: to}
	}
	do(operation.OutcomeFinished, failover("gull", "gull")) // started again where it was
	do(operation.OutcomeUndone, failover("gull", "tern"))
	deposed()
	do(operation.OutcomeFinished, failover("gull", "tern"))
	do(operation.OutcomeNeedsYou, failover("tern", "heron"))
	deposed("gull", "tern")
	do(operation.OutcomeUndone, operation.Plan{Kind: operation.Rejoin, Primary: "heron", Target: "gull"})
	do(operation.OutcomeFinished, operation.Plan{Kind: operation.Salvage, Primary: "heron", Target: "gull"})
	deposed("gull", "tern")
	do(operation.OutcomeFinished, operation.Plan{Kind: operation.Rejoin, Primary: "heron", Target: "gull"})
	deposed("tern")
	do(operation.OutcomeFinished, failover("heron", "tern"))
	deposed("heron")
	do(operation.OutcomeFinished, failover("tern", "gull"))
	deposed("heron", "tern")
}

// Records are put back from a copy while no service runs: what was there is kept, a
// file that is no whole copy changes nothing, and no other user can read any of it.
func TestRestore(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	s, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	s.AddCluster(ctx, "bookings", "postgresql")
	backup, err := s.TemporaryCopy(ctx)
	if err != nil {
		t.Fatal(err)
	}
	s.AddCluster(ctx, "cargo", "mariadb")
	if _, err := Restore(ctx, dir, backup); err == nil || !strings.Contains(err.Error(), "another service works") {
		t.Errorf("beside a running service: %v", err)
	}
	s.Close()
	whole, err := os.ReadFile(backup)
	if err != nil {
		t.Fatal(err)
	}
	bad := filepath.Join(t.TempDir(), "bad")
	for what, content := range map[string][]byte{"cut off": whole[:len(whole)/2],
		"something else": []byte("hello"), "empty": nil} {
		if err := os.WriteFile(bad, content, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Restore(ctx, dir, bad); err == nil || !strings.Contains(err.Error(), "nothing was changed") {
			t.Errorf("%s: %v", what, err)
		}
	}
	names := func() string {
		t.Helper()
		s, err := Open(ctx, dir)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		all, err := s.Clusters(ctx, "")
		if err != nil {
			t.Fatal(err)
		}
		text := ""
		for _, c := range all {
			text += c.Name + " "
		}
		return text
	}
	if got := names(); got != "bookings cargo " {
		t.Errorf("before: %s", got)
	}
	kept, err := Restore(ctx, dir, backup)
	if err != nil {
		t.Fatal(err)
	}
	if got := names(); got != "bookings " {
		t.Errorf("after: %s", got)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "crosstwin.db*"))
	for _, f := range files {
		if fi, err := os.Stat(f); err != nil || fi.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v", f, fi.Mode(), err)
		}
	}
	if _, err := Restore(ctx, dir, kept); err != nil {
		t.Fatal(err)
	}
	if got := names(); got != "bookings cargo " {
		t.Errorf("and back: %s", got)
	}
}
