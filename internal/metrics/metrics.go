// Package metrics shows what the service judges as Prometheus metrics: the
// same Views as every other face, read at the moment of the question. Names
// begin with crosstwin_, in base units; docs/metrics.md lists them all.
package metrics

import (
	"math"
	"net/http"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
)

// Source is what the metrics are read from.
type Source interface {
	Views() []view.View
	// OpenAlerts counts open alerts by cluster and level.
	OpenAlerts() map[[2]string]int
	// RecordsBytes is the size of the service's records.
	RecordsBytes() int64
}

var infinite = math.Inf(1)

type family struct {
	desc *prometheus.Desc
	kind prometheus.ValueType
}

func gauge(name, help string, labels ...string) family {
	return family{prometheus.NewDesc("crosstwin_"+name, help, labels, nil), prometheus.GaugeValue}
}

func counter(name, help string, labels ...string) family {
	return family{prometheus.NewDesc("crosstwin_"+name, help, labels, nil), prometheus.CounterValue}
}

var (
	takesWrites = gauge("cluster_takes_writes", "1 while the cluster's primary takes writes.", "cluster")
	canLose     = gauge("cluster_can_lose_servers",
		"How many more servers may fail and the cluster can still be made to take writes.", "cluster")
	term      = gauge("cluster_term", "Number of the newest term: one more with each change of primary.", "cluster")
	riskBytes = gauge("cluster_at_risk_bytes",
		"Acknowledged writes that are safe on no replica that may take over; +Inf when none may.", "cluster")
	riskSeconds = gauge("cluster_at_risk_seconds", "The same in time.", "cluster")
	permission  = gauge("cluster_permission_seconds",
		"For how long the primary may still write, when it was last heard; absent without fencing.", "cluster", "server")
	needsService = gauge("cluster_needs_service",
		"1 where losing the service now would stop writes; absent without fencing.", "cluster")
	synchronous = gauge("cluster_synchronous",
		"1 while every acknowledged write is on as many servers as the synchronous mode says; absent without a mode.",
		"cluster", "mode")
	commitsWait = gauge("cluster_commits_wait_seconds",
		"For how long commits have been waiting for replicas; absent without a synchronous mode.", "cluster")
	commitsAlone = gauge("cluster_commits_alone",
		"Commits that the primary acknowledged although no replica had them; absent without a synchronous mode.", "cluster",
		"server")
	referee = gauge("referee_up",
		"1 while the referee answers, which is an agent without a database.", "cluster", "referee")
	gateUp       = gauge("gate_up", "1 while the gate answers.", "cluster", "gate")
	gateLeads    = gauge("gate_leads", "1 while the gate leads writers to a server.", "cluster", "gate")
	gateSessions = gauge("gate_sessions", "Sessions of a gate, by door and server; an empty server is none just now.",
		"cluster", "gate", "door", "server")
	gateWaiting = gauge("gate_waiting", "Clients that wait for a server now.", "cluster", "gate")
	gateHeld    = gauge("gate_held_seconds",
		"For how long sessions have been held for an operation; 0 while they are not.", "cluster", "gate")
	gateOpened = counter("gate_sessions_opened_total", "Sessions that logged in at the gate.", "cluster", "gate")
	gateEnded  = counter("gate_outcomes_total", "What came of sessions: carried to another server, cut in a transaction, "+
		"closed because they could not be carried, refused at the login.", "cluster", "gate", "outcome")
	gateWaits  = counter("gate_waits_total", "How often a client had to wait for a server.", "cluster", "gate")
	gateWaited = counter("gate_waited_seconds_total", "How long clients have waited for a server in all.", "cluster",
		"gate")
	running  = gauge("cluster_operation_running", "1 while an operation is under way.", "cluster", "kind")
	problems = gauge("cluster_problems", "Problems that are seen now, by rule.", "cluster", "rule")
	alerts   = gauge("alerts_open", "Alerts that are not over.", "cluster", "level")

	health = gauge("server_health", "1 for the health that the server is judged to have.", "cluster", "server",
		"health")
	up        = gauge("server_up", "1 while the database answers.", "cluster", "server")
	isPrimary = gauge("server_primary", "1 for the owner of the newest term.", "cluster", "server")
	age       = gauge("server_observation_age_seconds", "Time since the server's agent last answered.", "cluster",
		"server")
	skew = gauge("server_clock_skew_seconds",
		"How far the clock that the database stamps its writes with is ahead of the service's.", "cluster", "server")
	certEnds = gauge("agent_certificate_end_timestamp_seconds", "When the agent's certificate ends, in Unix time.",
		"cluster", "server")
	diskFree = gauge("server_disk_free_bytes", "Room on the disk of the data.", "cluster", "server")
	logFree  = gauge("server_log_disk_free_bytes", "Room on the disk of the log.", "cluster", "server")
	logBytes = gauge("server_log_bytes", "Size of the log.", "cluster", "server")
	logFull  = gauge("server_log_full_seconds",
		"Time until the disk is full of log, at the rate of the last minutes; absent while nothing makes it grow.", "cluster",
		"server")
	slotKept = gauge("slot_kept_bytes", "Log that a slot keeps.", "cluster", "server", "slot", "active")

	lagSeconds = gauge("replica_lag_seconds", "How far a replica is behind, by the service's clock.", "cluster", "server")
	lagBytes   = gauge("replica_lag_bytes", "How many bytes of log a replica lacks.", "cluster", "server")
	stage      = gauge("replica_stage_bytes", "Bytes that wait before a stage: sent, received, safe, applied.", "cluster",
		"server", "stage")
	delay = gauge("replica_delay_seconds", "For how long the replica holds writes back on purpose.", "cluster",
		"server")
	conflicts = counter("replica_conflicts_total",
		"Queries that replay cancelled, by cause, since the server's statistics began.", "cluster", "server", "cause")

	records = gauge("records_bytes", "Size of the service's records.")
)

