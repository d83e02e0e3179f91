// Package agent is the part of Cross Twin beside a database server: the only
// one that touches the server, its files and its process. It offers a narrow
// set of verbs over HTTPS with certificates of the service's own authority.
//
// What it keeps on disk (state.json, synced before any answer that rests on
// it): the terms it noted and accepted, whether a copy or rewind was interrupted,
// the fingerprints of histories, the newest mark it found, and that it fenced
// its server. The replication account is in account.json, readable by the
// agent alone; the service never sees it.
package agent

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"sigs.k8s.io/yaml"

	"crosstwin/internal/core/position"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
	"crosstwin/internal/engine/mariadb"
	"crosstwin/internal/engine/postgres"
	"crosstwin/internal/gate"
)

// Config is the agent's file agent.yaml, written by the enrolment.
type Config struct {
	Cluster string `json:"cluster"`
	Server  string `json:"server"`
	Engine  string `json:"engine"`
	// Referee: there is no database, and nothing below that is about one counts.
	Referee bool `json:"referee,omitempty"`
	// Gate: it is a gate, with addresses for applications; there is no database either.
	Gate *gate.Config `json:"gate,omitempty"`
	// Listen is the address the agent serves on; Advertise where the service
	// and other agents reach it.
	Listen    string `json:"listen"`
	Advertise string `json:"advertise"`
	// Watchdog is the kernel's device that the deadman feeds; empty: none.
	Watchdog string `json:"watchdog,omitempty"`
	// Health is the address on which load balancers are answered, by plain HTTP; empty: none.
	Health string `json:"health,omitempty"`

	DataDir         string `json:"data_dir"`
	BinDir          string `json:"bin_dir,omitempty"`
	SocketDir       string `json:"socket_dir,omitempty"`
	Host            string `json:"host"` // where peers reach the database
	Port            int    `json:"port"`
	ListenAddresses string `json:"listen_addresses,omitempty"` // of the database
	// ConfigFile is the server's own configuration, where that does not stand in
	// the data directory.
	ConfigFile string `json:"config_file,omitempty"`
	// Unit is the service manager's unit that runs the server. Where none does, the commands
	// are what starts and stops it and says whether it runs (host.Commands); with neither the
	// agent does so itself.
	Unit          string `json:"unit,omitempty"`
	StartCommand  string `json:"start_command,omitempty"`
	StopCommand   string `json:"stop_command,omitempty"`
	StatusCommand string `json:"status_command,omitempty"`

	LogFile   string `json:"log_file,omitempty"`
	Owner     string `json:"owner,omitempty"` // user of the database's files
	Superuser string `json:"superuser,omitempty"`
	// TablespaceMap says where tablespaces of other servers go here, by their path
	// there (PostgreSQL).
	TablespaceMap map[string]string `json:"tablespace_map,omitempty"`
}

// ConfigFile is the name of the configuration in an agent's directory.
const ConfigFile = "agent.yaml"

// LoadConfig reads an agent's configuration.
func LoadConfig(dir string) (Config, error) {
	var c Config
	b, err := os.ReadFile(filepath.Join(dir, ConfigFile))
	if errors.Is(err, fs.ErrNotExist) {
		return c, fmt.Errorf("no agent is enrolled in %s: run crosstwin agent enroll first", dir)
	}
	if err != nil {
		return c, err
	}
	if err := yaml.UnmarshalStrict(b, &c); err != nil {
		return c, fmt.Errorf("%s: %w", filepath.Join(dir, ConfigFile), err)
	}
	return c, nil
}

func (c Config) save(dir string) error {
	b, err := yaml.Marshal(c)
	if err != nil {
		return err
	}
	return writeSynced(filepath.Join(dir, ConfigFile), b, 0o600)
}

// open makes the engine for the configured server.
func (c Config) open(dir string, memory engine.Memory, peers engine.Peers) (engine.Engine, error) {
	switch c.Engine {
	case position.EnginePostgres:
		return postgres.New(postgres.Config{Name: c.Server, DataDir: c.DataDir, ConfigFile: c.ConfigFile, Unit: c.Unit,
			Commands: c.commands(), BinDir: c.BinDir, SocketDir: c.SocketDir,
			Port: c.Port, Host: c.Host,
			Listen: c.ListenAddresses, WorkDir: dir, LogFile: c.LogFile, Owner: c.Owner, Superuser: c.Superuser,
			TablespaceMap: c.TablespaceMap}, memory, peers)
	case position.EngineMariaDB:
		return mariadb.New(mariadb.Config{Name: c.Server, DataDir: c.DataDir, BinDir: c.BinDir,
			ConfigFile: c.ConfigFile, Unit: c.Unit, Commands: c.commands(),
			Socket: c.socket(), Port: c.Port, Host: c.Host,
			Listen: c.ListenAddresses, WorkDir: dir, LogFile: c.LogFile, Owner: c.Owner, Superuser: c.Superuser}, memory, peers)
	}
	return nil, fmt.Errorf("this agent does not know the engine %q", c.Engine)
}

// data finds the database's processes, whatever its engine is busy with.
func (c Config) data() *host.Data {
	process := postgres.Process
	if c.Engine == position.EngineMariaDB {
		process = mariadb.Process
	}
	return &host.Data{Name: c.Server, Dir: c.DataDir, Process: process, Unit: c.Unit}
}

func (c Config) commands() host.Commands {
	return host.Commands{Start: c.StartCommand, Stop: c.StopCommand, Status: c.StatusCommand}
}

// StartedBy says in words what starts the server.
func (c Config) StartedBy() string { return cmp.Or(c.Unit, c.StartCommand, "the agent itself") }

// socket returns MariaDB's socket, by its directory and Debian's name for it.
func (c Config) socket() string {
	if c.SocketDir == "" {
		return ""
	}
	return filepath.Join(c.SocketDir, "mysqld.sock")
}
