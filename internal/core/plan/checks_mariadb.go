package plan

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
)

// alike are the settings that have to agree on all servers of a cluster,
// because the roles swap.
var alike = []struct{ name, why string }{
	{"gtid_domain_id", "a new primary would write in another domain, and positions would split"},
	{"lower_case_table_names", "table names would not be found on the other server"},
	{"max_connections", "applications that fit on the one server would be turned away by the other"},
	{"event_scheduler", "as primary it would not run the scheduled events, or would where the others do not"},
}

// checkAlike holds a server's settings and accounts against the primary's.
func (in *Input) checkAlike(p *operation.Plan, m, owner *view.Member) {
	o, q := m.Last, owner.Last
	for _, a := range alike {
		same := o.Config.Settings[a.name] == q.Config.Settings[a.name]
		level := operation.Fail
		if a.name == "max_connections" || a.name == "event_scheduler" {
			level = operation.Warn
		}
		p.AddCheck(operation.Check{Name: "settings agree", Server: m.Name, Result: verdict(same, level), Evidence: fmt.Sprintf("%s is %s on %s, %s on %s", a.name, o.Config.Settings[a.name], m.Name, q.Config.Settings[a.name], owner.Name),
			Why: a.why, Mend: mendIf(!same, "set "+a.name+" = "+q.Config.Settings[a.name]+" on "+m.Name+" and restart it")})
	}
	if o.Config.Settings["accounts"] != "" && q.Config.Settings["accounts"] != "" {
		same := o.Config.Settings["accounts"] == q.Config.Settings["accounts"]
		p.AddCheck(operation.Check{Name: "accounts agree", Server: m.Name, Result: verdict(same, operation.Warn), Evidence: agreeWords(same, "accounts and passwords", m.Name, owner.Name),
			Why: "after a role change applications log in on the other server", Mend: mendIf(!same, "compare: select user, host, md5(priv) from mysql.global_priv")})
	}
	older := versionBelow(o.Process.Version, q.Process.Version)
	p.AddCheck(operation.Check{Name: "version order", Server: m.Name, Result: verdict(!older, operation.Warn), Evidence: fmt.Sprintf("%s on %s, %s on %s", o.Process.Version, m.Name, q.Process.Version, owner.Name),
		Why: "a replica must not be older than its primary: it may not understand the log", Mend: mendIf(older, "update "+m.Name+" first")})
	in.checkRetention(p, m, owner)
}

func agreeWords(same bool, what, a, b string) string {
	if same {
		return what + " are the same on " + a + " and " + b
	}
	return what + " differ between " + a + " and " + b
}

// checkRetention holds the oldest position of the primary's log against what
// the replica needs next.
func (in *Input) checkRetention(p *operation.Plan, m, owner *view.Member) {
	oldest := owner.Last.Config.Settings["oldest_position"]
	need := cmp.Or(m.Last.Log.Received, m.Last.Log.Applied)
	if need == "" {
		return
	}
	lacks, known := position.Lacks(in.View.Engine, need, oldest)
	ok := oldest == "" || known && lacks.IsZero()
	p.AddCheck(operation.Check{Name: "log kept for the replica", Server: m.Name, Result: verdict(ok, operation.Fail), Evidence: fmt.Sprintf("%s's log begins after %s, %s holds up to %s", owner.Name, cmp.Or(oldest, "nothing"), m.Name, need),
		Why: "what the primary threw away can never reach the replica", Mend: mendIf(!ok, "seed it again: crosstwin seed "+in.View.Cluster+" "+m.Name+" --replace")})
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

// required are the settings that replication and a rejoin rest on.
var required = []struct{ name, value, title, why, mend string }{
	{"log_bin", "ON", "binary log", "without it a server can feed no replica", "set log_bin and restart"},
	{"log_slave_updates", "ON", "replica logs what it applies", "a replica that becomes primary could feed nobody, and its history could not be compared", "set log_slave_updates = on and restart"},
	{"binlog_format", "ROW", "row format", "statements may have another result on a replica, and cannot be undone", "set global binlog_format = ROW, and in the configuration"},
	{"binlog_row_image", "FULL", "full row images", "without before images a tail cannot be undone", "set global binlog_row_image = FULL, and in the configuration"},
	{"gtid_strict_mode", "ON", "strict GTID mode", "without it a replica takes writes out of order without a word", "set global gtid_strict_mode = on, and in the configuration"},
	{"slave_exec_mode", "STRICT", "applying is strict", "a row that is missing would be passed over without a word", "set global slave_exec_mode = STRICT"},
	{"innodb_flush_log_at_trx_commit", "1", "commits are durable", "a crash takes back what was acknowledged, and the log then holds more than the data", "set global innodb_flush_log_at_trx_commit = 1, and in the configuration"},
	{"sync_binlog", "1", "log is durable", "a power cut takes the newest log back, and its numbers are used twice", "set global sync_binlog = 1, and in the configuration"},
	{"binlog_row_metadata", "FULL", "column names in the log", "a tail is shown with numbered columns", "set global binlog_row_metadata = FULL, and in the configuration"},
}

// hard are the required settings without which nothing can work.
var hard = map[string]bool{"log_bin": true, "log_slave_updates": true, "gtid_strict_mode": true}

// checkMariaDB looks at a MariaDB server's own settings and contents.
func (in *Input) checkMariaDB(p *operation.Plan, name string, o *observation.Server) {
	for _, r := range required {
		value, ok := o.Config.Settings[r.name]
		if !ok {
			continue
		}
		level := operation.Warn
		if hard[r.name] {
			level = operation.Fail
		}
		good := strings.EqualFold(value, r.value)
		p.AddCheck(operation.Check{Name: r.title, Server: name, Result: verdict(good, level), Evidence: fmt.Sprintf("%s is %s on %s", r.name, value, name), Why: r.why, Mend: mendIf(!good, r.mend+" on "+name)})
	}
	checkFact(p, o, name, "tables_without_key", "primary keys", "tables without a primary key", "each row is searched for in the whole table when it is applied, and a difference cannot be named by row", "add primary keys: select table_schema, table_name from information_schema.tables, without a row in table_constraints")
	checkFact(p, o, name, "tables_not_transactional", "transactional tables", "tables of an engine without transactions", "they cannot be copied at one moment, compared or undone", "alter table ... engine = InnoDB")
	checkFact(p, o, name, "privileged_writers", "read-only holds for everybody", "accounts beside the administrator's that may write in spite of read_only", "a replica could be changed behind replication's back", "revoke READ ONLY ADMIN, or the ALL that includes it, from them: select user, host from mysql.global_priv")
	checkFact(p, o, name, "long_statements", "no long statements", "statements at work for more than 5 s", "the write pause waits for them, and then cuts them off", "see select * from information_schema.processlist")
	if o.Process.Role == observation.Replica {
		checkFact(p, o, name, "events_enabled", "events off on a replica", "enabled events", "they would run on the replica too", "they are switched off when it follows: crosstwin rejoin "+in.View.Cluster+" "+name)
	}
}
