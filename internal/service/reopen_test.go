package service

import (
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/guard"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
	"crosstwin/internal/store"
)

// The owner that came back closed is opened again only when nothing that could
// speak against it is left unknown.
func TestMayReopen(t *testing.T) {
	for name, c := range map[string]struct {
		change func(c *watched, owner, other *member)
		want   bool
	}{
		"restarted":                       {nil, true},
		"an operation is under way":       {func(c *watched, _, _ *member) { c.op = &view.Running{} }, false},
		"an operation waits for a person": {func(c *watched, _, _ *member) { c.needsYou = &waiting{} }, false},
		"a newer term was opened":         {func(c *watched, _, _ *member) { c.rec.Term = 3 }, false},
		"another server owns the term":    {func(c *watched, _, _ *member) { c.rec.Owner = "tern" }, false},
		"it is open": {func(_ *watched, o, _ *member) { o.last.Process.Role = observation.Primary },
			false},
		"it was fenced":                 {func(_ *watched, o, _ *member) { o.last.Process.Fenced = true }, false},
		"a replica noted a newer term":  {func(_ *watched, _, r *member) { r.last.Guard.Noted = 3 }, false},
		"a replica was never seen":      {func(_ *watched, _, r *member) { r.last = nil }, false},
		"a server that never held data": {func(_ *watched, _, r *member) { r.last, r.rec.HeldData = nil, false }, true},
		"a replica holds more":          {func(_ *watched, _, r *member) { r.last.Log.Applied = "0/3000008" }, false},
		"an earlier primary has a tail": {func(_ *watched, o, r *member) {
			o.last.Log.Line.Number, r.last.Log.Line.Number, r.last.Log.Applied = 2, 1, "0/3000008"
		}, true},
		"a replica holds more of its history": {func(_ *watched, o, r *member) {
			o.last.Log.Line.Number, r.last.Log.Line.Number, r.last.Log.Applied = 2, 2, "0/3000008"
		}, false},
		"a paused replica received more": {func(_ *watched, _, r *member) {
			r.last.Replay.Paused, r.last.Log.Received = true, "0/3000008"
		}, false},
		"a record that was never complete": {func(_ *watched, _, r *member) { r.last.Log.Received = "0/3002000" }, true},
		"what a replica holds is unknown":  {func(_ *watched, _, r *member) { r.last.Log = observation.Log{} }, false},
		"a stopped replica holds less": {func(_ *watched, _,
			r *member) {
			r.last.Log = observation.Log{ShutdownAt: "0/2FFFFF8"}
		}, true},
		"people are at work on it": {func(w *watched, _, _ *member) {
			w.rec.Policy.Maintenance = cluster.Maintenance{Until: time.Now().Add(time.Hour), Why: "new disks"}
		}, false},
		"the maintenance is over": {func(w *watched, _, _ *member) {
			w.rec.Policy.Maintenance = cluster.Maintenance{Until: time.Now().Add(-time.Second), Why: "new disks"}
		}, true},
		"foreign data says nothing": {func(_ *watched, _, r *member) {
			r.last.Data.Foreign, r.last.Log.Applied = true,
				"9/0"
		}, true},
	} {
		at := func(name string) *member {
			return &member{rec: store.Server{Member: cluster.Member{Name: name, Enrolled: true, HeldData: true}},
				last: &observation.Server{Guard: guard.State{Noted: 2},
					Process: observation.Process{Running: true, Accepting: true, Role: observation.Replica},
					Log:     observation.Log{Applied: "0/3000000", Received: "0/3000000"}}}
		}
		owner, other := at("gull"), at("tern")
		w := &watched{rec: store.Cluster{Cluster: cluster.Cluster{Name: "bookings", Engine: position.EnginePostgres, Term: 2,
			OwnerTerm: 2, Owner: "gull"}}, members: []*member{owner, other}}
		if c.change != nil {
			c.change(w, owner, other)
		}
		if got := w.mayReopen(owner); got != c.want {
			t.Errorf("%s: %t", name, got)
		}
	}
}
