package mariadb

import (
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

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

// Discover lists the MariaDB servers of this host: that of Debian's packages, running or
// not, and whatever else runs.
func Discover() (out []engine.Found) {
	have := map[string]bool{}
	dirs := host.WorkDirs("mariadbd")
	if _, err := os.Stat(filepath.Join(debianData, "mysql")); err == nil {
		dirs = append([]string{debianData}, dirs...)
	}
	for _, dir := range dirs {
		if !have[dir] {
			have[dir] = true
			out = append(out, Describe(dir))
		}
	}
	return out
}

// Describe tells what is known of the server of a data directory without asking it.
func Describe(dataDir string) engine.Found {
	d := &host.Data{Dir: dataDir, Process: "mariadbd", DefaultOwner: "mysql"}
	f := engine.Found{Engine: position.EngineMariaDB, DataDir: dataDir, Port: 3306, SocketDir: "/run/mysqld",
		Bytes: d.DirBytes(dataDir)}
	if v, err := programVersion(); err == nil {
		f.Version = v
	}
	if filepath.Clean(dataDir) == debianData {
		if _, err := os.Stat(debianConfig); err == nil {
			f.ConfigFile = debianConfig
		}
		if host.Units() {
			f.Unit = debianUnit
		}
	}
	d.Unit = f.Unit
	pids := d.Processes()
	if f.Running = len(pids) > 0; !f.Running {
		return f
	}
	pid := pids[0]
	f.Unit = host.UnitOf(pid)
	b, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline")
	for _, m := range optionLine.FindAllStringSubmatch(strings.ReplaceAll(string(b), "\x00", " "), -1) {
		switch m[1] {
		case "port":
			f.Port, _ = strconv.Atoi(m[2])
		case "socket":
			f.SocketDir = filepath.Dir(m[2])
		case "defaults-file":
			f.ConfigFile = m[2]
		}
	}
	return f
}
