package dialect

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
)

func mariadb() *Dialect {
	d := &Dialect{Engine: position.EngineMariaDB, Label: "MariaDB", connect: mariadbConnect(),
		AnyAcknowledges: true, InPlace: true, Events: true, Dumps: true, Coordinates: true, RemovesLogByAge: true,
		Near: position.Distance{Amount: 5, Unit: position.Transactions}, Pause: 0.06,
		Tunables: mariadbTunables, Reasons: mariadbReasons, RestartsApplying: []string{verb.Delay, "slave_parallel_threads"},
		Resume: "start slave sql_thread", Shut: "set global read_only = 1",
		ShutStopped:   "write read_only = 1 into its configuration file",
		OpenByDefault: "remove read_only = 1 from its configuration file",
		DropAccount: "on the primary: drop user NAME@HOST for each of them; drop table crosstwin.cluster, " +
			"crosstwin.mark, crosstwin.undone",
		DropOne:         "on the primary: drop user %[1]s@HOST, for each host in mysql.user",
		DropCertificate: "remove the lines between the marks of Cross Twin from its configuration file, and restart it",
		Title: Titles{
			Stop: func(old string) string {
				return "End writes on " + old +
					" for all accounts: give statements 0.3 s, kill all client sessions, give up after 5 s"
			},
			Prove: func(old, candidate string) string {
				return fmt.Sprintf("Verify that %s applied the last transaction of %s", candidate, old)
			},
			Rewind: func(server, fork string) string {
				return fmt.Sprintf("Undo what %s wrote after %s from the rows' before images", server, fork)
			},
			Verify: func(string) string { return "Apply the copy's own log to it" },
		},
		Check: checkMariaDB, Copy: copyMariaDB, Pair: pairMariaDB, Waits: mariadbWaits,
	}
	d.FirstWrite.Setting, d.FirstWrite.Off = "rpl_semi_sync_master_enabled", "OFF"
	d.FirstWrite.Mend = "set global rpl_semi_sync_master_enabled = off"
	d.ReadOnly.Setting, d.ReadOnly.Off = "tx_read_only", "OFF"
	d.ReadOnly.Mend = "set global tx_read_only = off, and in the configuration; sessions that are open " +
		"stay as they are"
	return d
}

var mariadbTunables = map[string]string{
	"binlog_expire_logs_seconds": "after how long the server removes log by itself, whoever still needs it",
	"slave_parallel_threads":     "how many threads apply: more let a replica keep up, and take memory and connections",
	"max_binlog_size":            "how large a log file grows before the next begins",
	verb.Delay: "seconds by which a replica is delayed: time to recover from a mistaken statement, " +
		"and longer reads of old data",
}

var mariadbReasons = map[string]string{
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
	"slave_skip_errors":              "what it could not apply was skipped, and it may differ",
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
}

// mariadbWaits reads the state of the applier's thread.
func mariadbWaits(o *observation.Server) (cause.Wait, float64, string) {
	wait := o.Replay.Wait
	switch {
	case strings.HasPrefix(wait, "Waiting for table") || strings.Contains(wait, "metadata lock"):
		return cause.WaitTable, 0, wait
	case o.Config.Settings["slave_parallel_threads"] == "0":
		return cause.WaitOneThread, 0, wait
	}
	return "", 0, wait
}

// alike are the settings that have to agree on all servers of a cluster,
// because the roles swap.
var alike = []struct {
	name, why string
	fail      operation.Result
}{
	{"gtid_domain_id", "a new primary would write in another domain, and positions would split", operation.Fail},
	{"lower_case_table_names", "table names would not be found on the other server", operation.Fail},
	{"max_connections", "applications that fit on one server would be refused by the other", operation.Warn},
	{"event_scheduler", "as primary it would not run the scheduled events, or would where the others do not",
		operation.Warn},
}

