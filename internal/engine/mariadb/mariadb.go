// Package mariadb handles one MariaDB server (10.11) with a configuration file
// of its own.
//
// It talks to the server over its local socket as the administrator, runs the
// server's own utilities as the owner of the data directory, and never runs
// anything of the database as root. Log files are read by core/binlog.
//
// Invariants kept here:
//
//   - Closed by default: the configuration file says read_only, and the agent
//     starts the server read-only and without replication; only after that is
//     a primary opened.
//   - Received writes are never thrown away: the relay log is drained before
//     the threads of a replica stop, because the server discards what is left
//     in it at the next start of both (measured).
//   - A replica takes writes of its own past: an old primary that lost its tail
//     must not skip transactions that carry its own server id (measured), so
//     rpl_semi_sync_slave_enabled is set before it follows.
package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// Config says where a server lives.
type Config struct {
	Name       string // of the server in its cluster
	DataDir    string
	BinDir     string        // of the client programs; empty: /usr/bin
	ConfigFile string        // the server's own configuration
	Unit       string        // the service manager's unit that runs the server; empty: none
	Commands   host.Commands // what starts and stops it where no unit does; empty: the agent does
	Socket     string
	Port       int
	Host       string // as peers reach it
	Listen     string // bind_address
	WorkDir    string // the agent's own directory
	LogFile    string
	Owner      string // operating system user for a data directory that is not there yet
	Superuser  string // empty: the agent's own user name, by its socket
}

// Engine implements engine.Engine and all the further abilities.
type Engine struct {
	*host.Data
	cfg    Config
	memory engine.Memory
	peers  engine.Peers

	mu      sync.Mutex // guards acts: one at a time
	waits   host.Waits
	silent  host.Silent
	db      *sql.DB
	version string // of the programs
	compare compareState
	// encryption are the files of its encrypted connections.
	encryption *host.Encryption
	// ownFile is the agent's own file in a tree of configuration files; empty where the
	// configuration is one file.
	ownFile string

	held struct {
		sync.Mutex
		conn *sql.Conn // holds the global read lock of a primary that takes no more writes
		at   string
	}
	placing placing
	seen    struct {
		sync.Mutex
		pid     int
		stopped stoppedState
		account engine.Account
	}
}

var (
	_ engine.Engine    = (*Engine)(nil)
	_ engine.Accounter = (*Engine)(nil)
	_ engine.Encrypter = (*Engine)(nil)
	_ engine.Seeder    = (*Engine)(nil)
	_ engine.Rewinder  = (*Engine)(nil)
	_ engine.Salvager  = (*Engine)(nil)
	_ engine.Comparer  = (*Engine)(nil)
	_ engine.Scheduler = (*Engine)(nil)

	_ engine.Synchronizer = (*Engine)(nil)
	_ engine.Sharer       = (*Engine)(nil)
)

// daemon is the server's program.
const daemon = "/usr/sbin/mariadbd"

// Process is the name of the server's process.
const Process = "mariadbd"

