package host

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"crosstwin/test/workdir"
)

// The database's owner leads the agent, which runs as root, to root's files: by links
// in the data directory, in place of it, and in place of the log file. The agent goes
// no further than the owner could alone, and no file changes its owner.
func TestOwnerLeadsRootAstray(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("root is needed to be led astray")
	}
	d := data(t)
	roots := workdir.New(t, "cthroot")
	secret := filepath.Join(roots, "secret")
	if err := os.WriteFile(secret, []byte("root's own"), 0o600); err != nil {
		t.Fatal(err)
	}
	link := func(name, to string) string {
		t.Helper()
		path := d.Path(name)
		if err := d.AsOwner(func() error { os.RemoveAll(path); return os.Symlink(to, path) }); err != nil {
			t.Fatal(err)
		}
		return path
	}
	refused := func(what string, err error) {
		t.Helper()
		if err == nil {
			t.Errorf("%s went through", what)
		}
		b, rerr := os.ReadFile(secret)
		fi, serr := os.Stat(secret)
		if rerr != nil || serr != nil || string(b) != "root's own" || fi.Sys().(*syscall.Stat_t).Uid != 0 ||
			fi.Mode().Perm() != 0o600 {
			t.Fatalf("%s: root's file is %q, %+v", what, b, fi)
		}
		if list, _ := os.ReadDir(roots); len(list) != 1 {
			t.Fatalf("%s: in root's directory is %v", what, list)
		}
	}

	_, err := d.ReadFile(link("PG_VERSION", secret))
	refused("reading by a link", err)
	_, err = d.ReadTrusted(link("my.cnf", secret))
	refused("reading a configuration by a link", err)
	refused("rewriting a configuration by a link", d.RewriteTrusted(d.Path("my.cnf"), []byte("x")))
	link("global", roots)
	refused("writing into a linked directory", d.WriteOwned(d.Path("global", "new"), []byte("x")))
	refused("making a directory in one", d.MakeDir(d.Path("global", "sub")))
	refused("removing in one", d.RemoveSynced(d.Path("global", "secret")))
	_, err = d.appendLog(link("server.log", secret))
	refused("appending to a linked log", err)
	_, err = d.Spawn(d.Path("server.log"), "/bin/true")
	refused("starting a server with a linked log", err)
	_, err = d.appendLog(d.Path("global", "new.log"))
	refused("making a log in a linked directory", err)
	if err := os.Link(secret, d.Path("hard")); err == nil { // as if the kernel let the owner do it
		_, err = d.OpenLog(d.Path("hard"), os.O_APPEND|os.O_WRONLY)
		refused("appending to a second name of root's file", err)
		os.Remove(d.Path("hard"))
	}
	for _, name := range []string{".standby.signal.crosstwin-new", "standby.signal.crosstwin-new"} {
		link(name, secret)
	}
	if err := d.WriteOwned(d.Path("standby.signal"), nil); err != nil {
		t.Error(err)
	}
	refused("writing past links of foreseen names", errors.New("as it should"))
	if err := d.Clear(); err != nil {
		t.Error(err)
	}
	refused("clearing", errors.New("as it should"))

	// In place of the data directory stands another one.
	victim := workdir.New(t, "cthvictim")
	if err := os.Chown(victim, 1, 1); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(victim, "letter"), nil, 0o666); err != nil {
		t.Fatal(err)
	}
	for _, to := range []string{roots, victim} {
		if err := os.RemoveAll(d.Dir); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(to, d.Dir); err != nil {
			t.Fatal(err)
		}
		refused("clearing another directory", d.Clear())
		if _, _, err := d.Run(t.Context(), "id"); err == nil {
			t.Error("a program ran as the owner of another directory")
		}
	}
	if _, err := os.Stat(filepath.Join(victim, "letter")); err != nil {
		t.Error("another user's file is gone")
	}
}

// What is the owner's or root's own is still served: a log file that root made, and a
// directory that only root can make.
func TestRootsOwnFiles(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("root is needed")
	}
	d := data(t)
	above := workdir.New(t, "cthlog")
	log := filepath.Join(above, "db.log")
	f, err := d.appendLog(log)
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	id, _ := d.Owner()
	if fi, err := os.Stat(log); err != nil || fi.Sys().(*syscall.Stat_t).Uid != id.UID {
		t.Errorf("the log is not the owner's: %v", err)
	}
	if err := errors.Join(os.Chown(log, 0, 0), os.Chmod(log, 0o600)); err != nil {
		t.Fatal(err)
	}
	if misfits := d.LogMisfit(log); len(misfits) > 0 {
		t.Errorf("root's log is refused: %+v", misfits)
	}
	if err := d.MakeDir(filepath.Join(above, "spaces", "fast")); err != nil {
		t.Fatal(err)
	}
	if fi, err := d.Stat(filepath.Join(above, "spaces", "fast")); err != nil || !fi.IsDir() ||
		fi.Sys().(*syscall.Stat_t).Uid != id.UID {
		t.Errorf("%v", err)
	}
	if err := os.Chmod(above, 0o777); err != nil {
		t.Fatal(err)
	}
	if _, err := d.ReadFile(filepath.Join(above, "none")); !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
	}
	config := filepath.Join(above, "db.cnf")
	if err := os.WriteFile(config, []byte("[mariadbd]\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(above, 0o775); err != nil {
		t.Fatal(err)
	}
	err = d.RewriteTrusted(config, []byte("x"))
	if err == nil || !strings.Contains(err.Error(), "can be changed by others") {
		t.Errorf("root's file in everybody's directory: %v", err)
	}
	if err := os.Chmod(above, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := d.RewriteTrusted(config, []byte("x")); err != nil {
		t.Fatal(err)
	}
	if fi, err := os.Stat(config); err != nil || fi.Mode().Perm() != 0o640 || fi.Sys().(*syscall.Stat_t).Uid != 0 {
		t.Errorf("%v %v", fi, err)
	}
}
