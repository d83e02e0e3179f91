package store

import (
	"errors"
	"testing"
	"time"

	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/history"
)

func blockOf(step history.Step, start int64, lags ...float64) history.Block {
	b := history.Block{Step: step, Start: start}
	for i, v := range lags {
		x := history.Sample{At: start + int64(i)*int64(step)}
		x.Values.Set(history.Lag, v)
		b.Samples = append(b.Samples, x)
	}
	return b
}

// withServer returns records with one server and its number.
func withServer(t *testing.T) (*Store, int64) {
	t.Helper()
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if _, err := s.AddCluster(t.Context(), "bookings", "postgresql"); err != nil {
		t.Fatal(err)
	}
	if err := s.AddServer(t.Context(), "bookings",
		cluster.Member{Name: "gull", Placement: cluster.Placement{Rank: 1}}); err != nil {
		t.Fatal(err)
	}
	list, err := s.Servers(t.Context(), "bookings")
	if err != nil {
		t.Fatal(err)
	}
	return s, list[0].ID
}

func TestSamples(t *testing.T) {
	s, id := withServer(t)
	ctx := t.Context()
	now := time.Unix(1_800_000_000, 0)
	old, fresh := now.Unix()-7200, now.Unix()-60
	save := func(server int64, b history.Block) {
		t.Helper()
		if err := s.SaveSamples(ctx, []ServerBlock{{server, b}}); err != nil {
			t.Fatal(err)
		}
	}
	save(id, blockOf(1, old, 1, 2, 3))
	save(id, blockOf(1, fresh, 4))
	save(id, blockOf(1, fresh, 4, 5)) // the same block, further filled
	save(id, blockOf(60, old, 9))
	save(id+1000, blockOf(1, fresh, 6)) // a server that is gone meanwhile

	blocks, err := s.Samples(ctx, id, 1, old, now.Unix())
	if err != nil || len(blocks) != 2 || len(blocks[1].Samples) != 2 ||
		blocks[1].Samples[1].Values != blockOf(1, 0, 5).Samples[0].Values {
		t.Fatalf("%v %+v", err, blocks)
	}
	if b, found, err := s.UnfinishedSamples(ctx, id, 1, fresh); err != nil || !found || len(b.Samples) != 2 {
		t.Errorf("%v %t %+v", err, found, b)
	}
	if _, found, err := s.UnfinishedSamples(ctx, id, 10, fresh); err != nil || found {
		t.Errorf("a block that was never saved: %v %t", err, found)
	}
	size, err := s.Measure(ctx, history.DefaultKeep(), now)
	if err != nil || size.Servers != 1 || size.SampleBytes <= 0 || size.SampleBytesAtAge < size.SampleBytes ||
		size.FileBytes <= 0 || size.OldestSample.Unix() != old {
		t.Errorf("%v %+v", err, size)
	}
	if err := s.Forget(ctx, history.DefaultKeep(), 400*24*time.Hour, 90*24*time.Hour, now); err != nil {
		t.Fatal(err)
	}
	if blocks, _ := s.Samples(ctx, id, 1, 0, now.Unix()); len(blocks) != 1 || blocks[0].Start != fresh {
		t.Errorf("after an hour: %+v", blocks)
	}
	if blocks, _ := s.Samples(ctx, id, 60, 0, now.Unix()); len(blocks) != 1 {
		t.Errorf("minutes are kept for a month: %+v", blocks)
	}
	if err := s.RemoveServer(ctx, id); err != nil {
		t.Fatal(err)
	}
	if blocks, _ := s.Samples(ctx, id, 60, 0, now.Unix()); len(blocks) != 0 {
		t.Error("the samples of a removed server are still there")
	}
}

