package postgres

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

// portLine is where a configuration file sets the port.
var portLine = regexp.MustCompile(`(?m)^\s*port\s*=?\s*'?(\d+)`)

// Discover lists the PostgreSQL servers of this host: Debian's clusters, running or not,
// and whatever else runs.
func Discover() (out []engine.Found) {
	have := map[string]bool{}
	files, _ := filepath.Glob(clusterPattern)
	for _, f := range files {
		if dir := DataOf(f); dir != "" && !have[dir] {
			have[dir] = true
			out = append(out, Describe(dir))
		}
	}
	for _, dir := range host.WorkDirs("postgres") {
		if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); err == nil && !have[dir] {
			have[dir] = true
			out = append(out, Describe(dir))
		}
	}
	return out
}

// Describe tells what is known of the server of a data directory without asking it.
func Describe(dataDir string) engine.Found {
	d := &host.Data{Dir: dataDir, Process: "postgres", DefaultOwner: "postgres"}
	f := engine.Found{Engine: position.EnginePostgres, DataDir: dataDir, ConfigFile: ConfigOf(dataDir), Port: 5432,
		SocketDir: "/var/run/postgresql", Bytes: d.DirBytes(dataDir)}
	if b, err := d.ReadFile(d.Path("PG_VERSION")); err == nil {
		f.Version = strings.TrimSpace(string(b))
	} else if version, _, ok := debianCluster(f.ConfigFile); ok {
		f.Version = version
	}
	config := f.ConfigFile
	if config == "" {
		config = filepath.Join(dataDir, "postgresql.conf")
	}
	if b, err := os.ReadFile(config); err == nil {
		if m := portLine.FindAllSubmatch(b, -1); len(m) > 0 {
			f.Port, _ = strconv.Atoi(string(m[len(m)-1][1])) // the last line counts
		}
	}
	f.Unit, f.Commands = UnitFor(f.ConfigFile), commandsFor(f.ConfigFile)
	// Of a running server, its own file says where it is (documentation, "Database File
	// Layout"): number, data directory, start, port, socket directory.
	b, err := d.ReadFile(d.Path("postmaster.pid"))
	if lines := strings.Split(string(b), "\n"); err == nil && len(lines) > 4 {
		pid, _ := strconv.Atoi(strings.TrimSpace(lines[0]))
		if f.Running = pid > 0 && host.Alive(pid); f.Running {
			if port, err := strconv.Atoi(strings.TrimSpace(lines[3])); err == nil {
				f.Port = port
			}
			if dir := strings.TrimSpace(lines[4]); dir != "" {
				f.SocketDir = dir
			}
			f.Unit = host.UnitOf(pid)
		}
	}
	return f
}
