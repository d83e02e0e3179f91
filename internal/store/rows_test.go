package store

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/history"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
)

// What an operation holds of rows is forgotten in time, and the rest of it stays.
func TestRowsAreForgotten(t *testing.T) {
	s, ctx := withCluster(t), t.Context()
	lost := &tail.Tail{Transactions: []tail.Transaction{{Statements: []string{"planted statement"}}}}
	p := &operation.Plan{Kind: operation.Rejoin, Cluster: "bookings", Term: 3, Summary: "bring it back",
		Examination: &verb.Examination{End: "0/1", Tail: lost}}
	id, err := s.AddOperation(ctx, p, "ada", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.w.ExecContext(ctx, `update operations set facts = '{"tail":"planted value"}' where id = ?`,
		id); err != nil {
		t.Fatal(err)
	}
	if err := s.EndOperation(ctx, id, operation.OutcomeFinished, "done", 0); err != nil {
		t.Fatal(err)
	}
	holds := func(after time.Duration) bool {
		t.Helper()
		const day = 24 * time.Hour
		if err := s.Forget(ctx, history.DefaultKeep(), 400*day, 90*day, time.Now().Add(after)); err != nil {
			t.Fatal(err)
		}
		var text string
		if err := s.r.GetContext(ctx, &text, "select plan || facts from operations where id = ?", id); err != nil {
			t.Fatal(err)
		}
		return strings.Contains(text, "planted")
	}
	if !holds(89 * 24 * time.Hour) {
		t.Error("forgotten too early")
	}
	if holds(91 * 24 * time.Hour) {
		t.Error("values of rows are still there")
	}
	op, err := s.Operation(ctx, id)
	if err != nil || op.Plan.Summary != "bring it back" || op.Plan.Examination.End != "0/1" ||
		op.Plan.Examination.Tail != nil {
		t.Errorf("%+v %v", op, err)
	}
}
