package postgres

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"

	"crosstwin/internal/engine/host"
)

// A server's configuration stands in its data directory, or, as Debian's packages have
// it, elsewhere. Where it stands elsewhere a copy or a rewind does not touch it, and it
// is nobody's but its administrator's: the agent adds marked blocks and changes nothing.

// clusterPattern matches the configuration files of Debian's clusters (manual page
// pg_createcluster).
const clusterPattern = "/etc/postgresql/*/*/postgresql.conf"

// dataDirectoryLine is where such a file names its data.
var dataDirectoryLine = regexp.MustCompile(`(?m)^\s*data_directory\s*=?\s*'([^']+)'`)

// ConfigOf returns the configuration file of a Debian cluster that names a data directory;
// empty when there is none. One that lies in the data directory as well counts for
// nothing then: a copy may have brought it.
func ConfigOf(dataDir string) string {
	files, _ := filepath.Glob(clusterPattern)
	for _, f := range files {
		if filepath.Clean(DataOf(f)) == filepath.Clean(dataDir) {
			return f
		}
	}
	return ""
}

// DataOf returns the data directory that a configuration file names; empty when it names
// none, or cannot be read.
func DataOf(configFile string) string {
	b, err := os.ReadFile(configFile)
	if err != nil {
		return ""
	}
	m := dataDirectoryLine.FindAllSubmatch(b, -1)
	if len(m) == 0 {
		return ""
	}
	return string(m[len(m)-1][1]) // the last line counts
}

// debianCluster returns version and name of Debian's cluster whose configuration this is.
func debianCluster(configFile string) (version, name string, ok bool) {
	if match, _ := filepath.Match(clusterPattern, configFile); !match {
		return "", "", false
	}
	dir := filepath.Dir(configFile)
	return filepath.Base(filepath.Dir(dir)), filepath.Base(dir), true
}

// UnitFor returns the unit that Debian's packages give the cluster of a configuration
// file; empty where there is no service manager, or it is no such cluster's.
func UnitFor(configFile string) string {
	version, name, ok := debianCluster(configFile)
	if !ok || !host.Units() {
		return ""
	}
	return fmt.Sprintf("postgresql@%s-%s.service", version, name)
}

// commandsFor are Debian's commands for the cluster of a configuration file, where no service
// manager runs this host: they heed its start.conf, environment and pg_ctl.conf.
func commandsFor(configFile string) host.Commands {
	version, name, ok := debianCluster(configFile)
	if _, err := os.Stat(pgCtlCluster); !ok || err != nil || host.Units() {
		return host.Commands{}
	}
	line := func(action string) string { return pgCtlCluster + " " + version + " " + name + " " + action }
	return host.Commands{Start: line("start"), Stop: line("stop"), Status: line("status")}
}

const pgCtlCluster = "/usr/bin/pg_ctlcluster"

// defaultLog is where a server's own words go: where Debian's clusters have it, or beside
// the data directory.
func defaultLog(cfg Config) string {
	if version, name, ok := debianCluster(cfg.ConfigFile); ok {
		return fmt.Sprintf("/var/log/postgresql/postgresql-%s-%s.log", version, name)
	}
	return filepath.Join(filepath.Dir(cfg.DataDir), cfg.Name+".log")
}

// apart reports whether the configuration is outside of the data directory.
func (e *Engine) apart() bool { return e.cfg.ConfigFile != "" }

// configFile returns the server's postgresql.conf.
func (e *Engine) configFile() string {
	if e.apart() {
		return e.cfg.ConfigFile
	}
	return e.Path("postgresql.conf")
}

// keepsOwn reports whether a copy leaves this server its own configuration: it is outside
// of the data directory here or, as sourceApart tells, where the copy comes from.
func (e *Engine) keepsOwn(sourceApart bool) bool { return e.apart() || sourceApart }

// serverArgs are the arguments with which the server's program finds data and
// configuration.
func (e *Engine) serverArgs(more ...string) []string {
	args := []string{"-D", e.cfg.DataDir}
	if e.apart() {
		args = append(args, "-c", "config_file="+e.cfg.ConfigFile)
	}
	return append(args, more...)
}