func pairMariaDB(s, primary Subject) []operation.Check {
	o, q := s.Seen, primary.Seen
	var out []operation.Check
	for _, a := range alike {
		mine, theirs := o.Config.Settings[a.name], q.Config.Settings[a.name]
		out = append(out, operation.Check{Name: "Same " + a.name, Server: s.Name, Result: verdict(mine == theirs, a.fail),
			Evidence: fmt.Sprintf("%s is %s on %s, %s on %s", a.name, mine, s.Name, theirs, primary.Name),
			Why:      a.why, Mend: mendIf(mine != theirs, "set "+a.name+" = "+theirs+" on "+s.Name+" and restart it")})
	}
	if mine, theirs := o.Config.Settings["accounts"], q.Config.Settings["accounts"]; mine != "" && theirs != "" {
		c := operation.Check{Name: "Same accounts", Server: s.Name, Result: verdict(mine == theirs, operation.Warn),
			Evidence: "accounts and passwords are the same on " + s.Name + " and " + primary.Name,
			Why:      "after a role change applications log in on the other server",
			Mend:     mendIf(mine != theirs, "compare: select user, host, md5(priv) from mysql.global_priv")}
		if mine != theirs {
			c.Evidence = "accounts or passwords differ between " + s.Name + " and " + primary.Name
		}
		out = append(out, c)
	}
	older := versionBelow(o.Process.Version, q.Process.Version)
	out = append(out, operation.Check{Name: "Version not older than the primary's", Server: s.Name,
		Result:   verdict(!older, operation.Warn),
		Evidence: fmt.Sprintf("%s on %s, %s on %s", o.Process.Version, s.Name, q.Process.Version, primary.Name),
		Why:      "a replica older than its primary may not understand the log",
		Mend:     mendIf(older, "update "+s.Name+" first")})
	return append(out, checkRetention(s, primary)...)
}

// checkRetention compares the oldest position of the primary's log with what the
// replica needs next.
func checkRetention(s, primary Subject) []operation.Check {
	oldest := primary.Seen.Config.Settings["oldest_position"]
	need := cmp.Or(s.Seen.Log.Received, s.Seen.Log.Applied)
	if need == "" {
		return nil
	}
	lacks, known := position.Lacks(position.EngineMariaDB, need, oldest)
	ok := oldest == "" || known && lacks.IsZero()
	return []operation.Check{{Name: "Log kept for the replica", Server: s.Name, Result: verdict(ok, operation.Fail),
		Evidence: fmt.Sprintf("%s's log begins after %s, %s holds up to %s", primary.Name, cmp.Or(oldest, "nothing"), s.Name,
			need),
		Why:  "log that the primary has removed can never reach the replica",
		Mend: mendIf(!ok, "seed it again: crosstwin seed "+s.Cluster+" "+s.Name+" --replace")}}
}

// versionBelow compares versions of the form 10.11.19.
func versionBelow(a, b string) bool {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := 0; i < len(x) && i < len(y); i++ {
		m, err1 := strconv.Atoi(x[i])
		n, err2 := strconv.Atoi(y[i])
		if err1 != nil || err2 != nil || m != n {
			return err1 == nil && err2 == nil && m < n
		}
	}
	return false
}

// required are the settings that replication and a rejoin rest on; hard ones are
// those without which nothing can work.
var required = []struct {
	name, value, title, why, mend string
	hard                          bool
}{
	{"log_bin", "ON", "Binary log", "without it a server can feed no replica", "set log_bin and restart", true},
	{"log_slave_updates", "ON", "Log of applied changes",
		"a replica that becomes primary could feed no server, and its history could not be compared",
		"set log_slave_updates = on and restart", true},
	{"binlog_format", "ROW", "Row format", "statements may have another result on a replica, and cannot be undone",
		"set global binlog_format = ROW, and in the configuration", false},
	{"binlog_row_image", "FULL", "Full row images", "without before images a tail cannot be undone",
		"set global binlog_row_image = FULL, and in the configuration", false},
	{"gtid_strict_mode", "ON", "Strict GTID mode", "without it a replica silently takes writes out of order",
		"set global gtid_strict_mode = on, and in the configuration", true},
	{"slave_skip_errors", "OFF", "No error passed over",
		"a write that cannot be applied is skipped silently; crosstwin compare shows what differs",
		"remove slave_skip_errors from the configuration and restart the server", false},
	{"slave_exec_mode", "STRICT", "Strict applying", "a missing row would be skipped silently",
		"set global slave_exec_mode = STRICT", false},
	{"innodb_flush_log_at_trx_commit", "1", "Durable commits",
		"a crash loses what was acknowledged, and the log then holds more than the data",
		"set global innodb_flush_log_at_trx_commit = 1, and in the configuration", false},
	{"sync_binlog", "1", "Durable log", "a power cut loses the newest log, and its numbers are used twice",
		"set global sync_binlog = 1, and in the configuration", false},
	{"binlog_row_metadata", "FULL", "Column names in the log", "a tail is shown with numbered columns",
		"set global binlog_row_metadata = FULL, and in the configuration", false},
}

