package postgres

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// apartRig is a server whose configuration stands outside of its data directory, as
// Debian's packages have it.
func apartRig(t *testing.T, name, settings string) *rig {
	t.Helper()
	r := newRigWith(t, name, func(c *Config) { c.ConfigFile = filepath.Join(c.WorkDir, "etc", "postgresql.conf") })
	etc := filepath.Dir(r.cfg.ConfigFile)
	id, err := r.Owner()
	if err == nil {
		err = os.Mkdir(etc, 0o755)
	}
	if err == nil {
		err = os.Chown(etc, int(id.UID), int(id.GID))
	}
	for file, text := range map[string]string{
		"postgresql.conf": fmt.Sprintf("data_directory = '%s'\nhba_file = '%s/pg_hba.conf'\n"+
			"ident_file = '%[2]s/pg_ident.conf'\n"+
			"port = %d\nunix_socket_directories = '%s'\nlisten_addresses = 'localhost'\n%s", r.cfg.DataDir, etc, r.cfg.Port,
			r.cfg.SocketDir, settings),
		"pg_hba.conf": "local all all trust\n", "pg_ident.conf": ""} {
		if err == nil {
			err = r.WriteOwned(filepath.Join(etc, file), []byte(text))
		}
		if err == nil {
			err = os.Chmod(filepath.Join(etc, file), 0o640)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// A configuration outside of the data directory stays each server's own through copy,
// role change and rewind, but for marked blocks; a copy that could not run with it is
// refused before anything is removed.
func TestConfigurationApart(t *testing.T) {
	t.Parallel()
	p := apartRig(t, "gull", "max_connections = 60\nwal_keep_size = '64MB'\n")
	p.utility("initdb", "-D", p.cfg.DataDir, "-U", "postgres", "--auth=trust")
	before, err := os.ReadFile(p.cfg.ConfigFile)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Start(p.ctx(), observation.Primary); err != nil {
		t.Fatal(err)
	}
	o := p.Observe(p.ctx(), true)
	if !o.Config.Apart || len(o.Config.AtNextStart) != 0 || o.Config.Settings["copied_paths"] != "" ||
		o.Config.Settings["wal_log_hints"] != "on" {
		t.Errorf("%+v", o.Config)
	}
	p.sql("create table t (a int)", "insert into t values (1)", "alter system set maintenance_work_mem = '77MB'")
	r := apartRig(t, "tern", "max_connections = 50\nwal_keep_size = '64MB'\n")
	source := account(t, p, r)
	limits := map[string]string{"max_connections": o.Config.Settings["max_connections"]}
	seed := verb.Seed{Source: source, Slot: "ct_tern", Line: o.Log.Line, Limits: limits, Apart: true, Replace: true}
	quiet := func(string, int64, int64) {}
	if err := r.Make(); err != nil {
		t.Fatal(err)
	}
	if err := r.Seed(r.ctx(), seed, quiet); err == nil || !strings.Contains(err.Error(),
		"tern sets max_connections to 50, and its primary runs with 60") {
		t.Errorf("a copy with too low a limit: %v", err)
	}
	own := apartConfig(t, r, "max_connections = 50", "max_connections = 70")
	for try, work := range []string{"4MB", "7MB"} {
		if err := r.Fence(r.ctx(), true); err != nil {
			t.Fatal(err)
		}
		if err := r.Seed(r.ctx(), seed, quiet); err != nil {
			t.Fatal(err)
		}
		if err := r.Verify(r.ctx(), quiet); err != nil {
			t.Fatal(err)
		}
		if err := r.Start(r.ctx(), observation.Replica); err != nil {
			t.Fatal(err)
		}
		r.caughtUp(p)
		if got := r.text("select concat_ws(' ', current_setting('max_connections'), current_setting('work_mem'), " +
			"current_setting('maintenance_work_mem'), current_setting('config_file'))"); got != "70 "+work+" 64MB "+
			r.cfg.ConfigFile {
			t.Errorf("copy %d runs with %s", try+1, got)
		}
		r.sql("alter system set work_mem = '7MB'")
	}
	if err := r.Prepare(r.ctx(), verb.Prepare{Peers: []verb.Peer{source, {Name: "tern", Host: "127.0.0.1"}}}); err != nil {
		t.Fatal(err)
	}

	// Rewound: tern goes on by itself, and back to gull.
	fork := r.Observe(r.ctx(), false).Log.Applied
	if err := r.Promote(r.ctx()); err != nil {
		t.Fatal(err)
	}
	r.sql("insert into t select generate_series(2000, 2999)", "checkpoint")
	p.sql("insert into t values (2)", "checkpoint")
	if err := r.Fence(r.ctx(), true); err != nil {
		t.Fatal(err)
	}
	line := p.Observe(p.ctx(), false).Log.Line
	if err := r.Rewind(r.ctx(), verb.Rewind{Source: source, Fork: fork, Line: line}, quiet); err != nil {
		t.Fatal(err)
	}
	if err := r.Start(r.ctx(), observation.Replica); err != nil {
		t.Fatal(err)
	}
	r.caughtUp(p)
	if got := r.text("select count(*) || ' ' || current_setting('work_mem') from t"); got != "2 7MB" {
		t.Errorf("after the rewind: %s", got)
	}
	for x, was := range map[*rig]string{p: string(before), r: own} {
		now, err := os.ReadFile(x.cfg.ConfigFile)
		if err != nil || string(now) != was {
			t.Errorf("%s's configuration was changed: %s %v", x.cfg.Name, now, err)
		}
		hba := filepath.Join(filepath.Dir(x.cfg.ConfigFile), "pg_hba.conf")
		rules, err := os.ReadFile(hba)
		if fi, serr := os.Stat(hba); err != nil || serr != nil || fi.Mode().Perm() != 0o640 ||
			!strings.HasPrefix(string(rules), hbaBegin) || !strings.HasSuffix(string(rules), hbaEnd+"\nlocal all all trust\n") {
			t.Errorf("%s's access rules: %s %v %v", x.cfg.Name, rules, err, serr)
		}
	}
}

// apartConfig changes a server's configuration as its administrator would, and returns it.
func apartConfig(t *testing.T, r *rig, from, to string) string {
	t.Helper()
	b, err := os.ReadFile(r.cfg.ConfigFile)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(b), from, to, 1)
	if err := r.WriteOwned(r.cfg.ConfigFile, []byte(text)); err != nil {
		t.Fatal(err)
	}
	return text
}

// A copy waits for whoever still reads by its slot, such as one that was killed a moment ago.
func TestCopyWaitsForItsSlot(t *testing.T) {
	t.Parallel()
	p := primary(t)
	r := newRig(t, "tern")
	source := account(t, p, r)
	args := []string{"--dbname", r.conninfo(source), "--slot", "ct_tern", "--directory", r.cfg.WorkDir, "--no-loop"}
	ctx, cancel := context.WithCancel(r.ctx())
	left := make(chan error, 1)
	go func() { left <- r.RunWatched(ctx, func(string) {}, host.Piped{}, "pg_receivewal", args...) }()
	taken := func() bool { return p.text("select active::text from pg_replication_slots") == "true" }
	for end := time.Now().Add(30 * time.Second); !taken(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nobody reads by the slot: the test shows nothing")
		}
	}
	waited := make(chan bool, 1)
	go func() { r.awaitSlot(r.ctx(), source, "ct_tern"); waited <- taken() }()
	select {
	case <-waited:
		t.Error("the copy did not wait")
	case <-time.After(500 * time.Millisecond):
	}
	cancel()
	<-left
	if <-waited {
		t.Error("it went on while somebody still read by the slot")
	}
}

// A copy of a server whose configuration is no part of its data brings none along.
func TestCopyWithoutConfiguration(t *testing.T) {
	r := newRig(t, "tern")
	fit, err := r.Fit(r.ctx(), verb.Fit{Apart: true})
	if err != nil || len(fit.Misfits) != 1 || !strings.Contains(fit.Misfits[0].What, "has no configuration in") {
		t.Errorf("%+v %v", fit, err)
	}
}

// The data directory of a configuration file is what its last line says.
func TestDataOf(t *testing.T) {
	for text, want := range map[string]string{"data_directory = '/a'\n": "/a", "data_directory '/a'": "/a",
		"data_directory = '/a'\n  data_directory='/b' # moved": "/b", "#data_directory = '/a'\n": "", "": ""} {
		f := filepath.Join(t.TempDir(), "postgresql.conf")
		if err := os.WriteFile(f, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if got := DataOf(f); got != want {
			t.Errorf("%q: %q, not %q", text, got, want)
		}
	}
	for file, want := range map[string]bool{"/etc/postgresql/15/main/postgresql.conf": true,
		"/srv/pg/postgresql.conf": false} {
		if version, name, ok := debianCluster(file); ok != want || want && (version != "15" || name != "main") {
			t.Errorf("%s: %s %s %t", file, version, name, ok)
		}
	}
}
