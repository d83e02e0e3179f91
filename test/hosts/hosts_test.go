// Package hosts tries the packages on bare Debian hosts with the service manager as their
// process 1: "make hosts-test". CROSSTWIN_HOSTS names the program that boots such hosts
// (debian-host; its template has to be there, with postgresql-15, mariadb-server and
// mariadb-backup in it), CROSSTWIN_DEBS the directory of the packages.
package hosts

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/view"
)

// world is three hosts: harbour with the service, gull and tern with databases.
type world struct {
	t         *testing.T
	tool, net string
	subnet    string   // what its addresses begin with
	as        []string // how an enrolment is run: nil as root
	addresses map[string]string
}

// bootWorld boots the hosts as the packages of the engines leave them.
func bootWorld(t *testing.T, subnet int) *world {
	t.Helper()
	tool, debs := os.Getenv("CROSSTWIN_HOSTS"), os.Getenv("CROSSTWIN_DEBS")
	if tool == "" || debs == "" {
		t.Skip("no Debian hosts: make hosts-test runs this")
	}
	w := &world{t: t, tool: tool, net: fmt.Sprintf("ct%d", subnet), subnet: fmt.Sprintf("10.77.%d.", subnet),
		addresses: map[string]string{}}
	t.Cleanup(func() {
		for name := range w.addresses {
			w.do("stop", w.host(name))
		}
		exec.Command("ip", "netns", "del", w.net).Run()
	})
	for i, name := range []string{"harbour", "gull", "tern"} {
		w.addresses[name] = fmt.Sprint(w.subnet, 10+i)
		w.must("boot", w.host(name), w.addresses[name])
	}
	return w
}

// newWorld boots the hosts, with Cross Twin's packages, and starts the service.
func newWorld(t *testing.T, subnet int) *world {
	t.Helper()
	w := bootWorld(t, subnet)
	for name := range w.addresses {
		w.install(name, os.Getenv("CROSSTWIN_DEBS"), name != "harbour")
	}
	w.run("harbour", "systemctl", "enable", "--now", "crosstwin")
	w.until("the service answers", func() bool {
		_, err := w.do("run", w.host("harbour"), "crosstwin", "login", "--service",
			"https://"+w.addresses["harbour"]+":7710", "--ca", "/var/lib/crosstwin/authority.crt", "--token-file",
			"/var/lib/crosstwin/first-token")
		return err == nil
	})
	return w
}

// host is a host's name on this machine: worlds live side by side.
func (w *world) host(name string) string { return w.net + name }

func (w *world) do(args ...string) (string, error) {
	c := exec.Command(w.tool, args...)
	c.Env = append(os.Environ(), "NET="+w.net)
	out, err := c.CombinedOutput()
	return string(out), err
}

