package metrics

import (
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/lag"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
)

type source struct{}

// Views returns one cluster in which everything that has a metric is there.
func (source) Views() []view.View {
	replica := &observation.Server{Process: observation.Process{Accepting: true, Role: observation.Replica},
		Links:  observation.Links{Upstream: &observation.Upstream{DelaySeconds: 60}},
		Replay: observation.Replay{Conflicts: map[string]int64{"snapshot": 7}}, CertificateEnds: time.Unix(2e9, 0)}
	primary := &observation.Server{Process: observation.Process{Accepting: true, Role: observation.Primary},
		Log:   observation.Log{Bytes: observation.Known[int64](5)},
		Host:  observation.Host{DiskFreeBytes: observation.Known[int64](7), LogDiskFreeBytes: observation.Known[int64](8)},
		Links: observation.Links{Slots: []observation.Slot{{Name: "ct_tern", KeptBytes: 9}}}}
	return []view.View{{Cluster: "bookings", Primary: "gull", Term: 3, AtRisk: view.AtRisk{Known: true, Everything: true},
		Permission:  &view.Permission{Server: "gull", Seconds: 3.5, Silent: []string{"tern"}},
		Synchronous: &view.Synchronous{Mode: "one", Safe: true, Alone: 3},
		Referees:    []view.Referee{{Name: "cairn", Answers: true}},
		Gates: []view.Gate{{Name: "quay", Answers: true, Shows: &observation.Gate{To: "gull",
			Doors: []observation.GateCount{{Door: "writer", Server: "gull", Sessions: 3}}}}},
		Operation: &view.Running{Kind: "seed"}, Problems: []view.Problem{{Rule: cluster.RuleAtRisk}},
		Servers: []view.Server{{Name: "gull", Health: view.TakesWrites, Observation: primary,
			LogFull: &view.Forecast{Seconds: 60}},
			{Name: "tern", Health: view.Behind, Observation: replica, Lag: lag.Reading{Known: true, Seconds: 6.5},
				Stages: lag.Stages{NotApplied: 4096}},
			{Name: "heron", Health: view.Unseen, Observation: replica, LastContactSeconds: 90}}}}
}
func (source) OpenAlerts() map[[2]string]int { return map[[2]string]int{{"bookings", "critical"}: 2} }
func (source) RecordsBytes() int64           { return 4096 }

var name = regexp.MustCompile(`crosstwin_[a-z_]+[a-z]`)

func names(text string) map[string]bool {
	out := map[string]bool{}
	for _, n := range name.FindAllString(text, -1) {
		out[n] = true
	}
	return out
}

// What is shown, what is documented and what the examples ask for are one list.
func TestNames(t *testing.T) {
	w := httptest.NewRecorder()
	Handler(source{}).ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	text := w.Body.String()
	for _, line := range []string{`crosstwin_cluster_takes_writes{cluster="bookings"} 1`,
		`crosstwin_cluster_at_risk_bytes{cluster="bookings"} +Inf`,
		`crosstwin_replica_lag_seconds{cluster="bookings",server="tern"} 6.5`,
		`crosstwin_replica_stage_bytes{cluster="bookings",server="tern",stage="applied"} 4096`,
		`crosstwin_replica_conflicts_total{cause="snapshot",cluster="bookings",server="tern"} 7`,
		`crosstwin_cluster_permission_seconds{cluster="bookings",server="gull"} 3.5`,
		`crosstwin_cluster_needs_service{cluster="bookings"} 1`,
		`crosstwin_cluster_synchronous{cluster="bookings",mode="one"} 1`,
		`crosstwin_cluster_commits_alone{cluster="bookings",server="gull"} 3`,
		`crosstwin_referee_up{cluster="bookings",referee="cairn"} 1`,
		`crosstwin_server_up{cluster="bookings",server="heron"} 0`,
		`crosstwin_server_observation_age_seconds{cluster="bookings",server="heron"} 90`,
		`crosstwin_alerts_open{cluster="bookings",level="critical"} 2`} {
		if !strings.Contains(text, line) {
			t.Errorf("missing: %s", line)
		}
	}
	if strings.Contains(text, `crosstwin_replica_lag_seconds{cluster="bookings",server="heron"}`) {
		t.Error("an unseen server's old lag is shown as if it were current")
	}
	shown := names(text)
	for file, whole := range map[string]bool{"../../docs/metrics.md": true, "../../deploy/prometheus-alerts.yaml": false,
		"../../deploy/dashboard.json": false} {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		there := names(string(b))
		for n := range there {
			if !shown[n] {
				t.Errorf("%s names %s, which is not shown", file, n)
			}
		}
		for n := range shown {
			if whole && !there[n] {
				t.Errorf("%s does not name %s", file, n)
			}
		}
	}
}
