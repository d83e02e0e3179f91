package words

import (
	"strings"
	"testing"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/position"
)

func TestUnits(t *testing.T) {
	for in, want := range map[float64]string{0.0124: "12 ms", 6.44: "6.4 s", 75: "1 min 15 s", 59.97: "1 min 0 s",
		299.98: "5 min 0 s", 3599.9: "1 h 0 min", 86399: "1.0 days", 3 * 3600: "3 h 0 min", 2 * 86400: "2.0 days",
		-1: "never"} {
		if got := Span(in); got != want {
			t.Errorf("%g: %q", in, got)
		}
	}
	for in, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1536: "1.5 kB", 5 << 30: "5.0 GB"} {
		if got := Size(in); got != want {
			t.Errorf("%d: %q", in, got)
		}
	}
	tr := func(n int64) position.Distance { return position.Distance{Amount: n, Unit: position.Transactions} }
	if got := Amount(tr(1)) + ", " + Amount(tr(3)) + ", " +
		Amount(position.Distance{Amount: 2048, Unit: position.Bytes}); got != "1 transaction, 3 transactions, 2.0 kB of log" {
		t.Error(got)
	}
	for want, got := range map[string]string{"is behind": Said("behind", 1), "are behind": Said("behind", 2),
		"takes no writes": Said("takes no writes", 1), "take no writes": Said("takes no writes", 2),
		"gull": List([]string{"gull"}), "gull, tern and heron": List([]string{"gull", "tern", "heron"})} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// Every cause can be said, whatever facts it has: nothing reads as a program's
// value, a health never stands behind a verb by hand.
func TestEveryCauseIsSaid(t *testing.T) {
	because := cause.Cause{Code: cause.LinkDown, Peer: "gull"}
	full := cause.Cause{Cluster: "bookings", Server: "tern", Peer: "gull", Name: "seed", Names: []string{"gull", "tern"},
		Health: "stalled", Bytes: 4096, Total: 8192, Seconds: 5, Share: 0.9, Count: 3, Number: 7, Term: 2,
		At: "0/5", Fork: "0/4", History: "timeline 2", Stage: cause.NotApplied, Text: "words of the server",
		Because: &because}
	for _, code := range Codes() {
		for _, c := range []cause.Cause{{Code: code}, full} {
			c.Code = code
			text := Say(c)
			if text == "" && c.Server != "" || strings.Contains(text, "%!") || strings.Contains(text, "<nil>") ||
				strings.Contains(text, "is takes") {
				t.Errorf("%s: %q", code, text)
			}
		}
	}
	if Say(cause.Cause{}) != "" || Say(cause.Cause{Code: "of tomorrow"}) != "" {
		t.Error("no cause has words")
	}
}

func TestSentence(t *testing.T) {
	for _, c := range []struct {
		parts []cause.Cause
		want  string
	}{
		{[]cause.Cause{{Code: cause.TakesWrites, Cluster: "bookings", Server: "tern",
			Others: []cause.Cause{{Code: cause.HealthIs, Server: "gull", Health: "fenced"}}},
			{Code: cause.InStep, Names: []string{"heron"}},
			{Code: cause.CanLose}, {Code: cause.NoneAtRisk}},
			"bookings takes writes on tern; gull is fenced. heron is in step. It cannot lose another server. Nothing at risk."},
		{[]cause.Cause{{Code: cause.TakesNone, Cluster: "bookings", Server: "gull", Health: "takes no writes",
			Because: &cause.Cause{Code: cause.RunsAsReplica}}, {Code: cause.CanLose, Count: 1}},
			"bookings takes no writes. Primary gull: it runs read-only, as a replica. It can lose 1 more server."},
		{[]cause.Cause{{Code: cause.AtRisk, Bytes: 2 << 20, Seconds: 5}}, "At risk: 2.0 MB, the writes of the last 5.0 s."},
	} {
		if got := Sentence(c.parts); got != c.want {
			t.Errorf("%s\nwant %s", got, c.want)
		}
	}
}
