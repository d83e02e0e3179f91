package service

import (
	"encoding/json"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/verb"
)

// A reader that comes back gets what it missed, in order and once; one that was
// away too long is told to fetch everything.
func TestHub(t *testing.T) {
	h := newHub()
	_, whole, c, cancel := h.Subscribe(0)
	if !whole {
		t.Error("a new reader missed something")
	}
	for i := range 10 {
		h.publish("cluster", "bookings", i)
	}
	var ids []int64
	for i := range 10 {
		e := <-c
		if string(e.Data) != string(mustJSON(i)) {
			t.Errorf("event %d is %s", i, e.Data)
		}
		ids = append(ids, e.ID)
	}
	cancel()
	missed, whole, _, cancel := h.Subscribe(ids[6])
	if !whole || len(missed) != 3 || missed[0].ID != ids[7] {
		t.Errorf("%v %v", whole, missed)
	}
	cancel()
	for range hubMemory {
		h.publish("cluster", "bookings", 0)
	}
	if _, whole, _, _ := h.Subscribe(ids[0]); whole {
		t.Error("events are forgotten and the reader is not told")
	}
	if _, whole, _, _ := h.Subscribe(h.Last() + 1000); whole {
		t.Error("an id of another process passes for one of ours")
	}
	// A reader that does not read is cut off instead of holding others up.
	_, _, slow, _ := h.Subscribe(0)
	for range 2 * hubMemory {
		h.publish("cluster", "bookings", 0)
	}
	n := 0
	for range slow {
		n++
	}
	if n == 0 || n >= 2*hubMemory {
		t.Errorf("the slow reader got %d events", n)
	}
}

func mustJSON(v any) []byte { b, _ := json.Marshal(v); return b }

func TestRate(t *testing.T) {
	r := newRate(shortSpan)
	t0 := time.Unix(0, 0)
	if r.perSecond(t0) != 0 {
		t.Error("a rate of nothing")
	}
	for i := range 100 {
		r.add(t0.Add(time.Duration(i)*time.Second), int64(i)*500)
	}
	if got := r.perSecond(t0.Add(99 * time.Second)); got != 500 {
		t.Errorf("%g", got)
	}
	r.add(t0.Add(100*time.Second), 5) // another history
	if got := r.perSecond(t0.Add(100 * time.Second)); got != 0 {
		t.Errorf("%g over two histories", got)
	}
}

func TestNames(t *testing.T) {
	for name, ok := range map[string]bool{"gull": true, "a": true, "a-1": true, "": false, "Gull": false, "1a": false,
		"a_b": false, "a.b": false, "a b": false, "-a": false, "abcdefghijabcdefghijabcdefghijab": false} {
		if err := checkName("server", name); (err == nil) != ok {
			t.Errorf("%q: %v", name, err)
		}
	}
	// Two servers never share a slot, and the slot names its server.
	for _, n := range []string{"gull", "a-b", "x-1-2"} {
		if back, ok := verb.SlotOwner(verb.SlotName(n)); !ok || back != n {
			t.Errorf("%s became %s", n, back)
		}
	}
}

// The records of one cluster are read without another one being judged anew, or forgotten.
func TestReload(t *testing.T) {
	s, ctx := newService(t, t.TempDir()), t.Context()
	if _, err := s.AddCluster(ctx, "cargo", "mariadb", "test", ""); err != nil {
		t.Fatal(err)
	}
	at := func(name string) *Assessment {
		a, err := s.Assessment(name)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	bookings, cargo := at("bookings"), at("cargo")
	plover := cluster.Member{Name: "plover", Placement: cluster.Placement{Rank: 1}}
	if err := s.Store.AddServer(ctx, "cargo", plover); err != nil {
		t.Fatal(err)
	}
	if err := s.reload(ctx, "cargo"); err != nil || at("bookings") != bookings || at("cargo") == cargo ||
		at("cargo").View.Find("plover") == nil {
		t.Errorf("%v; bookings anew: %t, cargo has %v", err, at("bookings") != bookings, at("cargo").View.Names())
	}
	if err := s.Store.RemoveCluster(ctx, "cargo"); err != nil {
		t.Fatal(err)
	}
	if err := s.reload(ctx, "cargo"); err != nil || at("bookings") != bookings || len(s.Assessments()) != 1 {
		t.Errorf("%v; bookings anew: %t, %d clusters", err, at("bookings") != bookings, len(s.Assessments()))
	}
	if err := s.reload(ctx, ""); err != nil || at("bookings") == bookings || len(at("bookings").View.Servers) != 2 {
		t.Errorf("%v: bookings has %v", err, at("bookings").View.Names())
	}
}
