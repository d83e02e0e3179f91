package plan

import (
	"cmp"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"fmt"
	"strconv"
	"strings"
)

// atLeastPrimary are the settings that a replica must not set lower than its
// primary: recovery pauses or refuses to start otherwise (documentation, "Hot
// Standby, Administrator's Overview"; measured: a promote then shuts it down).
var atLeastPrimary = []string{"max_connections", "max_worker_processes", "max_wal_senders", "max_locks_per_transaction", "max_prepared_transactions"}

func (in *Input) checkLimits(p *operation.Plan, name string, o *observation.Server, primary string, q *observation.Server) {
	var low []string
	for _, s := range atLeastPrimary {
		mine, err1 := strconv.Atoi(o.Config.Settings[s])
		theirs, err2 := strconv.Atoi(q.Config.Settings[s])
		if err1 == nil && err2 == nil && mine < theirs {
			low = append(low, fmt.Sprintf("%s is %d, on %s %d", s, mine, primary, theirs))
		}
	}
	c := operation.Check{Name: "limits not below the primary's", Server: name, Result: verdict(len(low) == 0, operation.Fail),
		Evidence: strings.Join(low, "; "), Why: "replay stops, and a promotion shuts the server down, when a limit is lower than the primary's was"}
	if len(low) == 0 {
		c.Evidence = name + " sets none of " + strings.Join(atLeastPrimary, ", ") + " lower than " + primary
	} else {
		c.Mend = "raise them on " + name + " and restart it"
	}
	p.AddCheck(c)
}

// checkPostgres looks at a PostgreSQL server's own settings and contents.
func (in *Input) checkPostgres(p *operation.Plan, name string, o *observation.Server) {
	set := o.Config.Settings
	level := set["wal_level"]
	p.AddCheck(operation.Check{Name: "log level", Server: name, Result: verdict(level == "replica" || level == "logical", operation.Fail), Evidence: "wal_level is " + level,
		Why: "below replica the log cannot feed a replica", Mend: mendIf(level == "minimal", "set wal_level = replica and restart")})
	n := len(in.Members)
	for _, s := range []string{"max_wal_senders", "max_replication_slots"} {
		have, _ := strconv.Atoi(set[s])
		p.AddCheck(operation.Check{Name: "room for replicas", Server: name, Result: verdict(have >= n+1, operation.Fail), Evidence: fmt.Sprintf("%s is %d, this cluster needs %d", s, have, n+1),
			Why: "each replica takes one, a copy takes another", Mend: mendIf(have < n+1, fmt.Sprintf("set %s = %d or more and restart", s, n+6))})
	}
	mend := mendIf(set["full_page_writes"] != "on", "set full_page_writes = on and reload")
	rewind := set["data_checksums"] == "on" || set["wal_log_hints"] == "on"
	p.AddCheck(operation.Check{Name: "can be rewound", Server: name, Result: verdict(rewind && set["full_page_writes"] == "on", operation.Warn),
		Evidence: fmt.Sprintf("data_checksums %s, wal_log_hints %s, full_page_writes %s", set["data_checksums"], set["wal_log_hints"], set["full_page_writes"]),
		Why:      "without checksums or hint logging an old primary has to be copied anew after a failover", Mend: cmp.Or(mendIf(!rewind, "set wal_log_hints = on and restart, or turn checksums on with pg_checksums while it is stopped"), mend)})
	p.AddCheck(operation.Check{Name: "log kept for a rejoin", Server: name, Result: verdict(set["wal_keep_size"] != "0", operation.Warn), Evidence: "wal_keep_size is " + set["wal_keep_size"] + " MB",
		Why: "a rewind reads the log back to the last checkpoint before the fork", Mend: mendIf(set["wal_keep_size"] == "0", "set wal_keep_size = '1GB' and reload")})
	safe := set["fsync"] == "on" && set["synchronous_commit"] != "off"
	p.AddCheck(operation.Check{Name: "commits are durable", Server: name, Result: verdict(safe, operation.Warn), Evidence: fmt.Sprintf("fsync %s, synchronous_commit %s", set["fsync"], set["synchronous_commit"]),
		Why: "a crash may take back what was acknowledged", Mend: mendIf(!safe, "set fsync = on and synchronous_commit = on")})
	in.checkContents(p, name, o)
}

func (in *Input) checkContents(p *operation.Plan, name string, o *observation.Server) {
	fact := func(key, title, why, mend, words string) { checkFact(p, o, name, key, title, words, why, mend) }
	fact("collation_mismatches", "same collation library", "an index built with another version of the library may miss rows", "install the same library version on all hosts, or reindex and alter database ... refresh collation version", "databases with collations of another library version")
	fact("tablespaces", "no tablespaces", "a copy or a rewind writes them to the same paths: on one host, or where those are not there, it fails", "see that their paths are free on every host, and that no two servers share a host", "tablespaces beside the default ones")
	fact("unlogged_tables", "no unlogged tables", "they are empty after a role change", "alter table ... set logged", "unlogged tables")
	fact("prepared_transactions", "no prepared transactions", "they keep their locks over a role change", "commit or roll them back", "prepared transactions")
	fact("archive_failing", "archiving works", "a failing archive command delays an orderly stop", "see archive_command and the server's log", "recent failures of the archive command")
	fact("hba_errors", "access rules are readable", "one bad line makes the server ignore every reload", "see select * from pg_hba_file_rules where error is not null", "unreadable lines in pg_hba.conf")
}
