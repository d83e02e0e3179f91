package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/words"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
	"crosstwin/internal/engine/mariadb"
	"crosstwin/internal/engine/postgres"
)

// DefaultListen is where an agent listens unless told otherwise.
const DefaultListen = "0.0.0.0:7720"

// DefaultDir is the agent's directory unless told otherwise; ownUnit the unit of the
// packages that runs an agent there.
const (
	DefaultDir = "/var/lib/crosstwin-agent"
	ownUnit    = "crosstwin-agent.service"
)

// StartOwn starts the agent anew by the packages' unit, where there is one and the agent is
// in its directory; false where there is not.
func StartOwn(ctx context.Context, dir string) (started bool, err error) {
	if filepath.Clean(dir) != DefaultDir || os.Geteuid() != 0 {
		return false, nil
	}
	return host.RestartUnit(ctx, ownUnit)
}

// noUnit is given for a unit that is not to be used although there is one.
const noUnit = "none"

// SeveralError says that this host has several database servers, and none was named.
type SeveralError struct{ Found []engine.Found }

func (e SeveralError) Error() string {
	return fmt.Sprintf("this host has %d database servers", len(e.Found))
}

// MissingError says that something has to be given.
type MissingError struct{ error }

// Prepare completes what is given for an enrolment: by what the agent has noted when it
// enrols again, else by what is found on this host. It changes nothing.
func Prepare(dir string, given Config) (Config, error) {
	cfg, again, err := noted(dir, given)
	if err != nil {
		return cfg, err
	}
	if cfg.DataDir == "" {
		found := slices.Concat(postgres.Discover(), mariadb.Discover())
		switch len(found) {
		case 0:
			return cfg, MissingError{errors.New("no database server was found on this host: install one " +
				"(apt-get install postgresql-15, or mariadb-server mariadb-backup), or say where its data is with --data-dir")}
		case 1:
			cfg.DataDir = found[0].DataDir
		default:
			return cfg, SeveralError{found}
		}
	}
	if !again {
		cfg.complete()
	}
	switch {
	case given.StartCommand == "" && (given.StopCommand != "" || given.StatusCommand != "") && cfg.StartCommand == "":
		return cfg, MissingError{errors.New("say with --start-command what starts the server, where you say what stops it")}
	case given.StartCommand != "" && given.Unit != "" && given.Unit != noUnit:
		return cfg, MissingError{errors.New("give --unit or --start-command: one of them starts the server")}
	case given.StartCommand != "":
		cfg.Unit = ""
	case given.Unit != "":
		cfg.StartCommand, cfg.StopCommand, cfg.StatusCommand = "", "", ""
	}
	if cfg.Unit == noUnit {
		cfg.Unit = ""
	}
	if cfg.Unit != "" {
		if err := host.CheckUnit(cfg.Unit); err != nil {
			return cfg, MissingError{err}
		}
	}
	if cfg.Host == "" {
		return cfg, MissingError{errors.New("say with --host at which address the other servers reach this one")}
	}
	if cfg.Listen == "" {
		cfg.Listen = DefaultListen
	}
	_, port, err := net.SplitHostPort(cfg.Listen)
	if err != nil {
		return cfg, MissingError{fmt.Errorf("--listen %s: %w", cfg.Listen, err)}
	}
	if _, _, err := net.SplitHostPort(cfg.Health); cfg.Health != "" && err != nil {
		return cfg, MissingError{fmt.Errorf("--health %s: %w", cfg.Health, err)}
	}
	if cfg.Advertise == "" || again && given.Host != "" && given.Advertise == "" {
		cfg.Advertise = net.JoinHostPort(cfg.Host, port)
	}
	return cfg, nil
}

// noted lays what is given over what an earlier enrolment noted.
func noted(dir string, given Config) (cfg Config, again bool, err error) {
	if _, err := os.Stat(filepath.Join(dir, ConfigFile)); err != nil {
		return given, false, nil
	}
	if m, err := openMemory(dir); err != nil || m.get().Left {
		return given, false, err
	}
	if cfg, err = LoadConfig(dir); err != nil {
		return cfg, false, err
	}
	b, err := json.Marshal(given)
	if err != nil {
		return cfg, false, err
	}
	set := map[string]any{}
	if err := json.Unmarshal(b, &set); err != nil {
		return cfg, false, err
	}
	for name, v := range set {
		if v == "" || v == 0.0 || v == nil {
			delete(set, name)
		}
	}
	if b, err = json.Marshal(set); err != nil {
		return cfg, false, err
	}
	return cfg, true, json.Unmarshal(b, &cfg)
}