// copyMariaDB: tables may lie outside of the data directory.
func copyMariaDB(source Subject) []operation.Check {
	c := operation.Check{Name: "All tables in the data directory", Server: source.Name, Result: operation.Pass,
		Evidence: "no table has a directory of its own"}
	if v := source.Seen.Config.Settings["data_directories"]; v != "" {
		c.Result, c.Evidence = operation.Fail, fmt.Sprintf("on %s tables lie elsewhere: %s", source.Name, v)
		c.Why = "a copy would write them to the same paths, and clearing the data directory would leave them"
		c.Mend = "move them: create them anew without DATA DIRECTORY, on " + source.Name
	}
	return []operation.Check{c}
}

func checkMariaDB(s Subject) []operation.Check {
	out := listens(s, "bind_address")
	for _, r := range required {
		value, ok := s.Seen.Config.Settings[r.name]
		if !ok {
			continue
		}
		level := operation.Warn
		if r.hard || s.Leads && notDurable(r.name, value) {
			level = operation.Fail
		}
		good := strings.EqualFold(value, r.value)
		out = append(out, operation.Check{Name: r.title, Server: s.Name, Result: verdict(good, level),
			Evidence: fmt.Sprintf("%s is %s on %s", r.name, value, s.Name), Why: r.why,
			Mend: mendIf(!good, mended(s, r.name, r.mend+" on "+s.Name))})
	}
	out = append(out, checkFilters(s)...)
	out = append(out, CheckConnections(s))
	out = append(out, checkFacts(s, mariadbFacts)...)
	if s.Seen.Process.Role == observation.Replica {
		out = append(out, checkFacts(s, []fact{{"events_enabled", "Events off on a replica", "enabled events",
			"they would run on the replica too",
			"they are switched off when it follows: crosstwin rejoin " + s.Cluster + " " + s.Name}})...)
	}
	return out
}

// notDurable reports whether a setting lets a crash take what was acknowledged. A
// sync_binlog of more than 1 delays the log alone, which the data then leads.
func notDurable(name, value string) bool {
	return name == "innodb_flush_log_at_trx_commit" && value != "1" || name == "sync_binlog" && value == "0"
}

// CheckConnections refuses what a role change could only handle in part.
func CheckConnections(s Subject) operation.Check {
	c := operation.Check{Name: "One unnamed connection", Server: s.Name, Result: operation.Pass,
		Evidence: s.Name + " has no named connection"}
	if n := s.Seen.Links.Named; len(n) > 0 {
		c.Result, c.Evidence = operation.Fail, s.Name+" replicates by the named connection "+strings.Join(n, ", ")
		c.Why = "a role change would move the unnamed connection and leave this one writing"
		c.Mend = fmt.Sprintf("on %s: stop slave '%s'; reset slave '%s' all; then crosstwin rejoin %s %s", s.Name, n[0], n[0],
			s.Cluster, s.Name)
	}
	return c
}

// checkFilters: a filter is no copy.
func checkFilters(s Subject) []operation.Check {
	c := operation.Check{Name: "No replication filter", Server: s.Name, Result: operation.Pass,
		Evidence: s.Name + " has no replication filter"}
	if f := s.Seen.Log.Filters; len(f) > 0 {
		c.Result, c.Evidence = operation.Warn, s.Name+" has filters: "+strings.Join(f, ", ")
		c.Why, c.Mend = "what a filter leaves out is not on the other server",
			"remove it from the configuration of "+s.Name+" and from its link, then: crosstwin seed "+s.Cluster+" "+s.Name+
				" --replace"
		if s.Leads {
			c.Result = operation.Fail
		}
	}
	return []operation.Check{c}
}

var mariadbFacts = []fact{
	{"tables_without_key", "Primary keys", "tables without a primary key",
		"each row is searched for in the whole table when it is applied, and a difference cannot be named by row",
		"add primary keys: select table_schema, table_name from information_schema.tables, without a row in " +
			"table_constraints"},
	{"tables_not_transactional", "Transactional tables", "tables of an engine without transactions",
		"they cannot be copied at one moment, compared or undone", "alter table ... engine = InnoDB"},
	{"privileged_writers", "Read-only for all accounts",
		"accounts beside the administrator's that may write despite read_only",
		"a replica could be changed outside replication",
		"revoke READ ONLY ADMIN, or the ALL that includes it, from them: select user, host from mysql.global_priv"},
	{"long_statements", "No long statements", "statements at work for more than 5 s",
		"the write pause waits for them, and then kills them", "select * from information_schema.processlist"},
}
