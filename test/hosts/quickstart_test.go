package hosts

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
)

// command is one line of docs/quickstart.md: where it is run, and what is answered to it.
type command struct{ host, line, answer string }

var (
	prompted = regexp.MustCompile(`^    (harbour|gull|tern)# (.+)$`)
	answered = regexp.MustCompile(`^    (?:Do this\? \(yes/no\)|Type \w+ to do this): (\w+)$`)
)

// page reads the commands under a heading of the quick start.
func page(t *testing.T, heading string) (out []command) {
	t.Helper()
	text, err := os.ReadFile("../../docs/quickstart.md")
	if err != nil {
		t.Fatal(err)
	}
	_, part, found := strings.Cut(string(text), "\n## "+heading+"\n")
	if !found {
		t.Fatalf("the quick start has no %q", heading)
	}
	part, _, _ = strings.Cut(part, "\n## ")
	for line := range strings.Lines(part) {
		line = strings.TrimRight(line, "\n")
		if m := prompted.FindStringSubmatch(line); m != nil {
			out = append(out, command{host: m[1], line: m[2]})
		} else if m := answered.FindStringSubmatch(line); m != nil {
			out[len(out)-1].answer = m[1]
		}
	}
	return out
}

// follow runs the commands of the quick start as they stand there, at a terminal, with this
// world's addresses and the codes that were printed.
func (w *world) follow(commands []command) {
	w.t.Helper()
	codes := map[string]string{}
	for _, c := range commands {
		line := strings.ReplaceAll(c.line, "10.77.0.", w.subnet)
		line = strings.ReplaceAll(line, "--code CODE", "--code "+codes[c.host])
		w.t.Logf("%s# %s", c.host, line)
		x := exec.Command(w.tool, "run", w.host(c.host), "timeout", "300", "script", "-qec", "cd /root && "+line, "/dev/null")
		x.Env = append(os.Environ(), "NET="+w.net)
		x.Stdin = strings.NewReader(c.answer + "\n")
		out, err := x.CombinedOutput()
		w.t.Logf("%s", out)
		if err != nil {
			w.t.Fatalf("%s# %s: %v", c.host, line, err)
		}
		for _, m := range regexp.MustCompile(`on (\w+):\s+crosstwin agent enroll .* --code (\S+)`).FindAllStringSubmatch(
			string(out), -1) {
			codes[m[1]] = m[2]
		}
	}
}

// newBareWorld boots the hosts and puts the packages there, and does nothing else.
func newBareWorld(t *testing.T, subnet int) *world {
	t.Helper()
	w := bootWorld(t, subnet)
	for _, name := range []string{"harbour", "gull", "tern"} {
		files, _ := filepath.Glob(filepath.Join(os.Getenv("CROSSTWIN_DEBS"), "*.deb"))
		for _, f := range files {
			w.must("copy", f, w.host(name)+":/root/"+filepath.Base(f))
		}
	}
	return w
}

// The quick start, line by line: five commands from a server with data and an empty one to
// a pair that is proven and can change roles; four where a pair runs already.
func TestQuickStart(t *testing.T) {
	for i, e := range []engineOf{postgresHosts(), mariadbHosts()} {
		for j, running := range []bool{false, true} {
			heading := map[string]string{"postgresql": "PostgreSQL", "mariadb": "MariaDB"}[e.name]
			most := 5
			if heading += ": from one server to a pair"; running {
				heading, most = strings.Replace(heading, "from one server to a pair", "a pair that runs already", 1), 4
			}
			t.Run(strings.ReplaceAll(heading, " ", "-"), func(t *testing.T) {
				t.Parallel()
				commands := page(t, heading)
				if len(commands) != most {
					t.Fatalf("%d commands, not %d", len(commands), most)
				}
				w := newBareWorld(t, 51+2*i+j)
				for _, name := range []string{"gull", "tern"} {
					w.run(name, "sh", "-c", e.without) // the hosts of the page have one engine
				}
				e.furnish(w)
				e.write(w, "gull", 1)
				if running {
					e.pair(w)
				}
				began := e.began(w, "gull")
				w.follow(page(t, "Install"))
				w.follow(commands)
				w.proven(e, running, began)
			})
		}
	}
}