// complete fills in what is found of the server in the data directory.
func (c *Config) complete() {
	if c.Engine = engineOf(c.DataDir); c.Engine == "" {
		return // nothing there yet: the code says which engine it is for
	}
	f := postgres.Describe(c.DataDir)
	if c.Engine == position.EngineMariaDB {
		f = mariadb.Describe(c.DataDir)
	}
	fill := func(into *string, found string) {
		if *into == "" {
			*into = found
		}
	}
	fill(&c.ConfigFile, f.ConfigFile)
	fill(&c.SocketDir, f.SocketDir)
	if c.StartCommand == "" {
		fill(&c.Unit, f.Unit)
	}
	if c.Unit == "" && c.StartCommand == "" {
		c.StartCommand, c.StopCommand, c.StatusCommand = f.Commands.Start, f.Commands.Stop, f.Commands.Status
	}
	if c.Port == 0 {
		c.Port = f.Port
	}
}

// engineOf tells the engine by what stands in a data directory, or names it; empty when
// nothing does.
func engineOf(dataDir string) string {
	exists := func(name string) bool { _, err := os.Stat(filepath.Join(dataDir, name)); return err == nil }
	switch {
	case exists("PG_VERSION"), postgres.ConfigOf(dataDir) != "":
		return position.EnginePostgres
	case exists("ibdata1"), exists("mysql"):
		return position.EngineMariaDB
	}
	return ""
}

// Try opens the server as the agent will and looks at it: an enrolment that could not work
// is refused before its code is spent. Nil where there is nothing to look at yet.
func Try(ctx context.Context, dir string, cfg Config) (*observation.Server, error) {
	if cfg.Engine == "" {
		return nil, nil
	}
	if cfg.Server == "" {
		cfg.Server = "server"
	}
	if err := reaches(ctx, cfg, dir); err != nil {
		return nil, err
	}
	e, err := cfg.open(dir, &noMemory{}, nil)
	if err != nil {
		return nil, err
	}
	if cfg.Engine == position.EngineMariaDB {
		if socket := host.SocketOf(ctx, cfg.Unit); socket != "" {
			return nil, fmt.Errorf("%s. End that first: systemctl disable --now %s",
				mariadb.SocketProblem("the server in "+cfg.DataDir, socket), socket)
		}
	}
	o := e.Observe(ctx, false)
	if err := mayServe(cfg, o); err != nil {
		return o, err
	}
	if !o.Data.Empty { // of a server that is not there yet a status command may say anything
		if err := cfg.commands().Try(ctx, o.Process.Running); err != nil {
			return o, err
		}
	}
	if o.Process.NotUsable() {
		return o, fmt.Errorf("the server in %s runs, and an agent could not use it by the socket in %s, port %d: %s",
			cfg.DataDir, cfg.SocketDir, cfg.Port, o.Process.Problem)
	}
	return o, nil
}

// reaches makes sure that the server's owner can get at the agent's directory, in which it
// reads files that the agent writes for it.
func reaches(ctx context.Context, cfg Config, dir string) error {
	d := &host.Data{Name: cfg.Server, Dir: cfg.DataDir, OwnerName: cfg.Owner,
		DefaultOwner: map[string]string{position.EnginePostgres: "postgres", position.EngineMariaDB: "mysql"}[cfg.Engine]}
	there, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	for there != "/" {
		if _, err := os.Stat(there); err == nil {
			break
		}
		there = filepath.Dir(there)
	}
	_, _, err = d.Run(ctx, "/usr/bin/test", "-x", there)
	if no := (*exec.ExitError)(nil); err != nil && !errors.As(err, &no) {
		return err
	}
	if err != nil {
		return fmt.Errorf("the owner of %s cannot get at %s, and its server has to read files in the agent's directory: "+
			"choose another one with --dir, such as %s", cfg.DataDir, there, DefaultDir)
	}
	return nil
}

// mayServe refuses a version of the engine that nobody has tried: what a query says there,
// or what a start does, is not known.
func mayServe(cfg Config, o *observation.Server) error {
	known, named := postgres.Known, postgres.Named
	if cfg.Engine == position.EngineMariaDB {
		known, named = mariadb.Known, mariadb.Named
	}
	if o.Process.MajorVersion == 0 || slices.Contains(known, o.Process.MajorVersion) {
		return nil
	}
	var names []string
	for _, k := range known {
		names = append(names, named(k))
	}
	return fmt.Errorf("the server in %s is %s %s, which this version of Cross Twin does not know: it was tested with %s",
		cfg.DataDir, dialect.Of(cfg.Engine).Label, o.Process.Version, words.List(names))
}

// noMemory is that of a look that is made once.
type noMemory struct{ kept map[string]string }

func (*noMemory) Unfinished() string            { return "" }
func (*noMemory) SetUnfinished(string) error    { return nil }
func (m *noMemory) Fingerprint(k string) string { return m.kept[k] }
func (m *noMemory) SetFingerprint(k, v string) error {
	if m.kept == nil {
		m.kept = map[string]string{}
	}
	m.kept[k] = v
	return nil
}
func (*noMemory) ForgetFingerprints() error { return nil }