// New checks the configuration. The data directory need not exist yet.
func New(cfg Config, memory engine.Memory, peers engine.Peers) (*Engine, error) {
	if cfg.Listen == "" {
		cfg.Listen = cfg.Host
	}
	if cfg.Port == 0 {
		cfg.Port = 3306
	}
	if cfg.Socket == "" {
		cfg.Socket = "/run/mysqld/mysqld.sock"
	}
	if cfg.BinDir == "" {
		cfg.BinDir = "/usr/bin"
	}
	if cfg.ConfigFile == "" && filepath.Clean(cfg.DataDir) == debianData {
		cfg.ConfigFile = debianConfig
	}
	if cfg.Superuser == "" {
		u, err := user.Current()
		if err != nil {
			return nil, fmt.Errorf("the agent's own user: %w", err)
		}
		cfg.Superuser = u.Username
	}
	for what, v := range map[string]string{"data directory": cfg.DataDir, "server name": cfg.Name, "host": cfg.Host,
		"configuration file": cfg.ConfigFile} {
		if v == "" {
			return nil, fmt.Errorf("the %s is not set", what)
		}
	}
	if _, err := os.Stat(cfg.ConfigFile); err != nil {
		return nil, fmt.Errorf("the server's configuration file: %w", err)
	}
	if _, err := os.Stat(daemon); err != nil {
		return nil, fmt.Errorf("MariaDB's server was not found: apt-get install mariadb-server mariadb-backup")
	}
	if cfg.LogFile == "" {
		cfg.LogFile = filepath.Join(filepath.Dir(cfg.DataDir), cfg.Name+".log")
	}
	e := &Engine{cfg: cfg, memory: memory, peers: peers, encryption: newEncryption(cfg.WorkDir),
		ownFile: ownFileIn(cfg.ConfigFile), Data: &host.Data{Name: cfg.Name, Dir: cfg.DataDir, BinDir: cfg.BinDir,
			Process: Process, Unit: cfg.Unit, Commands: cfg.Commands, OwnerName: cfg.Owner,
			DefaultOwner: "mysql"}}
	_, err := e.Owner()
	if err != nil {
		return nil, err
	}
	if e.version, err = programVersion(); err != nil {
		return nil, err
	}
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr = cfg.Superuser, "unix", cfg.Socket
	c.MultiStatements, c.InterpolateParams = true, true
	c.Timeout = 3 * time.Second
	c.Collation = "utf8mb4_bin"
	c.Logger = &mysql.NopLogger{} // sessions that end are nothing to tell of: the agent ends them itself
	unhurried(c)
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("connection settings of %s: %w", cfg.Name, err)
	}
	e.db = sql.OpenDB(connector)
	e.db.SetMaxIdleConns(3)
	e.db.SetConnMaxIdleTime(time.Minute)
	return e, nil
}

// unhurried has what a DBA set for everybody's sessions end none of these, which wait
// inside transactions on purpose, and are bounded by their callers.
func unhurried(c *mysql.Config) {
	c.Params = map[string]string{"max_statement_time": "0", "wait_timeout": "86400", "idle_transaction_timeout": "0",
		"idle_readonly_transaction_timeout": "0", "idle_write_transaction_timeout": "0", "tx_read_only": "0"}
}

func (e *Engine) exec(ctx context.Context, statement string, args ...any) error {
	_, err := e.db.ExecContext(ctx, statement, args...)
	return e.explain(err)
}

func (e *Engine) explain(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", e.cfg.Name, err)
}

// text returns one value.
func (e *Engine) text(ctx context.Context, query string, args ...any) (string, error) {
	var s sql.NullString
	err := e.db.QueryRowContext(ctx, query, args...).Scan(&s)
	return s.String, e.explain(err)
}

// number tells the server's error number, 0 for another kind of error.
func number(err error) uint16 {
	var m *mysql.MySQLError
	if errors.As(err, &m) {
		return m.Number
	}
	return 0
}

// records reads all rows of a statement whose columns are known by name only.
func records(rows *sql.Rows) ([]map[string]string, error) {
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out []map[string]string
	for rows.Next() {
		values := make([]sql.NullString, len(names))
		into := make([]any, len(names))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		m := map[string]string{}
		for i, n := range names {
			if values[i].Valid {
				m[n] = values[i].String
			}
		}
		out = append(out, m)
	}
	return out, rows.Err()
}

func (e *Engine) query(ctx context.Context, statement string, args ...any) ([]map[string]string, error) {
	rows, err := e.db.QueryContext(ctx, statement, args...)
	if err != nil {
		return nil, e.explain(err)
	}
	defer rows.Close()
	out, err := records(rows)
	return out, e.explain(err)
}

func literal(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(s) + "'"
}

// name quotes an identifier.
func name(s string) string { return "`" + strings.ReplaceAll(s, "`", "``") + "`" }

// address is where peers reach this server.
func (e *Engine) address() observation.Address {
	return observation.Address{Host: e.cfg.Host, Port: e.cfg.Port}
}

// The agent's memory of what a server that does not run cannot say.
const (
	rememberSystem   = "system"
	rememberLine     = "line"
	rememberLogs     = "log_bin_basename"
	rememberRelay    = "relay_log_basename"
	rememberEvents   = "event_scheduler" // as it was before a role change switched it off
	rememberMark     = "mark"            // newest mark found here: id and GTID
	rememberServerID = "server_id"
)

// remember keeps a value, and writes only when it is another one.
func (e *Engine) remember(key, value string) {
	if value != "" && e.memory.Fingerprint(key) != value {
		e.memory.SetFingerprint(key, value)
	}
}