var all = []family{takesWrites, canLose, term, riskBytes, riskSeconds, permission, needsService, synchronous,
	commitsWait,
	commitsAlone, referee, gateUp, gateLeads, gateSessions, gateWaiting, gateHeld, gateOpened, gateEnded, gateWaits,
	gateWaited, running,
	problems, alerts, health, up, isPrimary, age, skew, certEnds, diskFree, logFree, logBytes, logFull, slotKept,
	lagSeconds, lagBytes, stage, delay, conflicts, records}

// Handler serves the metrics of a source.
func Handler(s Source) http.Handler {
	r := prometheus.NewRegistry()
	r.MustRegister(collector{s}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{})
}

type collector struct{ Source }

func (c collector) Describe(out chan<- *prometheus.Desc) {
	for _, f := range all {
		out <- f.desc
	}
}

type sink chan<- prometheus.Metric

func (s sink) put(f family, value float64, labels ...string) {
	s <- prometheus.MustNewConstMetric(f.desc, f.kind, value, labels...)
}

func (c collector) Collect(out chan<- prometheus.Metric) {
	to := sink(out)
	for _, v := range c.Views() {
		collectCluster(to, &v)
		for i := range v.Servers {
			collectServer(to, &v, &v.Servers[i])
		}
	}
	for k, n := range c.OpenAlerts() {
		to.put(alerts, float64(n), k[0], k[1])
	}
	to.put(records, float64(c.RecordsBytes()))
}

