package view

import (
	"fmt"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/words"
)

// Conflicts tells of queries on replicas that replay cancelled, because they
// needed rows that it had to remove, and of the trade behind it.
type Conflicts struct {
	Cluster string           `json:"cluster"`
	Says    string           `json:"says"`  // the answer, in words
	Trade   []string         `json:"trade"` // what moves it, with this cluster's numbers
	Servers []ConflictServer `json:"servers"`
}

// ConflictServer is one replica's part.
type ConflictServer struct {
	Server  string           `json:"server"`
	Causes  map[string]int64 `json:"causes"` // since its statistics began
	PerHour float64          `json:"per_hour"`
	// WorstLag is the largest of the last day, in seconds.
	WorstLag float64           `json:"worst_lag_seconds"`
	Settings map[string]string `json:"settings"`
}

// causeWords say what a cause of conflict means.
var causeWords = map[string]string{
	"snapshot":   "the query still needed row versions that the primary's vacuum removed",
	"lock":       "the query used a table that a definition change locks on the primary",
	"bufferpin":  "the query held a page that replay had to clean",
	"tablespace": "the query had files in a tablespace that is dropped",
	"deadlock":   "the query and replay waited for each other",
}

// CauseWords says what a cause means.
func CauseWords(cause string) string { return causeWords[cause] }

// conflictSettings are those that move the trade.
var conflictSettings = []string{"max_standby_streaming_delay", "max_standby_archive_delay", "hot_standby_feedback"}

// ConflictsOf reads the conflicts off a view; worst is each replica's largest
// lag of the last day.
func ConflictsOf(v *View, worst map[string]float64) Conflicts {
	out := Conflicts{Cluster: v.Cluster, Servers: []ConflictServer{}, Trade: []string{}}
	if !dialect.Of(v.Engine).CancelsQueries {
		out.Says = "Replay cancels no queries on " + v.Cluster +
			": its engine lets a change of definitions wait for them instead, and the replica falls behind meanwhile."
		return out
	}
	total, perHour := int64(0), 0.0
	for _, s := range v.Servers {
		o := s.Observation
		if o == nil || o.Process.Role != observation.Replica || o.Replay.Conflicts == nil {
			continue
		}
		x := ConflictServer{Server: s.Name, Causes: o.Replay.Conflicts, PerHour: s.ConflictsPerHour, WorstLag: worst[s.Name],
			Settings: map[string]string{}}
		for _, n := range o.Replay.Conflicts {
			total += n
		}
		perHour += s.ConflictsPerHour
		for _, name := range conflictSettings {
			x.Settings[name] = o.Config.Live[name]
		}
		out.Servers = append(out.Servers, x)
		out.Trade = append(out.Trade, tradeOf(v.Primary, x)...)
	}
	switch {
	case len(out.Servers) == 0:
		out.Says = "No replica of " + v.Cluster + " answers."
	case total == 0:
		out.Says = "Replay has cancelled no query on " + v.Cluster + "."
	default:
		out.Says = fmt.Sprintf("Replay has cancelled %s on %s, %.0f an hour at present.", queries(total), v.Cluster, perHour)
	}
	return out
}

// tradeOf says what one replica's settings choose between cancelled queries,
// lag, and dead rows on the primary.
func tradeOf(primary string, x ConflictServer) []string {
	wait, feedback := x.Settings["max_standby_streaming_delay"], x.Settings["hot_standby_feedback"]
	var out []string
	switch wait {
	case "-1":
		out = append(out,
			fmt.Sprintf(
				"%s lets replay wait for queries without limit: none is cancelled for being slow, and one long query holds "+
					"all replay back (worst lag of the last day: %s).", x.Server, words.Span(x.WorstLag)))
	case "0":
		out = append(out,
			fmt.Sprintf(
				"%s cancels a query at once when it is in the way of replay: no lag from queries (worst of the last day: %s), "+
					"and the most cancellations.", x.Server, words.Span(x.WorstLag)))
	default:
		out = append(out,
			fmt.Sprintf(
				"%s lets replay wait up to %s for queries, then cancels them: a higher max_standby_streaming_delay means "+
					"fewer cancelled queries and more lag (worst of the last day: %s).", x.Server, wait, words.Span(x.WorstLag)))
	}
	snapshot, all := x.Causes["snapshot"], sumOf(x.Causes)
	switch {
	case feedback == "on":
		out = append(out,
			fmt.Sprintf(
				"%s tells %s which rows its queries need (hot_standby_feedback is on): %d cancelled for missing rows, and "+
					"vacuum on %s keeps dead rows as long as the oldest query here runs: bloat.", x.Server, primary, snapshot,
				primary))
	case all == 0:
		out = append(out,
			fmt.Sprintf(
				"%s does not tell %s which rows its queries need (hot_standby_feedback is off): %s stays lean, and no query "+
					"was cancelled for it yet; on would keep rows for long queries and cost bloat on %s.", x.Server, primary,
				primary, primary))
	default:
		out = append(out,
			fmt.Sprintf(
				"%s does not tell %s which rows its queries need (hot_standby_feedback is off): %s stays lean, and %d of the "+
					"%d cancelled queries missed rows that vacuum removed; on would keep those and cost bloat on %s.", x.Server,
				primary, primary, snapshot, all, primary))
	}
	return out
}

func queries(n int64) string {
	if n == 1 {
		return "one query"
	}
	return fmt.Sprintf("%d queries", n)
}

func sumOf(causes map[string]int64) (n int64) {
	for _, c := range causes {
		n += c
	}
	return n
}
