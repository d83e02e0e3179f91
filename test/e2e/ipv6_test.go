package e2e

import (
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

// Hosts that know each other by IPv6 addresses: the whole story.
func TestIPv6(t *testing.T) {
	anEngine(t, true, func(t *testing.T, w *world) {
		load := w.Load(1, 30*time.Millisecond)
		if err := load.AwaitAcks(w.ctx, 20); err != nil {
			t.Fatal(err)
		}
		w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
		w.settled()
		load.Stop()
		w.settled() // tern holds nothing that gull lacks
		demo.KillDatabase(w.server("tern"))
		w.await(func(v view.View) bool { return w.find(v, "tern").Health == view.Stopped })
		w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Failover})
		w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Rejoin, Server: "tern", Compare: true})
		v := w.settled()
		w.holdsAll(load, nil, "gull", "tern", "heron")
		if a := w.find(v, "gull").Address; !strings.HasPrefix(a, "[::1]:") {
			t.Errorf("gull is said to be at %q", a)
		}
	}, func(o *demo.Options) { o.Host = func(string) demo.Host { return demo.Host{Address: "::1"} } })
}
