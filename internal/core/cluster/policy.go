package cluster

// Policy is what an administrator sets for a cluster.
type Policy struct {
	// BehindSeconds is the lag from which a replica counts as behind.
	BehindSeconds float64 `json:"behind_seconds"`
	// UnseenSeconds is the silence after which a server counts as unseen.
	UnseenSeconds float64 `json:"unseen_seconds"`
	// StalledSeconds is the time without progress after which a replica that
	// has something to apply counts as stalled.
	StalledSeconds float64 `json:"stalled_seconds"`
	// The limits from which an alert is raised; 0: never.
	AtRiskBytes      int64   `json:"at_risk_bytes"`
	SlotBytes        int64   `json:"slot_bytes"`
	FullHours        float64 `json:"full_hours"` // until the disk is full of log
	ConflictsPerHour float64 `json:"conflicts_per_hour"`
	ClockSeconds     float64 `json:"clock_seconds"`
	// Muted rules raise no alert; the problem is shown all the same.
	Muted []Rule `json:"muted"`
}

// DefaultPolicy is used for new clusters.
func DefaultPolicy() Policy {
	return Policy{BehindSeconds: 3, UnseenSeconds: 5, StalledSeconds: 15,
		AtRiskBytes: 64 << 20, SlotBytes: 1 << 30, FullHours: 24, ConflictsPerHour: 20, ClockSeconds: 1, Muted: []Rule{}}
}
