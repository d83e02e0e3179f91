package dialect

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

func postgres() *Dialect {
	d := &Dialect{Engine: position.EnginePostgres, Label: "PostgreSQL", ManyHosts: true, connect: postgresConnect(),
		WaitsForMany: true, Slots: true, Checkpoints: true, EncryptsRunning: true, Settles: true, CancelsQueries: true,
		Near: position.Distance{Amount: 1 << 20, Unit: position.Bytes}, Pause: 0.2,
		Tunables: postgresTunables, Reasons: postgresReasons,
		Resume: "select pg_wal_replay_resume()", ShutStopped: "make an empty file standby.signal in its data directory",
		OpenByDefault: "remove standby.signal from its data directory",
		DropSlot:      "select pg_drop_replication_slot('%s')",
		DropAccount: "remove the lines between the marks of Cross Twin from pg_hba.conf on every server; on the primary, " +
			"for each of them: drop owned by NAME; drop role NAME",
		DropOne:         "on the primary: drop owned by %[1]s; drop role %[1]s",
		DropCertificate: "remove the lines between the marks of Cross Twin from postgresql.conf, and reload it",
		Title: Titles{
			Stop: func(old string) string { return "Stop " + old + " cleanly" },
			Prove: func(old, candidate string) string {
				return fmt.Sprintf("Verify that %s applied %s's log through the shutdown checkpoint", candidate, old)
			},
			Rewind: func(server, fork string) string { return fmt.Sprintf("Rewind %s to the fork at %s", server, fork) },
			Verify: func(string) string { return "Verify the copy against its manifest" },
		},
		CopiesConfig: true, Limits: atLeastPrimary, Check: checkPostgres, Copy: copyPostgres,
		Pair: pairPostgres, Waits: postgresWaits,
	}
	d.FirstWrite.Setting = "synchronous_standby_names"
	d.FirstWrite.Mend = "alter system set synchronous_standby_names = ''; select pg_reload_conf()"
	d.ReadOnly.Setting, d.ReadOnly.Off = "default_transaction_read_only", "off"
	d.ReadOnly.Mend = "alter system set default_transaction_read_only = off; select pg_reload_conf()"
	return d
}

var postgresTunables = map[string]string{
	"max_standby_streaming_delay": "how long replay waits for a query on the replica before it cancels it: a higher " +
		"value means fewer cancelled queries and more lag",
	"max_standby_archive_delay": "the same for log that comes from an archive",
	"hot_standby_feedback": "on: the primary keeps row versions that queries on the replica still need: fewer " +
		"cancelled queries, and more bloat on the primary",
	"wal_keep_size": "log that is kept for servers that rejoin: more of it lets more of them rewind " +
		"instead of being rebuilt, and takes disk",
	"max_slot_wal_keep_size": "the most that an unread slot may keep: it saves the primary's disk and loses the " +
		"absent replica",
	verb.Delay: "seconds by which a replica is delayed: time to recover from a mistaken " +
		"statement, and longer reads of old data",
}

var postgresReasons = map[string]string{
	"max_connections":      "a replica with a lower value than its primary does not start, or pauses replay",
	"max_worker_processes": "a replica with a lower value than its primary does not start, or pauses replay",
	"max_wal_senders": "a replica with a lower value than its primary does not start, or pauses replay; as " +
		"primary it must serve all the others",
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
}

// postgresWaits reads the names of wait events (documentation, "Wait Events of
// Type IPC", "Lock" and "BufferPin").
func postgresWaits(o *observation.Server) (cause.Wait, float64, string) {
	wait := o.Replay.Wait
	switch {
	case strings.HasSuffix(wait, "RecoveryConflictSnapshot"):
		return cause.WaitRows, 0, wait
	case strings.HasSuffix(wait, "RecoveryConflictTablespace"):
		return cause.WaitTablespace, 0, wait
	case strings.HasPrefix(wait, "Lock "):
		return cause.WaitTable, 0, strings.TrimPrefix(wait, "Lock ")
	case strings.HasPrefix(wait, "BufferPin"):
		return cause.WaitPage, 0, wait
	case o.Replay.Busy >= busyShare:
		return cause.WaitCPU, o.Replay.Busy, wait
	case strings.HasPrefix(wait, "IO "):
		return cause.WaitDisk, 0, strings.TrimPrefix(wait, "IO ")
	}
	return "", 0, wait
}