// An alert is open once, ends once, and is kept.
func TestAlertRecords(t *testing.T) {
	s, _ := withServer(t)
	ctx := t.Context()
	stalled := alert.Alert{Cluster: "bookings", Server: "gull", Rule: "stalled", Level: "warning", Text: "gull is stalled"}
	a, err := s.RaiseAlert(ctx, stalled)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.RaiseAlert(ctx, stalled); !errors.Is(err, ErrTaken) {
		t.Errorf("the same again: %v", err)
	}
	if b, err := s.Acknowledge(ctx, a.ID, "night", "on it"); err != nil || b.AcknowledgedBy != "night" ||
		b.Note != "on it" || b.AcknowledgedAt == nil {
		t.Errorf("%v %+v", err, b)
	}
	if b, err := s.ClearAlert(ctx, "bookings", "gull", "stalled"); err != nil || b.ID != a.ID || b.ClearedAt == nil {
		t.Errorf("%v %+v", err, b)
	}
	if _, err := s.ClearAlert(ctx, "bookings", "gull", "stalled"); !errors.Is(err, ErrNotFound) {
		t.Errorf("over twice: %v", err)
	}
	again, err := s.RaiseAlert(ctx, stalled)
	if err != nil || again.ID == a.ID {
		t.Errorf("raised anew: %v %+v", err, again)
	}
	all, err := s.Alerts(ctx, "", false, 10)
	open, _ := s.Alerts(ctx, "bookings", true, 10)
	other, _ := s.Alerts(ctx, "cargo", false, 10)
	if err != nil || len(all) != 2 || all[0].ID != again.ID || len(open) != 1 || len(other) != 0 {
		t.Errorf("%v: %d, %d open, %d of another", err, len(all), len(open), len(other))
	}
	if between, err := s.AlertsBetween(ctx, "bookings", time.Now().Add(-time.Hour), time.Now()); err != nil ||
		len(between) != 2 {
		t.Errorf("%v %+v", err, between)
	}
	if before, _ := s.AlertsBetween(ctx, "bookings", time.Now().Add(-2*time.Hour),
		time.Now().Add(-time.Hour)); len(before) != 0 {
		t.Errorf("an hour ago: %+v", before)
	}
}

// A message stays due until it arrived or was given up; a test is never due.
func TestDeliveries(t *testing.T) {
	s, _ := withServer(t)
	ctx := t.Context()
	if err := s.AddChannel(ctx, alert.Channel{Name: "pager", URL: "http://127.0.0.1:9", Secret: "s"}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddChannel(ctx, alert.Channel{Name: "pager"}); !errors.Is(err, ErrTaken) {
		t.Errorf("the same name: %v", err)
	}
	list, err := s.Channels(ctx)
	if err != nil || len(list) != 1 || list[0].Last != nil {
		t.Fatalf("%v %+v", err, list)
	}
	id, err := s.AddDelivery(ctx, list[0].ID, 1, "{}")
	if err != nil {
		t.Fatal(err)
	}
	if test, err := s.AddDelivery(ctx, list[0].ID, 0, "{}"); err != nil || test == id {
		t.Fatal(err)
	}
	due := func() int {
		t.Helper()
		list, err := s.DueDeliveries(ctx, 10)
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	if n := due(); n != 1 {
		t.Fatalf("%d are due", n)
	}
	later := time.Now().Add(time.Hour)
	if err := s.Delivered(ctx, id, "refused", &later); err != nil || due() != 0 {
		t.Errorf("%v: due although it is tried later", err)
	}
	d, err := s.Delivery(ctx, id)
	if err != nil || d.Attempts != 1 || d.Error != "refused" || d.NextAt == nil || d.DoneAt != nil {
		t.Errorf("%v %+v", err, d)
	}
	earlier := time.Now().Add(-time.Second)
	if err := s.Delivered(ctx, id, "refused", &earlier); err != nil || due() != 1 {
		t.Errorf("%v: not due although its time has come", err)
	}
	if err := s.Delivered(ctx, id, "", nil); err != nil || due() != 0 {
		t.Errorf("%v: due although it arrived", err)
	}
	if err := s.RemoveChannel(ctx, "pager"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Delivery(ctx, id); !errors.Is(err, ErrNotFound) {
		t.Errorf("what was for a removed channel: %v", err)
	}
}