// proven looks at a pair as its administrator would.
func (w *world) proven(e engineOf, running bool, began string) {
	w.t.Helper()
	w.settled("orders", "gull")
	if same := e.began(w, "gull") == began; same != running {
		w.t.Errorf("the server with the data was restarted: %t", !same)
	}
	e.write(w, "gull", 2)
	w.t.Log(w.ct("status", "orders"))
	w.ct("switchover", "orders", "--yes", "--compare")
	w.settled("orders", "tern")
	e.write(w, "tern", 3)
	for _, name := range []string{"gull", "tern"} {
		w.until(name+" has all rows", func() bool { return e.count(w, name) == "3" })
	}
	var v view.View
	if err := json.Unmarshal([]byte(w.ct("status", "orders", "-o", "json")), &v); err != nil {
		w.t.Fatal(err)
	}
	for _, p := range v.Problems {
		w.t.Logf("problem: %s: %s", p.Rule, p.Text)
	}
	if v.Operation != nil && v.Operation.Kind == operation.Adopt {
		w.t.Error("the adoption still runs")
	}
}

// pairPostgres has tern follow gull as an administrator sets that up.
func pairPostgres(w *world) {
	const bin = "/usr/lib/postgresql/15/bin/"
	as := func(name string, args ...string) string {
		return w.run(name, append([]string{"runuser", "-u", "postgres", "--"}, args...)...)
	}
	sql := func(name, statement string) string {
		return as(name, bin+"psql", "-h", "/var/run/postgresql", "-Atc", statement)
	}
	sql("gull", "alter system set listen_addresses = '*'")
	sql("gull", "create role mate login replication password 'only-a-test'")
	w.run("gull", "sh", "-c", "echo 'host replication mate "+w.addresses["tern"]+"/32 scram-sha-256' >>"+
		"/etc/postgresql/15/main/pg_hba.conf; systemctl restart postgresql@15-main")
	w.run("tern", "sh", "-c", "systemctl stop postgresql@15-main; rm -rf /var/lib/postgresql/15/main")
	as("tern", bin+"pg_basebackup", "-d", "host="+w.addresses["gull"]+" user=mate password=only-a-test "+
		"application_name=mates_tern", "-D", "/var/lib/postgresql/15/main", "-R", "-C", "-S", "mates_tern", "-X", "stream",
		"--checkpoint=fast")
	as("tern", "sh", "-c", "echo \"listen_addresses = '*'\" >>/var/lib/postgresql/15/main/postgresql.auto.conf")
	w.run("tern", "systemctl", "start", "postgresql@15-main")
	w.until("tern follows", func() bool {
		return strings.TrimSpace(sql("gull", "select count(*) from pg_stat_replication where state = 'streaming'")) == "1"
	})
}

// pairMariaDB has tern follow gull by file and position.
func pairMariaDB(w *world) {
	for i, name := range []string{"gull", "tern"} {
		w.run(name, "sh", "-c", fmt.Sprintf("printf '[mysqld]\\nserver_id=%d\\nlog_bin=bin\\nlog_slave_updates=1\\n"+
			"binlog_format=ROW\\nbind_address=0.0.0.0\\nsync_binlog=1\\ngtid_strict_mode=1\\n' "+
			">/etc/mysql/mariadb.conf.d/60-pair.cnf; systemctl restart mariadb", i+1))
	}
	w.run("gull", "mariadb", "--execute=create user mate@'"+w.addresses["tern"]+"' identified by 'only-a-test'; "+
		"grant replication slave on *.* to mate@'"+w.addresses["tern"]+"'")
	dump := filepath.Join(w.t.TempDir(), "dump.sql")
	text := w.run("gull", "mariadb-dump", "--all-databases", "--master-data=1", "--single-transaction",
		"--flush-privileges")
	if err := os.WriteFile(dump, []byte(text), 0o600); err != nil {
		w.t.Fatal(err)
	}
	w.must("copy", dump, w.host("tern")+":/root/dump.sql")
	w.run("tern", "sh", "-c", "mariadb --execute=\"change master to master_host='"+w.addresses["gull"]+
		"', master_user='mate', master_password='only-a-test', master_use_gtid=no\" && mariadb </root/dump.sql && "+
		"mariadb --execute='reset master; set global read_only=1; start slave'")
	w.run("gull", "mariadb", "--execute=create database ledger")
	time.Sleep(time.Second)
	out := w.run("tern", "mariadb", "--execute=show slave status\\G")
	if !strings.Contains(out, "Slave_IO_Running: Yes") || !strings.Contains(out, "Using_Gtid: No") {
		w.t.Fatal(out)
	}
}
