package postgres

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// owned makes a directory that the server's user may write.
func (r *rig) owned(dir string) string {
	r.t.Helper()
	if err := r.MakeDir(dir); err != nil {
		r.t.Fatal(err)
	}
	return dir
}

func (r *rig) fit(from *rig) verb.Fitted {
	r.t.Helper()
	f, err := r.Fit(r.ctx(), verb.Fit{Spaces: from.Observe(r.ctx(), true).Data.Spaces})
	if err != nil {
		r.t.Fatal(err)
	}
	return f
}

// Tablespaces and a log directory of its own are copied, cleared and rewound; a
// place that is taken is refused while the old data still stands.
func TestTablespaces(t *testing.T) {
	t.Parallel()
	p := primary(t)
	fast := p.owned(filepath.Join(p.cfg.WorkDir, "fast"))
	p.sql("alter system set wal_keep_size = '256MB'", "select pg_reload_conf()")
	p.sql("create tablespace fast location '"+fast+"'", "create table t (a int) tablespace fast",
		"insert into t select generate_series(1, 1000)")
	if s := p.Observe(p.ctx(), true).Data.Spaces; len(s) != 1 || s[0].Path != fast || s[0].Bytes.Or(0) < 8192 {
		t.Fatalf("%+v", s)
	}
	r := newRig(t, "tern")
	source := account(t, p, r)
	seed := func(replace bool) error {
		o := p.Observe(r.ctx(), true)
		err := r.Seed(r.ctx(), verb.Seed{Source: source, Slot: "ct_tern", Replace: replace, Line: o.Log.Line,
			Past: o.Log.Past, Spaces: o.Data.Spaces}, func(string, int64, int64) {})
		if err != nil {
			return err
		}
		return r.Verify(r.ctx(), func(string, int64, int64) {})
	}
	// On one host the primary's own path is taken.
	if f := r.fit(p); len(f.Misfits) != 1 || !strings.Contains(f.Misfits[0].What, "not empty and not tern's") {
		t.Fatalf("%+v", f)
	}
	if err := seed(false); err == nil || !strings.Contains(err.Error(), "nothing was touched") || !r.Empty() {
		t.Fatalf("%v", err)
	}
	there := filepath.Join(r.cfg.WorkDir, "fast of tern")
	r.cfg.TablespaceMap = map[string]string{fast: there}
	if f := r.fit(p); len(f.Misfits) != 0 || len(f.Places) != 1 || f.Places[0].To != there {
		t.Fatalf("%+v", f)
	}
	if err := seed(false); err != nil {
		t.Fatal(err)
	}
	if err := r.Start(r.ctx(), "replica"); err != nil {
		t.Fatal(err)
	}
	r.caughtUp(p)
	if got := r.text("select count(*)::text from t"); got != "1000" {
		t.Errorf("%s rows in the tablespace", got)
	}
	fence := func(gently bool) {
		t.Helper()
		if err := r.Fence(r.ctx(), gently); err != nil {
			t.Fatal(err)
		}
	}
	fence(true)

	// On one host a replica may have come to share a directory with its primary, or
	// with a fellow replica: nothing of it is removed.
	shared := verb.Fit{Others: []string{r.spaces()[0].Identity}}
	if f, err := r.Fit(r.ctx(), shared); err != nil || len(f.Misfits) != 1 ||
		!strings.Contains(f.Misfits[0].What, "another server of the cluster uses that very directory") {
		t.Fatalf("%+v %v", f, err)
	}
	err := r.Seed(r.ctx(), verb.Seed{Source: source, Slot: "ct_tern", Replace: true, Others: shared.Others},
		func(string, int64, int64) {})
	if err == nil || !strings.Contains(err.Error(), "nothing was touched") || r.Empty() {
		t.Fatalf("%v", err)
	}

	// Its log on another disk: kept there by the next copy, which is interrupted
	// and made again.
	logs := r.owned(filepath.Join(r.cfg.WorkDir, "logs"))
	r.utility("/bin/sh", "-c", "mv "+r.Path("pg_wal")+"/* "+logs+"/ && rmdir "+r.Path("pg_wal")+" && ln -s "+logs+" "+
		r.Path("pg_wal"))
	if f := r.fit(p); len(f.Misfits) != 0 || len(f.Clears) != 2 {
		t.Fatalf("%+v", f)
	}
	stray := filepath.Join(logs, "notes.txt")
	if err := os.WriteFile(stray, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if f := r.fit(p); len(f.Misfits) != 1 || !strings.Contains(f.Misfits[0].What, "holds notes.txt, which is no log") {
		t.Fatalf("%+v", f)
	}
	os.Remove(stray)
	ctx, cancel := context.WithCancel(r.ctx())
	o := p.Observe(r.ctx(), true)
	r.Seed(ctx, verb.Seed{Source: source, Slot: "ct_tern", Replace: true, Line: o.Log.Line, Spaces: o.Data.Spaces},
		func(note string, _, _ int64) {
			if strings.HasPrefix(note, "waiting for the primary") {
				cancel()
			}
		})
	cancel()
	if err := seed(false); err != nil {
		t.Fatal(err)
	}
	if to, err := os.Readlink(r.Path("pg_wal")); err != nil || to != logs {
		t.Errorf("%q %v", to, err)
	}
	if err := r.Start(r.ctx(), "replica"); err != nil {
		t.Fatal(err)
	}
	r.caughtUp(p)
	if got := r.text("select count(*)::text from t"); got != "1000" {
		t.Errorf("%s rows in the tablespace", got)
	}

	// Rewound: r goes on by itself, and back to p.
	fork := r.Observe(r.ctx(), false)
	if err := r.Promote(r.ctx()); err != nil {
		t.Fatal(err)
	}
	r.sql("insert into t select generate_series(2000, 2999)", "checkpoint")
	p.sql("insert into t values (1001)", "checkpoint")
	fence(true)
	o = p.Observe(p.ctx(), false)
	if err := r.Rewind(r.ctx(), verb.Rewind{Source: source, Fork: fork.Log.Applied, Line: o.Log.Line},
		func(string, int64, int64) {}); err != nil {
		t.Fatal(err)
	}
	if err := r.Start(r.ctx(), "replica"); err != nil {
		t.Fatal(err)
	}
	r.caughtUp(p)
	if got := r.text("select count(*)::text from t"); got != "1001" {
		t.Errorf("%s rows after the rewind", got)
	}
}

// A copy that could not be started is refused: for its log file, its limits or the
// paths in its configuration.
func TestCopyThatCannotStart(t *testing.T) {
	t.Parallel()
	p := primary(t)
	settings := func() map[string]string { return p.Observe(p.ctx(), true).Config.Settings }
	if s := settings(); s["copied_paths"] != "" || s["lost_limits"] != "" {
		t.Errorf("%v", s)
	}
	conf := p.Path("postgresql.conf")
	b, err := os.ReadFile(conf)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(conf, append(b, "\nmax_connections = 30\nhba_file = '"+p.Path("pg_hba.conf")+"'\n"...),
		0o600); err != nil {
		t.Fatal(err)
	}
	itself := func() []verb.Misfit {
		t.Helper()
		f, err := p.Fit(p.ctx(), verb.Fit{Itself: true})
		if err != nil {
			t.Fatal(err)
		}
		return f.Misfits
	}
	if m := itself(); len(m) != 0 {
		t.Errorf("%+v", m)
	}
	s := settings()
	if s["copied_paths"] != "hba_file = "+p.Path("pg_hba.conf") ||
		s["lost_limits"] != "max_connections is 100, and 30 in its files" {
		t.Errorf("%q %q", s["copied_paths"], s["lost_limits"])
	}
	b, err = os.ReadFile(conf)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(conf, append(b, "\nmax_connections = many\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	if m := itself(); len(m) != 1 || !strings.Contains(m[0].What, `invalid value for parameter "max_connections"`) {
		t.Errorf("%+v", m)
	}
	// Whoever owns the file: the agent opens it.
	r := newRig(t, "tern")
	if err := os.WriteFile(r.cfg.LogFile, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if f, err := r.Fit(r.ctx(), verb.Fit{}); err != nil || len(f.Misfits) != 0 {
		t.Errorf("%+v %v", f, err)
	}
	r.cfg.LogFile = filepath.Join(r.cfg.WorkDir, "missing", "tern.log")
	f, err := r.Fit(r.ctx(), verb.Fit{Spaces: []observation.Space{}})
	if err != nil || len(f.Misfits) != 1 || !strings.Contains(f.Misfits[0].What, "tern.log of tern cannot be written") {
		t.Errorf("%+v %v", f, err)
	}
}

var accountOfTest = engine.Account{User: verb.ReplicationUser("tern"), Password: "pass:word\\'"}

// account prepares p for a copy to r.
func account(t *testing.T, p, r *rig) verb.Peer {
	t.Helper()
	acc := accountOfTest
	peer := verb.Peer{Name: "gull", Host: "127.0.0.1", Port: p.cfg.Port}
	secret, err := p.Secret(acc.Password)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Grant(r.ctx(), "tern", secret, ""); err != nil {
		t.Fatal(err)
	}
	peers := []verb.Peer{peer, {Name: "tern", Host: "127.0.0.1"}}
	if err := p.Prepare(r.ctx(), verb.Prepare{Peers: peers, Account: true}); err != nil {
		t.Fatal(err)
	}
	if err := p.Slots(r.ctx(), verb.Slots{Ensure: []string{"ct_tern"}}); err != nil {
		t.Fatal(err)
	}
	if err := r.Remember(acc); err != nil {
		t.Fatal(err)
	}
	return peer
}

// A start that fails is told with the server's own detail.
func TestStartSaysWhy(t *testing.T) {
	t.Parallel()
	p := primary(t)
	r := replicaOf(t, p)
	if err := r.Fence(r.ctx(), true); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(r.Path("postgresql.auto.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString("max_connections = '20'\n")
	f.Close()
	if err := r.Start(r.ctx(), "replica"); err == nil ||
		!strings.Contains(err.Error(), "max_connections = 20 is a lower setting than on the primary server") {
		t.Errorf("%v", err)
	}
	err = p.exec(p.ctx(), "select * from pg_class where reltuple > 0")
	if err == nil || !strings.Contains(err.Error(), `; Perhaps you meant to reference the column "pg_class.reltuples"`) {
		t.Errorf("without the server's hint: %v", err)
	}
}
