package store

import (
	"errors"
	"testing"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/synchronous"
)

// What a failover says nothing is lost by is what is promised when it begins, and nobody adds
// to that while it runs but itself.
func TestWhatAFailoverCountsOn(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	if err := errors.Join(s.OpenTerm(ctx, "bookings", 1, 0), s.Decide(ctx, "bookings", 1, "gull")); err != nil {
		t.Fatal(err)
	}
	tern, heron := synchronous.List{Need: 1, Names: []string{"tern"}}, synchronous.List{Need: 1, Names: []string{"heron"}}
	promise := func(operates bool, lists ...synchronous.List) error {
		_, err := s.Promise(ctx, "bookings", nil, 0, operates,
			func([]synchronous.List) ([]synchronous.List, error) { return lists, nil })
		return err
	}
	failover := &operation.Plan{Kind: operation.Failover, Cluster: "bookings", Primary: "gull", OwnerTerm: 1, Term: 2,
		Covered: true, Promised: []synchronous.List{tern}}
	if err := promise(false, tern, heron); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddOperation(ctx, failover, "ada", ""); !errors.Is(err, ErrMoved) {
		t.Errorf("a list was added since the plan was made: %v", err)
	}
	if err := promise(false, tern); err != nil {
		t.Fatal(err)
	}
	id, err := s.AddOperation(ctx, failover, "ada", "")
	if err != nil {
		t.Fatal(err)
	}
	if err := promise(false, tern, heron); !errors.Is(err, ErrOtherwise) {
		t.Errorf("a list is added while it runs: %v", err)
	}
	if err := promise(true, heron); err != nil {
		t.Errorf("its own step: %v", err)
	}
	if err := s.EndOperation(ctx, id, operation.OutcomeFinished, "", 0); err != nil {
		t.Fatal(err)
	}
	if err := promise(false, tern); err != nil {
		t.Errorf("it has ended: %v", err)
	}
}