// busyShare is the share of one core from which a single process counts as the
// limit.
const busyShare = 0.85

// atLeastPrimary are the settings that a replica must not set lower than its
// primary: recovery pauses or refuses to start otherwise (documentation, "Hot
// Standby, Administrator's Overview"; measured: a promote then shuts it down).
var atLeastPrimary = []string{"max_connections", "max_worker_processes", "max_wal_senders", "max_locks_per_transaction",
	"max_prepared_transactions"}

func pairPostgres(s, primary Subject) []operation.Check {
	var low []string
	for _, name := range atLeastPrimary {
		mine, err1 := strconv.Atoi(s.Seen.Config.Settings[name])
		theirs, err2 := strconv.Atoi(primary.Seen.Config.Settings[name])
		if err1 == nil && err2 == nil && mine < theirs {
			low = append(low, fmt.Sprintf("%s is %d, on %s %d", name, mine, primary.Name, theirs))
		}
	}
	c := operation.Check{Name: "Limits not below the primary's", Server: s.Name,
		Result:   verdict(len(low) == 0, operation.Fail),
		Evidence: strings.Join(low, "; "),
		Why:      "replay stops, and a promotion shuts the server down, when a limit is lower than the primary's was"}
	if len(low) == 0 {
		c.Evidence = s.Name + " sets none of " + strings.Join(atLeastPrimary, ", ") + " lower than " + primary.Name
	} else {
		c.Mend = "raise them on " + s.Name + " and restart it"
	}
	return append([]operation.Check{c}, sameRules(s, primary)...)
}

// sameRules warns of access rules that only the primary has: whoever comes in by them
// there would be refused after a role change. They are no part of the data.
func sameRules(s, primary Subject) []operation.Check {
	mine, known := s.Seen.Config.Settings["access_rules"]
	theirs, both := primary.Seen.Config.Settings["access_rules"]
	if !known || !both || !s.Leads {
		return nil
	}
	var lacking []string
	for _, rule := range strings.Split(theirs, "\n") {
		if rule != "" && !slices.Contains(strings.Split(mine, "\n"), rule) {
			lacking = append(lacking, rule)
		}
	}
	c := operation.Check{Name: "Access rules like the primary's", Server: s.Name, Result: operation.Pass,
		Evidence: "what " + primary.Name + "'s pg_hba.conf says of applications, " + s.Name + "'s says too"}
	if n := len(lacking); n > 0 {
		c.Result = operation.Warn
		c.Evidence = fmt.Sprintf("pg_hba.conf of %s lacks what %s's says: %s", s.Name, primary.Name,
			strings.Join(lacking[:min(n, 3)], "; "))
		if n > 3 {
			c.Evidence += fmt.Sprintf("; and %d more", n-3)
		}
		c.Why = "whoever comes in by them would be refused after a role change"
		c.Mend = "write them on " + s.Name + " too where they are meant for applications, then select pg_reload_conf()"
	}
	return []operation.Check{c}
}

// copyPostgres: a copy takes its configuration from the source's data directory.
func copyPostgres(source Subject) []operation.Check {
	set := source.Seen.Config.Settings
	var out []operation.Check
	for _, x := range []struct{ setting, good, name, bad, why, mend string }{
		{"copied_paths", "its configuration names no path of its own", "No paths in the copied configuration",
			"%s's configuration sets %s", "the copy would take that over, and open another server's files",
			"take it out of %s's configuration: a server is started with its data directory alone"},
		{"lost_limits", "its limits stand in its configuration", "Limits in the copied configuration",
			"on %s %s", "a replica with a lower limit than its primary does not start",
			"put the values with which %s runs into its configuration"},
	} {
		c := operation.Check{Name: x.name, Server: source.Name, Result: operation.Pass, Evidence: x.good}
		if v := set[x.setting]; v != "" {
			c.Result, c.Evidence = operation.Fail, fmt.Sprintf(x.bad, source.Name, v)
			c.Why, c.Mend = x.why, fmt.Sprintf(x.mend, source.Name)
		}
		out = append(out, c)
	}
	return out
}

