package mariadb

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"crosstwin/internal/core/position"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// What Debian's packages set up.
const (
	debianData   = "/var/lib/mysql"
	debianConfig = "/etc/mysql/my.cnf"
	debianUnit   = "mariadb.service"
)

var optionLine = regexp.MustCompile(`--(port|socket|datadir|defaults-file)=(\S+)`)

// installed is what the packages' configuration says of the server of this host; nil where
// there is none.
func installed() map[string]string {
	if _, err := os.Stat(debianConfig); err != nil {
		return nil
	}
	d := &host.Data{Dir: debianData, Process: daemon, DefaultOwner: "mysql", BinDir: "/usr/sbin"}
	ctx, cancel := context.WithTimeout(context.Background(), askLimit)
	defer cancel()
	said, _, err := d.Run(ctx, daemon, "--defaults-file="+debianConfig, "--print-defaults")
	if err != nil {
		said = "" // as one that says nothing; the enrolment tries the server itself
	}
	out := parseOptions(said)
	if out["datadir"] == "" {
		out["datadir"] = debianData
	}
	return out
}

// askLimit bounds the question what a configuration says.
const askLimit = 5 * time.Second

// sameDir reports whether two paths are one directory.
func sameDir(a, b string) bool {
	if x, err := filepath.EvalSymlinks(a); err == nil {
		a = x
	}
	if x, err := filepath.EvalSymlinks(b); err == nil {
		b = x
	}
	return filepath.Clean(a) == filepath.Clean(b)
}

// Discover lists the MariaDB servers of this host: that of Debian's packages, running or
// not, and whatever else runs.
func Discover() (out []engine.Found) {
	dirs := host.WorkDirs(daemon)
	if dir := installed()["datadir"]; dir != "" {
		if _, err := os.Stat(filepath.Join(dir, "mysql")); err == nil {
			dirs = append([]string{dir}, dirs...)
		}
	}
	for i, dir := range dirs {
		if !slices.ContainsFunc(dirs[:i], func(other string) bool { return sameDir(dir, other) }) {
			out = append(out, Describe(dir))
		}
	}
	return out
}

// Describe tells what is known of the server of a data directory without asking it.
func Describe(dataDir string) engine.Found {
	d := &host.Data{Dir: dataDir, Process: daemon, DefaultOwner: "mysql"}
	f := engine.Found{Engine: position.EngineMariaDB, DataDir: dataDir, Port: 3306, SocketDir: "/run/mysqld",
		Bytes: d.DirBytes(dataDir)}
	if v, err := programVersion(); err == nil {
		f.Version = v
	}
	if given := installed(); given != nil && sameDir(given["datadir"], dataDir) {
		f.ConfigFile = debianConfig
		if host.Units() {
			f.Unit = debianUnit
		}
		take(&f, given["port"], given["socket"])
	}
	d.Unit = f.Unit
	pids := d.Processes()
	if f.Running = len(pids) > 0; !f.Running {
		return f
	}
	pid := pids[0]
	f.Unit = host.UnitOf(pid)
	b, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline")
	said := map[string]string{}
	for _, m := range optionLine.FindAllStringSubmatch(strings.ReplaceAll(string(b), "\x00", " "), -1) {
		said[m[1]] = m[2]
	}
	if file := said["defaults-file"]; file != "" {
		f.ConfigFile = file
	}
	take(&f, said["port"], said["socket"])
	return f
}

// take notes the port and the socket that are given.
func take(f *engine.Found, port, socket string) {
	if n, err := strconv.Atoi(port); err == nil {
		f.Port = n
	}
	if socket != "" {
		f.SocketDir = filepath.Dir(socket)
	}
}