func flag(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func collectGate(to sink, cluster string, g *view.Gate) {
	to.put(gateUp, flag(g.Answers), cluster, g.Name)
	s := g.Shows
	if s == nil || !g.Answers {
		return
	}
	to.put(gateLeads, flag(s.To != ""), cluster, g.Name)
	for _, d := range s.Doors {
		to.put(gateSessions, float64(d.Sessions), cluster, g.Name, d.Door, d.Server)
	}
	to.put(gateWaiting, float64(s.Waiting), cluster, g.Name)
	to.put(gateHeld, s.HeldSeconds, cluster, g.Name)
	to.put(gateOpened, float64(s.Opened), cluster, g.Name)
	for outcome, n := range map[string]int64{"carried": s.Carried, "cut": s.Cut, "closed": s.Closed,
		"refused": s.Refused} {
		to.put(gateEnded, float64(n), cluster, g.Name, outcome)
	}
	to.put(gateWaits, float64(s.Waits), cluster, g.Name)
	to.put(gateWaited, s.WaitedSeconds, cluster, g.Name)
}

func collectCluster(to sink, v *view.View) {
	p := v.Find(v.Primary)
	to.put(takesWrites, flag(p != nil && p.Health == view.TakesWrites), v.Cluster)
	to.put(canLose, float64(v.CanLose), v.Cluster)
	to.put(term, float64(v.Term), v.Cluster)
	if v.AtRisk.Known {
		bytes, seconds := float64(v.AtRisk.Bytes), v.AtRisk.Seconds
		if v.AtRisk.Everything {
			bytes, seconds = infinite, infinite
		}
		to.put(riskBytes, bytes, v.Cluster)
		to.put(riskSeconds, seconds, v.Cluster)
	}
	if p := v.Permission; p != nil {
		to.put(permission, p.Seconds, v.Cluster, p.Server)
		to.put(needsService, flag(len(p.Silent) > 0), v.Cluster)
	}
	if s := v.Synchronous; s != nil {
		to.put(synchronous, flag(s.Safe), v.Cluster, string(s.Mode))
		if p := v.Find(v.Primary); p != nil && p.Observation != nil {
			to.put(commitsWait, p.Observation.Process.CommitWaits, v.Cluster)
		}
		to.put(commitsAlone, float64(s.Alone), v.Cluster, v.Primary)
	}
	for i := range v.Referees {
		to.put(referee, flag(v.Referees[i].Answers), v.Cluster, v.Referees[i].Name)
	}
	for i := range v.Gates {
		collectGate(to, v.Cluster, &v.Gates[i])
	}
	if v.Operation != nil {
		to.put(running, 1, v.Cluster, string(v.Operation.Kind))
	}
	byRule := map[cluster.Rule]int{}
	for _, x := range v.Problems {
		byRule[x.Rule]++
	}
	for r, n := range byRule {
		to.put(problems, float64(n), v.Cluster, string(r))
	}
}

func collectServer(to sink, v *view.View, s *view.Server) {
	put := func(f family, value float64, more ...string) {
		to.put(f, value, append([]string{v.Cluster, s.Name}, more...)...)
	}
	put(health, 1, string(s.Health))
	put(isPrimary, flag(s.Name == v.Primary))
	if s.LastContactSeconds >= 0 {
		put(age, s.LastContactSeconds)
	}
	o := s.Observation
	put(up, flag(o != nil && o.Process.Accepting && s.Health != view.Unseen))
	if o == nil || s.Health == view.Unseen {
		return // what was last seen is not what is
	}
	put(skew, s.ClockSkew)
	if !o.CertificateEnds.IsZero() {
		put(certEnds, float64(o.CertificateEnds.Unix()))
	}
	if n, known := o.Host.DiskFreeBytes.Get(); known {
		put(diskFree, float64(n))
	}
	if n, known := o.Host.LogDiskFreeBytes.Get(); known {
		put(logFree, float64(n))
	}
	if n, known := o.Log.Bytes.Get(); known {
		put(logBytes, float64(n))
	}
	if s.LogFull != nil && s.LogFull.Seconds >= 0 {
		put(logFull, s.LogFull.Seconds)
	}
	for _, x := range o.Links.Slots {
		put(slotKept, float64(x.KeptBytes), x.Name, map[bool]string{true: "true", false: "false"}[x.Active])
	}
	if o.Process.Role == observation.Replica {
		collectReplica(put, s)
	}
}

func collectReplica(put func(f family, value float64, more ...string), s *view.Server) {
	o := s.Observation
	if s.Lag.Known {
		put(lagSeconds, s.Lag.Seconds)
		put(lagBytes, float64(s.LagBytes))
		put(stage, float64(s.Stages.NotSent), "sent")
		put(stage, float64(s.Stages.NotReceived), "received")
		put(stage, float64(s.Stages.NotSafe), "safe")
		put(stage, float64(s.Stages.NotApplied), "applied")
	}
	if o.Links.Upstream != nil {
		put(delay, float64(o.Links.Upstream.DelaySeconds))
	}
	for cause, n := range o.Replay.Conflicts {
		put(conflicts, float64(n), cause)
	}
}
