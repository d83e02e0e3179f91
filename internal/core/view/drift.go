package view

import (
	"fmt"
	"sort"

	"crosstwin/internal/core/position"
)

// Drift lists settings in which the servers of a cluster differ.
type Drift struct {
	Cluster  string   `json:"cluster"`
	Sentence string   `json:"sentence"`
	Checked  int      `json:"checked_settings"` // how many were looked at
	Settings []Differ `json:"settings"`
	// Unasked are the servers whose settings could not be read.
	Unasked []string `json:"unasked,omitempty"`
}

// Differ is one setting with its value on each server.
type Differ struct {
	Name   string            `json:"name"`
	Why    string            `json:"why"` // why it matters at a role change
	Values map[string]string `json:"values"`
}

// reasons say why a setting matters when roles change.
var reasons = map[string]map[string]string{
	position.EnginePostgres: {
		"max_connections":           "a replica with a lower value than its primary does not start, or pauses replay",
		"max_worker_processes":      "a replica with a lower value than its primary does not start, or pauses replay",
		"max_wal_senders":           "a replica with a lower value than its primary does not start, or pauses replay; as primary it must serve all the others",
		"max_locks_per_transaction": "a replica with a lower value than its primary does not start, or pauses replay",
		"max_prepared_transactions": "a replica with a lower value than its primary does not start, or pauses replay",
		"wal_level":                 "as primary it would log too little for replicas",
		"max_replication_slots":     "as primary it must hold a slot for every replica",
		"data_checksums":            "without checksums or hint bits in the log it cannot be rewound",
		"wal_log_hints":             "without checksums or hint bits in the log it cannot be rewound",
		"wal_keep_size":             "as primary it may keep too little log for the old primary to rejoin",
		"full_page_writes":          "as primary it risks torn pages, and cannot be copied safely",
		"fsync":                     "off: a crash of this host loses acknowledged writes",
		"synchronous_commit":        "as primary it may acknowledge writes earlier than the others do",
		"synchronous_standby_names": "as primary it waits for other replicas, or for none",
		"hot_standby":               "off: it answers no reads as replica",
		"hot_standby_feedback":      "on: it makes its primary keep dead rows",
		"max_slot_wal_keep_size":    "as primary it may drop an absent replica's log sooner",
		"archive_mode":              "as primary it would not archive, or would where the others do not",
	},
	position.EngineMariaDB: {
		"log_bin":                        "without a log of its own it can never be primary",
		"log_slave_updates":              "without it nobody can follow it, and its tail cannot be found",
		"binlog_format":                  "as primary it logs in another form; statements cannot be undone",
		"binlog_row_image":               "with less than full images a tail cannot be undone",
		"binlog_row_metadata":            "with less than full metadata a tail is shown without column names",
		"gtid_domain_id":                 "as primary it writes in another domain: positions become hard to compare",
		"gtid_strict_mode":               "without it a lost or doubled transaction passes in silence",
		"sync_binlog":                    "after a crash of this host acknowledged writes may be missing in its log",
		"innodb_flush_log_at_trx_commit": "after a crash its data may lack what its log holds",
		"lower_case_table_names":         "table names compare differently: statements may miss their table",
		"max_connections":                "as primary it takes fewer connections",
		"event_scheduler":                "as primary it would not run scheduled events",
		"slave_exec_mode":                "an idempotent applier hides differences",
		"rpl_semi_sync_master_enabled":   "as primary it waits for an acknowledgement, or does not",
		"binlog_expire_logs_seconds":     "as primary it removes log sooner: an absent server may no longer be able to follow",
		"slave_parallel_threads":         "as replica it applies with fewer threads and may fall behind",
		"slave_parallel_mode":            "as replica it applies in another order of commits",
		"innodb_buffer_pool_size":        "as primary it has less memory for the same work",
		"max_allowed_packet":             "a write that the primary took may be too large for it",
		"character_set_server":           "new databases get another character set",
		"collation_server":               "new databases sort and compare differently",
		"accounts":                       "applications may not get in after a role change: accounts or their rights differ",
	},
}

// DriftOf compares the settings that were last seen of all servers.
func DriftOf(v *View, members []Member) Drift {
	d := Drift{Cluster: v.Cluster, Checked: len(reasons[v.Engine]), Settings: []Differ{}}
	var asked []Member
	for _, m := range members {
		if m.Last == nil || m.Last.Config.Settings == nil || m.Problem != "" || !m.Last.Process.Accepting {
			d.Unasked = append(d.Unasked, m.Name)
		} else {
			asked = append(asked, m)
		}
	}
	for name, why := range reasons[v.Engine] {
		x := Differ{Name: name, Why: why, Values: map[string]string{}}
		seen := map[string]bool{}
		for _, m := range asked {
			if value, known := m.Last.Config.Settings[name]; known {
				x.Values[m.Name] = value
				seen[value] = true
			}
		}
		if len(seen) > 1 {
			d.Settings = append(d.Settings, x)
		}
	}
	sort.Slice(d.Settings, func(i, j int) bool { return d.Settings[i].Name < d.Settings[j].Name })
	d.Sentence = d.sentence(asked)
	return d
}

func (d *Drift) sentence(asked []Member) string {
	var names []string
	for _, m := range asked {
		names = append(names, m.Name)
	}
	var text string
	switch {
	case len(asked) == 0:
		return "No server's settings could be read: nothing is compared."
	case len(asked) == 1:
		return "Only the settings of " + names[0] + " could be read: nothing is compared."
	case len(d.Settings) == 0:
		text = fmt.Sprintf("%s agree in all %d settings that matter at a role change.", List(names), d.Checked)
	default:
		text = fmt.Sprintf("%s differ in %d of %d settings that matter at a role change.", List(names), len(d.Settings), d.Checked)
	}
	if len(d.Unasked) > 0 {
		text += " The settings of " + List(d.Unasked) + " could not be read."
	}
	return text
}