func checkPostgres(s Subject) []operation.Check {
	set, name := s.Seen.Config.Settings, s.Name
	level := set["wal_level"]
	out := []operation.Check{{Name: "Log level for replicas", Server: name,
		Result: verdict(level == "replica" || level == "logical", operation.Fail), Evidence: "wal_level is " + level,
		Why:  "below replica the log cannot feed a replica",
		Mend: mendIf(level == "minimal", "set wal_level = replica and restart")}}
	room := operation.Check{Name: "Room for replicas", Server: name, Why: "each replica takes one, a copy takes another",
		Result: operation.Pass}
	var seen, mend []string
	for _, setting := range []string{"max_wal_senders", "max_replication_slots"} {
		have, _ := strconv.Atoi(set[setting])
		seen = append(seen, fmt.Sprintf("%s is %d", setting, have))
		if have < s.Members+1 {
			room.Result = operation.Fail
			mend = append(mend, fmt.Sprintf("set %s = %d or more", setting, s.Members+6))
		}
	}
	room.Evidence = fmt.Sprintf("%s; this cluster needs %d", strings.Join(seen, ", "), s.Members+1)
	if len(mend) > 0 {
		room.Mend = strings.Join(mend, ", ") + ", and restart " + name
	}
	out = append(out, room)
	rewind := set["data_checksums"] == "on" || set["wal_log_hints"] == "on"
	whole := set["full_page_writes"] == "on"
	mendRewind := mendIf(!whole, "set full_page_writes = on and reload")
	if !rewind {
		mendRewind = mended(s, "wal_log_hints",
			"set wal_log_hints = on and restart, or turn checksums on with pg_checksums while it is stopped")
	}
	out = append(out, listens(s, "listen_addresses")...)
	out = append(out, operation.Check{Name: "Rewindable data", Server: name,
		Result: verdict(rewind && whole, operation.Warn),
		Evidence: fmt.Sprintf("data_checksums %s, wal_log_hints %s, full_page_writes %s", set["data_checksums"],
			set["wal_log_hints"], set["full_page_writes"]),
		Why:  "without checksums or hint logging an old primary has to be copied again after a failover",
		Mend: mendRewind})
	keeps := set["wal_keep_size"] != "0"
	out = append(out, operation.Check{Name: "Log kept for a rejoin", Server: name, Result: verdict(keeps, operation.Warn),
		Evidence: "wal_keep_size is " + set["wal_keep_size"] + " MB",
		Why:      "a rewind reads the log back to the last checkpoint before the fork",
		Mend:     mendIf(!keeps, "set wal_keep_size = '1GB' and reload")})
	safe := set["fsync"] == "on" && set["synchronous_commit"] != "off"
	out = append(out, operation.Check{Name: "Durable commits", Server: name, Result: verdict(safe, operation.Warn),
		Evidence: fmt.Sprintf("fsync %s, synchronous_commit %s", set["fsync"], set["synchronous_commit"]),
		Why:      "a crash may lose what was acknowledged",
		Mend:     mendIf(!safe, "set fsync = on and synchronous_commit = on")})
	return append(out, checkFacts(s, postgresFacts)...)
}

var postgresFacts = []fact{
	{"collation_mismatches", "Same collation library", "databases with collations of another library version",
		"an index built with another version of the library may miss rows",
		"install the same library version on all hosts, or reindex and alter database ... refresh collation version"},
	{"unlogged_tables", "No unlogged tables", "unlogged tables", "they are empty after a role change",
		"alter table ... set logged"},
	{"prepared_transactions", "No prepared transactions", "prepared transactions",
		"they keep their locks over a role change", "commit prepared or rollback prepared"},
	{"archive_failing", "Working archive command", "recent failures of the archive command",
		"a failing archive command delays a clean stop", "see archive_command and the server's log"},
	{"hba_errors", "Readable access rules", "unreadable lines in pg_hba.conf",
		"one bad line makes the server ignore every reload", "select * from pg_hba_file_rules where error is not null"},
}
