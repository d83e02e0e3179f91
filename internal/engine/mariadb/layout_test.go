package mariadb

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/enginetest"
	"crosstwin/internal/freeport"
	"crosstwin/test/workdir"
)

// packaged is a server with a tree of configuration files as Debian's packages lay it out,
// and nothing in it that a cluster needs.
func (p *pair) packaged(name string) *rig {
	t := p.t
	t.Helper()
	dir, port := workdir.New(t, "ctm"), freeport.Next()
	etc := filepath.Join(dir, "etc")
	tree := filepath.Join(etc, "mariadb.conf.d")
	if err := os.MkdirAll(tree, 0o755); err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{
		"mariadb.cnf": "[client-server]\nport = 3306\n!includedir " + tree + "\n",
		"mariadb.conf.d/50-server.cnf": fmt.Sprintf("[mysqld]\ndatadir = %s/data\nsocket = %[1]s/s\npid-file = %[1]s/pid\n"+
			"tmpdir = %[1]s\nport = %d\nbind-address = 127.0.0.1\ninnodb_buffer_pool_size = 32M\n"+
			"innodb_log_file_size = 16M\nskip-name-resolve\nevent_scheduler = ON\n", dir, port)} {
		if err := os.WriteFile(filepath.Join(etc, file), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("mariadb.cnf", filepath.Join(etc, "my.cnf")); err != nil {
		t.Fatal(err)
	}
	return p.addAt(name, dir, filepath.Join(etc, "my.cnf"), port)
}

// byHost starts the server as its host would: with its configuration and nothing else.
func (r *rig) byHost() {
	r.t.Helper()
	s, err := r.Spawn(r.cfg.LogFile, daemon, "--defaults-file="+r.cfg.ConfigFile)
	r.ok(err)
	r.ok(s.Await(r.ctx(), func() bool { return r.answers(r.ctx()) == nil }, 20*time.Millisecond))
}

// A server of the packages, as installed, becomes a primary and is copied to another: what
// they lack stands in a file of the agent's own, the administrator's files stay, and a start
// by the host finds a replica that follows.
func TestPackagedConfiguration(t *testing.T) {
	t.Parallel()
	p := &pair{t, enginetest.Peers{}}
	wren := p.packaged("wren")
	p.install(wren)
	wren.byHost()
	o := wren.Observe(wren.ctx(), true)
	for _, name := range []string{"log_bin", "server_id", "gtid_strict_mode", "report_host"} {
		if o.Config.AtNextStart[name] == "" {
			t.Errorf("%s is not set at the next start: %v", name, o.Config.AtNextStart)
		}
	}
	if !o.Process.Accepting || !o.Process.Writable || o.Process.Problem != "" || o.Config.Problem != "" ||
		!o.Config.Apart ||
		o.Config.AtNextStart["bind_address"] != "" {
		t.Errorf("as installed: %+v %+v", o.Process, o.Config)
	}
	wren.ok(wren.Fence(wren.ctx(), true))
	wren.ok(wren.Start(wren.ctx(), observation.Primary))
	if o = wren.Observe(wren.ctx(), true); len(o.Config.AtNextStart) != 0 || o.Config.Settings["log_bin"] != "ON" ||
		!o.Data.ClosedByDefault || o.Config.Settings["event_scheduler"] != "ON" {
		t.Errorf("started by its agent: %+v", o.Config)
	}
	wren.prepare(verb.Prepare{Account: true})
	wren.sql("create database d; create table d.t (id int primary key); insert into d.t values (1), (2)")

	plover := p.packaged("plover")
	p.seed(plover, wren, "")
	plover.ok(plover.Fence(plover.ctx(), true))
	plover.byHost()
	o = plover.awaitLink("streams again", func(u *observation.Upstream) bool { return u.Connected })
	if o.Process.Writable || o.Log.ServerID == wren.Observe(wren.ctx(), false).Log.ServerID || o.Log.ServerID < 2 {
		t.Errorf("started by its host: %+v, server %d", o.Process, o.Log.ServerID)
	}
	for _, r := range []*rig{wren, plover} {
		etc := filepath.Dir(r.cfg.ConfigFile)
		own := filepath.Join(etc, "mariadb.conf.d", "zz-crosstwin.cnf")
		fi, err := os.Stat(own)
		text, rerr := os.ReadFile(own)
		if err != nil || rerr != nil || fi.Mode().Perm() != 0o644 || strings.Contains(string(text), "skip_slave_start") {
			t.Errorf("%s's own file: %s %v %v", r.cfg.Name, text, err, rerr)
		}
		if l, err := os.Readlink(r.cfg.ConfigFile); err != nil || l != "mariadb.cnf" {
			t.Errorf("my.cnf leads to %q: %v", l, err)
		}
		dba, err := os.ReadFile(filepath.Join(etc, "mariadb.conf.d", "50-server.cnf"))
		if err != nil || strings.Contains(string(dba), "crosstwin") {
			t.Errorf("the administrator's file: %s %v", dba, err)
		}
	}
}

// What the agent writes is not taken for what the administrator gave, also where both give
// the same setting.
func TestWithoutOwn(t *testing.T) {
	list := listOptions("mariadbd would have been started with the following arguments:\n" +
		"--server-id=7 --log_bin=own --bind-address=127.0.0.1 --sync_binlog=0 --server_id=99 --sync-binlog=1 --read_only=1\n")
	own := "# of ours\n[mariadbd]\nserver_id = 99\nsync_binlog = 1\nread_only = 1\n!include /x\n"
	want := map[string]string{"server_id": "7", "log_bin": "own", "bind_address": "127.0.0.1", "sync_binlog": "0"}
	if got := withoutOwn(list, own); !maps.Equal(got, want) {
		t.Errorf("%v", got)
	}
	if got := withoutOwn(list, ""); got["server_id"] != "99" || got["read_only"] != "1" {
		t.Errorf("without a file of ours: %v", got)
	}
}

// Nothing is set over what the administrator gave.
func TestWanted(t *testing.T) {
	e := &Engine{cfg: Config{Name: "wren", Host: "127.0.0.1", Listen: "127.0.0.1", Port: 3306}}
	got := e.wanted(map[string]string{"server_id": "7", "log_bin": "", "binlog_format": "MIXED",
		"bind_address": "10.0.0.9"})
	for _, name := range []string{"server_id", "log_bin", "binlog_format"} {
		if got[name] != "" {
			t.Errorf("%s = %s", name, got[name])
		}
	}
	if got["bind_address"] != "10.0.0.9,127.0.0.1" || got["gtid_strict_mode"] != "1" {
		t.Errorf("%v", got)
	}
	if a, b := serverID("wren", "10.0.0.1", 3306), serverID("plover", "10.0.0.2", 3306); a == b || a == "0" || a == "1" {
		t.Errorf("numbers %s and %s", a, b)
	}
}
