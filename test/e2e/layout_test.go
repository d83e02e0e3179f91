package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/position"
	"crosstwin/internal/core/view"
	"crosstwin/internal/freeport"
	"crosstwin/test/workdir"
)

// debianHost is a host with the packages' directories to itself and without a service
// manager: a namespace of mounts and processes, on this machine's loopback.
type debianHost struct {
	t    *testing.T
	name string
	port int
	init *exec.Cmd
}

// ownTrees are what the packages keep on a host; a new one has /etc as installed, and no data.
const ownTrees = `set -e
for d in /etc/mysql /etc/postgresql; do
  mkdir -p "$1$d"; cp -a $d/. "$1$d/"; mount --bind "$1$d" $d
done
rm -rf /etc/postgresql/*
for d in /var/lib/mysql /var/lib/postgresql /var/log/postgresql; do mount -t tmpfs tmpfs $d; done
mount -t tmpfs tmpfs /run
mkdir -p /run/mysqld /run/postgresql
chown mysql: /var/lib/mysql /run/mysqld
chown postgres: /var/lib/postgresql /var/log/postgresql /run/postgresql
echo up
while sleep 1; do :; done`

func bootDebian(t *testing.T, name string) *debianHost {
	t.Helper()
	h := &debianHost{t: t, name: name, port: freeport.Next()}
	// Processes whose parent has ended become children of this shell, which reaps them.
	h.init = exec.Command("unshare", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "sh", "-c", ownTrees,
		"sh", t.TempDir())
	out, err := h.init.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	h.init.Stderr = os.Stderr
	if err := h.init.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.init.Process.Kill(); h.init.Wait() })
	said := make([]byte, 3)
	if _, err := out.Read(said); err != nil || string(said) != "up\n" {
		t.Fatalf("%s does not come up: %q %v", name, said, err)
	}
	return h
}

// command prepares a program to run on the host.
func (h *debianHost) command(args ...string) *exec.Cmd {
	pid, err := exec.Command("pgrep", "-P", strconv.Itoa(h.init.Process.Pid)).Output()
	if err != nil {
		h.t.Fatal(err)
	}
	c := exec.Command("nsenter", append([]string{"--target", strings.TrimSpace(string(pid)), "--mount", "--pid", "--"},
		args...)...)
	c.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8", "HOME=/root"}
	return c
}

func (h *debianHost) run(args ...string) string {
	h.t.Helper()
	out, err := h.command(args...).CombinedOutput()
	if err != nil {
		h.t.Fatalf("on %s: %s: %v\n%s", h.name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// packaged is an engine as its packages leave it on such a host.
type packaged struct {
	engine    string
	install   func(h *debianHost)
	startedBy string
	sql       func(h *debianHost, statement string) string
	kill      string
	// settings is what an administrator keeps, which stays as it is.
	settings string
}

var debianEngines = map[string]packaged{
	"PostgreSQL": {engine: position.EnginePostgres, startedBy: "/usr/bin/pg_ctlcluster 15 main start",
		settings: "cat /etc/postgresql/15/main/start.conf /etc/postgresql/15/main/environment; " +
			"sed '/crosstwin/,$d' /etc/postgresql/15/main/postgresql.conf",
		kill: "kill -9 $(head -1 /var/lib/postgresql/15/main/postmaster.pid)",
		install: func(h *debianHost) {
			h.run("pg_createcluster", "15", "main", "--port", strconv.Itoa(h.port))
			h.run("pg_ctlcluster", "15", "main", "start")
		},
		sql: func(h *debianHost, statement string) string {
			return h.run("runuser", "-u", "postgres", "--", "/usr/lib/postgresql/15/bin/psql", "-h", "/run/postgresql", "-p",
				strconv.Itoa(h.port), "-Atc", statement)
		}},
	"MariaDB": {engine: position.EngineMariaDB, startedBy: "the agent itself",
		settings: "cat /etc/mysql/mariadb.conf.d/5* /etc/mysql/mariadb.conf.d/60-here.cnf; readlink /etc/mysql/my.cnf",
		kill:     "kill -9 $(cat /run/mysqld/mysqld.pid)",
		install: func(h *debianHost) {
			dir := map[string]string{"gull": "/var/lib/mysql", "tern": "/var/lib/mysql/moved"}[h.name]
			h.run("sh", "-c", fmt.Sprintf("printf '[mysqld]\\nport = %d\\ndatadir = %s\\n' "+
				">/etc/mysql/mariadb.conf.d/60-here.cnf", h.port, dir))
			h.run("runuser", "-u", "mysql", "--", "mariadb-install-db", "--skip-test-db")
			h.run("sh", "-c", "runuser -u mysql -- setsid /usr/sbin/mariadbd >/run/mysqld/log 2>&1 & "+
				"until mariadb --execute='select 1' >/run/mysqld/answer 2>&1; do sleep 0.1; done")
		},
		sql: func(h *debianHost, statement string) string {
			return h.run("mariadb", "--skip-column-names", "--execute="+statement)
		}},
}

// Servers as Debian's packages set them up, on hosts without a service manager: found by
// themselves, taken over, copied, turned, crashed and rejoined; the administrator's files
// stay as they are. (With a service manager: make hosts-test.)
func TestDebianLayout(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("hosts of their own need root")
	}
	for name, e := range debianEngines {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			debianLayout(t, e)
		})
	}
}

