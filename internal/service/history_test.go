package service

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/pki"
	"crosstwin/internal/store"
)

// newService makes a service on records with bookings of gull and tern. Its
// loops do not run: the test takes their part.
func newService(t *testing.T, dir string) *Service {
	t.Helper()
	st, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	authority, err := pki.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	s, err := New(st, authority, slog.New(slog.NewTextHandler(io.Discard, nil)), nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(s.clusters) == 0 {
		if _, err := s.AddCluster(t.Context(), "bookings", "", "test", ""); err != nil {
			t.Fatal(err)
		}
		for _, n := range []string{"gull", "tern"} {
			if _, err := s.AddServer(t.Context(), "bookings",
				cluster.Member{Name: n, Placement: cluster.Placement{Rank: 1}, FirstPrimary: n == "gull"}, "test", ""); err != nil {
				t.Fatal(err)
			}
		}
	}
	return s
}

// recordAt records one second in which tern is behind by so many seconds.
func recordAt(s *Service, ctx context.Context, seconds float64, at time.Time) {
	c, _ := s.cluster("bookings")
	c.latest.Store(&Assessment{View: seenAt(seconds)})
	s.record(ctx, s.all(), at)
}

// seenAt is a view of bookings in which tern is behind by so many seconds.
func seenAt(seconds float64) view.View {
	return view.View{Cluster: "bookings", Primary: "gull", AtRisk: view.AtRisk{Known: true, Bytes: 100, Seconds: seconds},
		Servers: []view.Server{
			{Name: "gull", Health: view.TakesWrites, ReportsAs: observation.Primary,
				Observation: &observation.Server{Log: observation.Log{Bytes: observation.Known[int64](1 << 20)}}},
			{Name: "tern", Health: view.Behind, ReportsAs: observation.Replica, Lag: lag.Reading{Known: true, Seconds: seconds},
				LagBytes: 4096, Observation: &observation.Server{Replay: observation.Replay{Conflicts: map[string]int64{"lock": 2,
					"snapshot": 3}}}}}}
}

// What is recorded comes back, thinned, with a gap where the service was away,
// and goes on in the same blocks after a restart.
func TestHistoryOverARestart(t *testing.T) {
	dir := t.TempDir()
	s := newService(t, dir)
	ctx := t.Context()
	// So that both runs stand in one block of ten minutes.
	begin := time.Unix(time.Now().Unix()/600*600-600, 0)
	recordAt(s, ctx, 0, begin.Add(-time.Second)) // makes the series
	for i := range 90 {
		lag := 0.5
		if i == 40 {
			lag = 7
		}
		recordAt(s, ctx, lag, begin.Add(time.Duration(i)*time.Second))
	}
	s.saveAll()
	if err := s.Store.Close(); err != nil {
		t.Fatal(err)
	}
	s = newService(t, dir)
	recordAt(s, ctx, 0, begin.Add(119*time.Second))
	for i := 120; i < 150; i++ {
		recordAt(s, ctx, 2, begin.Add(time.Duration(i)*time.Second))
	}
	h, err := s.History(ctx, "bookings", begin, begin.Add(149*time.Second), 0)
	if err != nil {
		t.Fatal(err)
	}
	column := func(server int, m history.Metric) (n int, worst float64) {
		for _, v := range h.Servers[server].Values[m] {
			if v != nil {
				n++
				worst = max(worst, *v)
			}
		}
		return
	}
	if n, worst := column(1, history.Lag); h.StepSeconds != 1 || n != 120 || worst != 7 {
		t.Errorf("a step of %d s, %d samples, worst %g", h.StepSeconds, n, worst)
	}
	if n, worst := column(0, history.RiskSeconds); n != 120 || worst != 7 {
		t.Errorf("at risk: %d samples, worst %g", n, worst)
	}
	if n, worst := column(1, history.Conflicts); n != 120 || worst != 5 {
		t.Errorf("conflicts: %d samples, worst %g", n, worst)
	}
	if h, err = s.History(ctx, "bookings", begin, begin.Add(149*time.Second), 15); err != nil || len(h.At) > 16 {
		t.Errorf("%v: %d points of 15", err, len(h.At))
	}
	if n, worst := column(1, history.Lag); n > 16 || worst != 7 {
		t.Errorf("thinned to %d samples, worst %g", n, worst)
	}
	if h, err = s.History(ctx, "bookings", begin.Add(-20*time.Hour), begin.Add(149*time.Second), 0); err != nil ||
		h.StepSeconds != 10 {
		t.Errorf("%v: a day ago in steps of %d s", err, h.StepSeconds)
	}
	if n, worst := column(1, history.Lag); n != 12 && n != 13 || worst != 7 {
		t.Errorf("of ten seconds there are %d samples, worst %g", n, worst)
	}
	if _, err := s.History(ctx, "bookings", begin, begin, 0); !errors.As(err, &InputError{}) {
		t.Errorf("an empty span: %v", err)
	}
	if _, err := s.History(ctx, "post", begin, begin.Add(time.Second), 0); !errors.As(err, &NotFoundError{}) {
		t.Errorf("an unknown cluster: %v", err)
	}
	if line := s.LagLines()["bookings"]["tern"]; len(line) == 0 || *line[len(line)-1] != 2 {
		t.Errorf("the small picture: %v", line)
	}
}

// Alerts outlive the process that raised them, and go to the command.
func TestAlertsOverARestart(t *testing.T) {
	dir := t.TempDir()
	s := newService(t, dir)
	ctx := t.Context()
	said := filepath.Join(dir, "said")
	script := filepath.Join(dir, "tell")
	if err := os.WriteFile(script, []byte("#!/bin/sh\ncat >> "+said+"; echo >> "+said+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	s.AlertCommand = script
	trouble := []*Assessment{{View: view.View{Cluster: "bookings",
		Problems: []view.Problem{{Rule: cluster.RuleNeedsYou, Text: "operation 3 (seed) did not come to its end",
			Mend: "read it"}}}}}
	at := time.Now()
	s.raise(ctx, trouble, at)
	s.raise(ctx, trouble, at.Add(time.Second))
	open := func() int {
		t.Helper()
		list, err := s.Store.Alerts(ctx, "bookings", true, 10)
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	if n := open(); n != 1 {
		t.Fatalf("%d alerts are open", n)
	}
	if err := s.Store.Close(); err != nil {
		t.Fatal(err)
	}
	s = newService(t, dir)
	s.AlertCommand = script
	if err := s.restoreAlerts(ctx); err != nil {
		t.Fatal(err)
	}
	s.raise(ctx, trouble, at.Add(2*time.Second))
	calm := []*Assessment{{View: view.View{Cluster: "bookings"}}}
	s.raise(ctx, calm, at.Add(10*time.Second))
	if n := open(); n != 1 {
		t.Errorf("%d alerts are open ten seconds after the trouble", n)
	}
	s.raise(ctx, calm, at.Add(60*time.Second))
	if n := open(); n != 0 {
		t.Errorf("%d alerts are open long after the trouble", n)
	}
	s.raise(ctx, trouble, at.Add(70*time.Second))
	s.raise(ctx, nil, at.Add(71*time.Second)) // the cluster was removed
	if n := open(); n != 0 {
		t.Errorf("%d alerts are open of a cluster that is gone", n)
	}
	due, err := s.Store.DueDeliveries(ctx, 100)
	if err != nil {
		t.Fatal(err)
	}
	s.sendAll(ctx, due)
	s.running.Wait()
	b, err := os.ReadFile(said)
	if text := string(b); err != nil || strings.Count(text, `"event":"raised"`) != 2 ||
		strings.Count(text, `"event":"over"`) != 2 {
		t.Errorf("%v: the command was told %s", err, text)
	}
	if err := os.WriteFile(script, []byte("#!/bin/sh\necho no modem; exit 3\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	if d, err := s.TestChannel(ctx, "command"); err != nil || !strings.Contains(d.Error, "no modem") {
		t.Errorf("%v %+v", err, d)
	}
	if _, err := s.TestChannel(ctx, "post"); !errors.As(err, &NotFoundError{}) {
		t.Errorf("an unknown channel: %v", err)
	}
}

func TestBackoff(t *testing.T) {
	var total time.Duration
	for i := range deliveryAttempts {
		if i > 0 && backoff(i) < backoff(i-1) {
			t.Errorf("attempt %d comes sooner than the one before", i)
		}
		total += backoff(i)
	}
	if backoff(0) > 5*time.Second || total < 12*time.Hour || total > 48*time.Hour {
		t.Errorf("first after %s, given up after %s", backoff(0), total)
	}
}

func TestChannelNeedsAnAddress(t *testing.T) {
	s := newService(t, t.TempDir())
	for _, address := range []string{"", "pager", "ftp://x/", "http://", "//host/x"} {
		if _, err := s.AddChannel(context.Background(), "pager", address, "test", ""); !errors.As(err, &InputError{}) {
			t.Errorf("%q: %v", address, err)
		}
	}
}

// What the way to and from an agent may explain is not skew.
func TestSkew(t *testing.T) {
	at := time.Unix(1_800_000_000, 0)
	var s skew
	if s.seconds() != 0 {
		t.Error("a skew of nothing")
	}
	s.add(at.Add(80*time.Millisecond), at, at.Add(100*time.Millisecond))
	if got := s.seconds(); got != 0 {
		t.Errorf("%g s, which the answer's own 100 ms explain", got)
	}
	s.add(at.Add(4*time.Second), at, at.Add(10*time.Millisecond))
	s.add(at.Add(9*time.Second), at, at.Add(3*time.Second)) // slow, so less exact
	if got := s.seconds(); got < 3.99 || got > 4 {
		t.Errorf("%g s", got)
	}
	for range len(s.ring) {
		s.add(at.Add(-2*time.Second), at, at.Add(10*time.Millisecond))
	}
	if got := s.seconds(); got > -2 || got < -2.01 {
		t.Errorf("%g s after the clock was set back", got)
	}
}