func (w *world) must(args ...string) string {
	w.t.Helper()
	out, err := w.do(args...)
	if err != nil {
		w.t.Fatalf("%s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return out
}

// run runs a command on a host as root.
func (w *world) run(name string, args ...string) string {
	w.t.Helper()
	return w.must(append([]string{"run", w.host(name)}, args...)...)
}

// ct runs Cross Twin's command line on the service's host.
func (w *world) ct(args ...string) string {
	w.t.Helper()
	return w.run("harbour", append([]string{"timeout", "180", "crosstwin"}, args...)...)
}

// install installs the packages on a host, or newer ones over them.
func (w *world) install(name, debs string, agent bool) {
	w.t.Helper()
	files := []string{"crosstwin"}
	if agent {
		files = append(files, "crosstwin-agent")
	}
	args := []string{"dpkg", "--install"}
	for _, f := range files {
		found, _ := filepath.Glob(filepath.Join(debs, f+"_*.deb"))
		if len(found) != 1 {
			w.t.Fatalf("packages %s in %s: %q", f, debs, found)
		}
		w.must("copy", found[0], w.host(name)+":/root/"+f+".deb")
		args = append(args, "/root/"+f+".deb")
	}
	w.run(name, args...)
}

// enroll enrols a host's server; the printed command with the data directory named.
func (w *world) enroll(cluster, name, dataDir string) string {
	w.t.Helper()
	var code struct{ Code string }
	if err := json.Unmarshal([]byte(w.ct("server", "code", cluster, name, "-o", "json")), &code); err != nil {
		w.t.Fatal(err)
	}
	args := append(slices.Clone(w.as), "crosstwin", "agent", "enroll", "--service",
		"https://"+w.addresses["harbour"]+":7710", "--code", code.Code, "--host", w.addresses[name], "--data-dir", dataDir)
	out := w.run(name, args...)
	if w.as != nil {
		w.run(name, "systemctl", "restart", "crosstwin-agent")
	}
	return out
}

func (w *world) until(what string, so func() bool) {
	w.t.Helper()
	for end := time.Now().Add(2 * time.Minute); !so(); time.Sleep(300 * time.Millisecond) {
		if time.Now().After(end) {
			w.t.Fatalf("never: %s\n%s", what, w.ct("status"))
		}
	}
}

// active waits for a unit that is being started: the service manager of these hosts may not
// end processes by their control group, as a restart in the middle of a start needs it to.
func (w *world) active(name, unit string) {
	w.until("the unit on "+name+" is active", func() bool {
		out, _ := w.do("run", w.host(name), "systemctl", "is-active", unit)
		return strings.HasPrefix(out, "active")
	})
}

// settled waits until a server is primary and the other follows in step and may take over:
// one that was started just now has to be proven first. Beside each a deadman runs.
func (w *world) settled(cluster, primary string) {
	w.t.Helper()
	w.until(primary+" is primary, the other in step, each with its deadman", func() bool {
		var v view.View
		out, err := w.do("run", w.host("harbour"), "crosstwin", "status", cluster, "-o", "json")
		if err != nil || json.Unmarshal([]byte(out), &v) != nil || v.Primary != primary {
			return false
		}
		for _, s := range v.Servers {
			if s.Health != view.TakesWrites && (s.Health != view.InStep || !s.MayTakeOver) {
				return false
			}
			if o := s.Observation; o == nil || o.Permission == nil || !o.Permission.Deadman {
				return false
			}
		}
		return true
	})
}

// withoutRoot prepares a host for an agent that runs as the database's own user, by what
// docs/debian.md says and nothing else.
func (w *world) withoutRoot(name string, e engineOf) {
	w.t.Helper()
	w.run(name, "install", "-d", "-o", e.user, "-m", "711", "/var/lib/crosstwin-agent")
	w.run(name, "mkdir", "-p", "/etc/systemd/system/crosstwin-agent.service.d")
	for file, to := range map[string]string{"user.conf": "/etc/systemd/system/crosstwin-agent.service.d/user.conf",
		"sudoers": "/etc/sudoers.d/crosstwin-agent"} {
		text, err := os.ReadFile(filepath.Join("../../deploy/agent-without-root", file))
		if err != nil {
			w.t.Fatal(err)
		}
		mine := filepath.Join(w.t.TempDir(), file)
		if err := os.WriteFile(mine, []byte(strings.NewReplacer("postgresql@15-main.service", e.unit, "postgres ", e.user+" ",
			"User=postgres", "User="+e.user).Replace(string(text))), 0o600); err != nil {
			w.t.Fatal(err)
		}
		w.must("copy", mine, w.host(name)+":"+to)
		w.run(name, "chmod", "440", to)
	}
	if e.user == "mysql" {
		w.run(name, "install", "-o", "mysql", "-g", "mysql", "-m", "644", "/dev/null",
			"/etc/mysql/mariadb.conf.d/zz-crosstwin.cnf")
	}
	w.run(name, "systemctl", "daemon-reload")
}

// engineOf is what differs by engine.
type engineOf struct {
	name, dataDir, unit, process string
	user                         string // of the database
	owner                        bool   // the agents run as that user
	furnish                      func(w *world)
	write                        func(w *world, name string, n int)
	count                        func(w *world, name string) string
	began                        func(w *world, name string) string
	atHost                       func(w *world, name string)
	pair                         func(w *world) // has tern follow gull, by hand
	without                      string         // takes the other engine off a host
	// space keeps rows of the primary's in a tablespace; nil: the engine has none.
	space func(w *world, primary, replica string)
}

func postgresHosts() engineOf {
	sql := func(w *world, name, statement string) string {
		return strings.TrimSpace(w.run(name, "runuser", "-u", "postgres", "--", "/usr/lib/postgresql/15/bin/psql", "-h",
			"/var/run/postgresql", "-Atc", statement))
	}
	return engineOf{name: "postgresql", pair: pairPostgres,
		without: "systemctl disable --now mariadb; rm -rf /var/lib/mysql",
		dataDir: "/var/lib/postgresql/15/main", unit: "postgresql@15-main.service",
		user:    "postgres",
		process: "head -n 1 /var/lib/postgresql/15/main/postmaster.pid",
		furnish: func(w *world) {
			sql(w, "gull", "create table orders (id int)")
			// Made from one template, both have one identity until this.
			w.run("tern", "pg_dropcluster", "--stop", "15", "main")
			w.run("tern", "pg_createcluster", "15", "main", "--start")
		},
		write: func(w *world, name string, n int) { sql(w, name, fmt.Sprintf("insert into orders values (%d)", n)) },
		count: func(w *world, name string) string { return sql(w, name, "select count(*) from orders") },
		began: func(w *world, name string) string { return sql(w, name, "select pg_postmaster_start_time()") },
		space: func(w *world, primary, replica string) {
			for _, name := range []string{primary, replica} { // a replica without it goes down
				w.run(name, "install", "-d", "-o", "postgres", "-m", "700", "/srv/fast")
			}
			sql(w, primary, "create tablespace fast location '/srv/fast'")
			sql(w, primary, "create table berths tablespace fast as select generate_series(1, 1000) as n")
		},
		atHost: func(w *world, name string) {
			if out := w.run(name, "pg_lsclusters", "-h"); !strings.Contains(out, " online") {
				w.t.Errorf("pg_lsclusters on %s: %s", name, out)
			}
		}}
}

func mariadbHosts() engineOf {
	sql := func(w *world, name, statement string) string {
		return strings.TrimSpace(w.run(name, "mariadb", "--batch", "--skip-column-names", "--execute="+statement))
	}
	return engineOf{name: "mariadb", pair: pairMariaDB,
		without: "pg_dropcluster --stop 15 main",
		dataDir: "/var/lib/mysql", unit: "mariadb.service", user: "mysql",
		process: "pgrep -o mariadbd",
		furnish: func(w *world) {
			sql(w, "gull", "create database freight; create table freight.orders (id int primary key)")
		},
		write: func(w *world, name string, n int) {
			sql(w, name, fmt.Sprintf("insert into freight.orders values (%d)", n))
		},
		count: func(w *world, name string) string { return sql(w, name, "select count(*) from freight.orders") },
		began: func(w *world, name string) string {
			return w.run(name, "systemctl", "show", "--property=ExecMainStartTimestampMonotonic", "mariadb")
		},
		atHost: func(*world, string) {}}
}

// The whole story on two hosts as their packages leave them: the server with data restarts
// once to listen for the other, the other is seeded, roles change, hosts restart their
// servers, a crash, an upgrade and a removal. The service manager's units say what is so.
func TestStory(t *testing.T) {
	for i, e := range []engineOf{postgresHosts(), mariadbHosts()} {
		for j, owner := range []bool{false, true} {
			e := e
			e.owner = owner
			t.Run(fmt.Sprintf("%s/without root %t", e.name, owner), func(t *testing.T) {
				t.Parallel()
				story(t, newWorld(t, 41+2*i+j), e)
			})
		}
	}
}

func story(t *testing.T, w *world, e engineOf) {
	e.furnish(w)
	if e.owner {
		w.as = []string{"runuser", "-u", e.user, "--"}
		w.withoutRoot("gull", e)
		w.withoutRoot("tern", e)
	}
	e.write(w, "gull", 1)
	w.ct("cluster", "add", "orders", "--engine", e.name)
	w.ct("server", "add", "orders", "gull", "--primary")
	if out := w.enroll("orders", "gull", e.dataDir); !strings.Contains(out, "started by     "+e.unit) ||
		!e.owner && !strings.Contains(out, "its agent runs") {
		t.Errorf("the enrolment says: %s", out)
	}
	w.ct("server", "add", "orders", "tern")
	w.enroll("orders", "tern", e.dataDir)
	w.until("both are seen", func() bool {
		return strings.Contains(w.ct("status", "orders"), "takes writes on gull; tern is adrift")
	})
	if out := w.run("tern", "systemctl", "is-active", e.unit); !strings.HasPrefix(out, "active") {
		t.Errorf("a server of somebody else's was stopped: %s", out)
	}
	w.ct("restart", "orders", "gull", "--yes")
	w.ct("seed", "orders", "tern", "--replace", "--yes", "--accept-loss", "tern")
	w.settled("orders", "gull")
	e.write(w, "gull", 2)

	w.ct("switchover", "orders", "--yes")
	w.settled("orders", "tern")
	e.write(w, "tern", 3)
	w.ct("switchover", "orders", "--yes")
	w.settled("orders", "gull")
	for _, name := range []string{"gull", "tern"} {
		w.active(name, e.unit)
		w.run(name, "systemctl", "restart", e.unit) // no incident
		w.settled("orders", "gull")
		if out := w.run(name, "systemctl", "is-active", e.unit); !strings.HasPrefix(out, "active") {
			t.Errorf("the unit on %s is %s", name, out)
		}
		e.atHost(w, name)
	}

	w.rebooted(e)

	began := e.began(w, "gull")
	w.install("gull", os.Getenv("CROSSTWIN_DEBS"), true)
	w.settled("orders", "gull")
	if now := e.began(w, "gull"); now != began {
		t.Errorf("an upgrade restarted the database: it began %s, and %s before", now, began)
	}

	e.write(w, "gull", 4)
	w.settled("orders", "gull")
	w.run("gull", "sh", "-c", "kill -9 $("+e.process+")")
	w.ct("failover", "orders", "--yes")
	w.until("the fenced server stays down", func() bool {
		out, _ := w.do("run", w.host("gull"), "systemctl", "is-active", e.unit)
		return !strings.HasPrefix(out, "act")
	})
	e.write(w, "tern", 5)
	w.ct("rejoin", "orders", "gull", "--yes")
	w.settled("orders", "tern")
	for _, name := range []string{"gull", "tern"} {
		if n := e.count(w, name); n != "5" {
			t.Errorf("%s holds %s of 5 rows", name, n)
		}
	}

	w.proved(e, "tern", "gull")
	w.removedAndAdopted(e, "tern")

	began = e.began(w, "gull")
	w.run("gull", "dpkg", "--purge", "crosstwin-agent")
	if e.began(w, "gull") != began || e.count(w, "gull") != "6" {
		t.Error("the removal of the agent's package touched the database")
	}
}