func debianLayout(t *testing.T, e packaged) {
	d := serve(t, nil, "--dir", "DIR/records", "--listen", "127.0.0.1:PORT")
	url := fmt.Sprintf("http://127.0.0.1:%d", d.port)
	ct := func(args ...string) string {
		t.Helper()
		out, code := d.run(args...)
		if code != 0 {
			t.Fatalf("crosstwin %s: %d\n%s", strings.Join(args, " "), code, out)
		}
		return out
	}
	ct("login", "--service", url, "--token-file", filepath.Join(d.dir, "records", "first-token"))
	ct("cluster", "add", "orders", "--engine", e.engine, "--server", "gull", "--server", "tern")
	agents := workdir.New(t, "ctl")
	hosts, before := map[string]*debianHost{}, map[string]string{}
	for _, name := range []string{"gull", "tern"} {
		h := bootDebian(t, name)
		hosts[name] = h
		e.install(h)
		before[name] = h.run("sh", "-c", e.settings)
		var code struct{ Code string }
		if err := json.Unmarshal([]byte(ct("server", "code", "orders", name, "-o", "json")), &code); err != nil {
			t.Fatal(err)
		}
		dir := filepath.Join(agents, name)
		out := h.run(binary, "agent", "enroll", "--service", url, "--code", code.Code, "--dir", dir, "--host", "127.0.0.1",
			"--listen", net.JoinHostPort("127.0.0.1", strconv.Itoa(freeport.Next())))
		if !strings.Contains(out, "started by     "+e.startedBy) {
			t.Errorf("the enrolment says: %s", out)
		}
		agent := h.command(binary, "agent", "--dir", dir)
		log := filepath.Join(agents, name+".log")
		f, err := os.Create(log)
		if err != nil {
			t.Fatal(err)
		}
		agent.Stdout, agent.Stderr = f, f
		if err := agent.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			agent.Process.Kill()
			agent.Wait()
			if b, _ := os.ReadFile(log); t.Failed() {
				t.Logf("%s's agent:\n%s", name, b)
			}
		})
	}
	e.sql(hosts["gull"], "create table "+e.table()+" (id int primary key)")
	await := func(primary string, accepts func(v view.View) bool) {
		t.Helper()
		var v view.View
		for end := time.Now().Add(time.Minute); ; time.Sleep(100 * time.Millisecond) {
			out, code := d.run("status", "orders", "-o", "json")
			if code == 0 && json.Unmarshal([]byte(out), &v) == nil && v.Primary == primary && accepts(v) {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%s is not primary of a sound pair: %s", primary, out)
			}
		}
	}
	inStep := func(v view.View) bool {
		for _, s := range v.Servers {
			if s.Health != view.TakesWrites && (s.Health != view.InStep || !s.MayTakeOver) {
				return false
			}
		}
		return len(v.Servers) == 2
	}
	await("", func(v view.View) bool {
		return len(v.Servers) == 2 && v.Servers[0].LastContactSeconds >= 0 && v.Servers[1].LastContactSeconds >= 0
	})
	ct("adopt", "orders", "--primary", "gull", "--yes")
	ct("seed", "orders", "tern", "--replace", "--yes", "--accept-loss", "tern")
	await("gull", inStep)
	ct("switchover", "orders", "--yes")
	await("tern", inStep)
	e.sql(hosts["tern"], "insert into "+e.table()+" values (1)")
	tables := map[bool]string{true: "there are no tables to compare", false: "all compared tables match"}
	if out := ct("compare", "orders", "--yes"); !strings.Contains(out, tables[e.engine == position.EngineMariaDB]) {
		t.Errorf("the comparison says: %s", out)
	}
	hosts["tern"].run("sh", "-c", e.kill)
	ct("failover", "orders", "--yes")
	e.sql(hosts["gull"], "insert into "+e.table()+" values (2)")
	ct("rejoin", "orders", "tern", "--yes")
	await("gull", inStep)
	for name, h := range hosts {
		if n := strings.TrimSpace(e.sql(h, "select count(*) from "+e.table())); n != "2" {
			t.Errorf("%s holds %s of 2 rows", name, n)
		}
		if now := h.run("sh", "-c", e.settings); now != before[name] {
			t.Errorf("the administrator's files on %s are other ones:\n%s\nand before:\n%s", name, now, before[name])
		}
	}
	if e.engine == position.EnginePostgres {
		if out := hosts["gull"].run("pg_lsclusters", "-h"); !strings.Contains(out, "online") {
			t.Errorf("pg_lsclusters: %s", out)
		}
	}
}

func (e packaged) table() string {
	if e.engine == position.EngineMariaDB {
		return "mysql.lines_of_the_test"
	}
	return "lines_of_the_test"
}
