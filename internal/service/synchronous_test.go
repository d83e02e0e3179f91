package service

import (
	"math"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
)

// promises sets what is promised, by its first record.
func promises(t *testing.T, s *Service, lists ...synchronous.List) {
	t.Helper()
	if err := s.promise(t.Context(), "bookings", &synchronous.Setting{Mode: synchronous.One}, true,
		func([]synchronous.List) ([]synchronous.List, error) { return lists, nil }); err != nil {
		t.Fatal(err)
	}
}

// An agent that has noted a newer change than the records hold shows that they are from a backup:
// nothing is promised then. What no change can have counted to is no number.
func TestOlderPromise(t *testing.T) {
	s := newService(t, t.TempDir())
	tern := synchronous.List{Need: 1, Names: []string{"tern"}}
	for _, c := range []struct {
		noted int64
		kept  bool
	}{{0, true}, {1, true}, {2, true}, {5, false}, {math.MaxInt64, true}} {
		promises(t, s, tern)
		rec, err := s.Store.Cluster(t.Context(), "bookings")
		if err != nil {
			t.Fatal(err)
		}
		noted := c.noted
		if noted == 5 {
			noted = rec.Promises + 3
		}
		s.take(t.Context(), "bookings", "tern", time.Now(), &observation.Server{Promise: noted}, nil)
		after, err := s.Store.Cluster(t.Context(), "bookings")
		if err != nil || (len(after.Promised) == 1) != c.kept || !c.kept && after.Promises <= noted {
			t.Errorf("noted %d: promised %v, number %d, %v", noted, after.Promised, after.Promises, err)
		}
	}
}

// What was decided by older records changes nothing.
func TestPromiseIsComparedAndSet(t *testing.T) {
	s := newService(t, t.TempDir())
	tern, heron := synchronous.List{Need: 1, Names: []string{"tern"}}, synchronous.List{Need: 1, Names: []string{"heron"}}
	promises(t, s, tern)
	a, err := s.Assessment("bookings")
	if err != nil {
		t.Fatal(err)
	}
	stale := Assessment{View: a.View, Members: a.Members}
	stale.View.Synchronous = &view.Synchronous{Promised: []synchronous.List{tern}}
	promises(t, s, tern, heron) // an operation, meanwhile
	if err := s.keep(t.Context(), "bookings", 1, &stale, synchronous.Promise, tern, []synchronous.List{tern}); err == nil {
		t.Error("the list that an operation added is gone")
	}
	rec, err := s.Store.Cluster(t.Context(), "bookings")
	if err != nil || len(rec.Promised) != 2 || rec.Policy.Synchronous.Mode != synchronous.One {
		t.Errorf("%+v %v", rec.Promised, err)
	}
}

// Whom commits wait for is not removed while nobody else is there, and a mode is no policy that
// is set aside of its operation.
func TestNobodyToWaitFor(t *testing.T) {
	s := newService(t, t.TempDir())
	promises(t, s)
	for _, err := range []error{s.Store.OpenTerm(t.Context(), "bookings", 1, 0), s.Store.Decide(t.Context(), "bookings", 1,
		"gull"), s.reload(t.Context(), "")} {
		if err != nil {
			t.Fatal(err)
		}
	}
	never := 0
	if err := s.SetServer(t.Context(), "bookings", "tern", cluster.Change{Rank: &never}, "test", ""); err == nil ||
		!strings.Contains(err.Error(), "--synchronous none") {
		t.Error(err)
	}
	if _, err := s.RemoveServer(t.Context(), "bookings", "tern", "test", ""); err == nil ||
		!strings.Contains(err.Error(), "--synchronous none") {
		t.Error(err)
	}
	p := cluster.DefaultPolicy()
	if err := s.SetPolicy(t.Context(), "bookings", p, "test", ""); err == nil ||
		!strings.Contains(err.Error(), "shows its plan first") {
		t.Error(err)
	}
}
