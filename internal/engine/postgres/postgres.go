// Package postgres handles one PostgreSQL server (version 15), with its configuration
// inside the data directory or elsewhere, as Debian's packages lay it out.
//
// It talks to the server over its local socket as the superuser, runs the
// server's own utilities as the owner of the data directory, and never runs
// anything of the database as root. What the utilities print is read by
// core/pgtool.
//
// Invariant kept here (closed by default): a data directory always holds
// standby.signal, except between the removal in startPrimary and the moment at
// which the server has opened. A running primary never reads the file; whoever
// starts the data next gets a read-only standby.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
	"crosstwin/internal/engine/host"
)

// Config says where a server lives.
type Config struct {
	Name    string // of the server in its cluster
	DataDir string
	// ConfigFile is the server's postgresql.conf where that is not in the data directory;
	// empty: found.
	ConfigFile string
	// Unit is the service manager's unit that runs the server, Commands what starts and
	// stops it where no unit does; both empty: the agent runs it.
	Unit      string
	Commands  host.Commands
	BinDir    string // empty: found from the data directory or the newest installed
	SocketDir string
	Port      int
	Host      string // as peers reach it
	Listen    string // listen_addresses
	WorkDir   string // the agent's own directory
	LogFile   string
	Owner     string // operating system user for a data directory that is not there yet
	Superuser string
	// TablespaceMap says where tablespaces of other servers go here, by their path
	// there. A path that is not in it stays as it is.
	TablespaceMap map[string]string
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
	pool    *pgxpool.Pool
	compare compareState
	busy    host.Busy
	// committer tries whether it commits.
	committer committer
	// encryption are the files of its encrypted connections.
	encryption *host.Encryption

	seen struct {
		sync.Mutex
		control      controlCache
		startedAt    string // of the server whose fingerprint was looked up
		line         lineCache
		newest       newestTimeline
		lastTimeline uint32
		segment      uint64
		user         string // the account to follow by, once it is known
		alone        *alone // commits that no replica had
		words        logWords
		certified    bool // the server has a certificate by which it may be encrypted
	}
}

var (
	_ engine.Engine       = (*Engine)(nil)
	_ engine.Accounter    = (*Engine)(nil)
	_ engine.Encrypter    = (*Engine)(nil)
	_ engine.Synchronizer = (*Engine)(nil)
	_ engine.Seeder       = (*Engine)(nil)
	_ engine.Rewinder     = (*Engine)(nil)
	_ engine.Settler      = (*Engine)(nil)
	_ engine.Reserver     = (*Engine)(nil)
	_ engine.Checkpointer = (*Engine)(nil)
	_ engine.TailReader   = (*Engine)(nil)
	_ engine.Salvager     = (*Engine)(nil)
	_ engine.Comparer     = (*Engine)(nil)
	_ engine.Sharer       = (*Engine)(nil)
	_ engine.Fitter       = (*Engine)(nil)
)

// Process is the name of the server's process.
const Process = "postgres"

// New checks the configuration. The data directory need not exist yet.
func New(cfg Config, memory engine.Memory, peers engine.Peers) (*Engine, error) {
	if cfg.Superuser == "" {
		cfg.Superuser = "postgres"
	}
	if cfg.Listen == "" {
		cfg.Listen = cfg.Host
	}
	if cfg.Port == 0 {
		cfg.Port = 5432
	}
	if cfg.SocketDir == "" {
		cfg.SocketDir = "/var/run/postgresql"
	}
	for what, v := range map[string]string{"data directory": cfg.DataDir, "server name": cfg.Name, "host": cfg.Host} {
		if v == "" {
			return nil, fmt.Errorf("the %s is not set", what)
		}
	}
	if cfg.ConfigFile == "" {
		cfg.ConfigFile = ConfigOf(cfg.DataDir)
	}
	if cfg.LogFile == "" {
		cfg.LogFile = defaultLog(cfg)
	}
	if cfg.BinDir == "" {
		dir, err := findPrograms(cfg.DataDir)
		if err != nil {
			return nil, err
		}
		cfg.BinDir = dir
	}
	if _, err := os.Stat(filepath.Join(cfg.DataDir, "PG_VERSION")); err == nil && cfg.ConfigFile == "" {
		if _, err := os.Stat(filepath.Join(cfg.DataDir, "postgresql.conf")); err != nil {
			return nil, fmt.Errorf("the data directory %s holds no postgresql.conf, and no %s names it: say where its "+
				"configuration is, with config_file", cfg.DataDir, clusterPattern)
		}
	}
	e := &Engine{cfg: cfg, memory: memory, peers: peers, encryption: newEncryption(cfg.WorkDir),
		committer: newCommitter(),
		Data: &host.Data{Name: cfg.Name, Dir: cfg.DataDir, BinDir: cfg.BinDir, Process: Process, Unit: cfg.Unit,
			Commands:     cfg.Commands,
			OwnerName:    cfg.Owner,
			DefaultOwner: "postgres",
			Env:          []string{"PGCONNECT_TIMEOUT=10", "PGTZ=UTC"}}}
	if _, err := e.Owner(); err != nil {
		return nil, err
	}
	pc, err := pgxpool.ParseConfig(
		fmt.Sprintf(
			"host=%s port=%d user=%s dbname=postgres connect_timeout=3 application_name=crosstwin-agent pool_max_conns=4",
			cfg.SocketDir, cfg.Port, cfg.Superuser))
	if err != nil {
		return nil, fmt.Errorf("connection settings of %s: %w", cfg.Name, err)
	}
	pc.ConnConfig.DialFunc = e.Dial
	pc.ConnConfig.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	// What a DBA set for everybody's sessions ends none of these, which wait inside
	// transactions on purpose, and are bounded by their callers.
	for _, limit := range []string{"statement_timeout", "lock_timeout", "idle_in_transaction_session_timeout",
		"idle_session_timeout"} {
		pc.ConnConfig.RuntimeParams[limit] = "0"
	}
	// Whoever owns a database could otherwise have these sessions, which are a
	// superuser's, find functions of theirs under the server's names.
	pc.ConnConfig.RuntimeParams["search_path"] = "pg_catalog"
	// Nor may a database's own settings change what a quoted text means.
	pc.ConnConfig.RuntimeParams["standard_conforming_strings"] = "on"
	pc.ConnConfig.RuntimeParams["client_encoding"] = "UTF8"
	pc.MaxConnIdleTime = time.Minute
	if e.pool, err = pgxpool.NewWithConfig(context.Background(), pc); err != nil {
		return nil, fmt.Errorf("connections to %s: %w", cfg.Name, err)
	}
	return e, nil
}

// connect opens a connection of its own to a database, outside the pool.
func (e *Engine) connect(ctx context.Context, database, socketDir string, port int) (*pgx.Conn, error) {
	return e.connectAs(ctx, e.cfg.Superuser, database, socketDir, port)
}

func (e *Engine) connectAs(ctx context.Context, user, database, socketDir string, port int,
	more ...func(*pgx.ConnConfig)) (*pgx.Conn, error) {
	c := e.pool.Config().ConnConfig.Copy()
	c.User, c.Database, c.Host, c.Port = user, database, socketDir, uint16(port)
	c.Fallbacks = nil
	if user == verb.ReaderUser {
		c.RuntimeParams["default_transaction_read_only"] = "on"
	}
	for _, change := range more {
		change(c)
	}
	return pgx.ConnectConfig(ctx, c)
}

// leave ends the sessions that are kept from one question to the next (invariant: nobody who
// stops a server waits for its agent). A smart stop waits for every session, for ever.
func (e *Engine) leave() {
	e.pool.Reset()
	e.committer.leave()
}

func (e *Engine) exec(ctx context.Context, sql string) error {
	_, err := e.pool.Exec(ctx, sql)
	return e.explain(err)
}

func (e *Engine) explain(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w%s", e.cfg.Name, err, furtherWords(err))
}

// furtherWords are the server's own detail and hint, each behind a semicolon.
func furtherWords(err error) string {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) {
		return ""
	}
	text := ""
	for _, s := range []string{pe.Detail, pe.Hint} {
		if s != "" {
			text += "; " + s
		}
	}
	return text
}

func literal(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// Slots makes and drops physical slots.
func (e *Engine) Slots(ctx context.Context, a verb.Slots) error {
	for _, n := range a.Ensure {
		if err := e.exec(ctx, "select pg_create_physical_replication_slot("+literal(n)+
			", true) where not exists (select from pg_replication_slots where slot_name = "+literal(n)+")"); err != nil {
			return fmt.Errorf("make slot %s: %w", n, err)
		}
	}
	for _, n := range a.Drop {
		if err := e.dropSlot(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) dropSlot(ctx context.Context, name string) error {
	var err error
	for range 20 {
		if err = e.exec(ctx, "select pg_terminate_backend(active_pid) from pg_replication_slots where slot_name = "+
			literal(name)+" and active"); err == nil {
			if err = e.exec(ctx, "select pg_drop_replication_slot(slot_name) from pg_replication_slots where slot_name = "+
				literal(name)); err == nil {
				return nil
			}
		}
		if ctx.Err() != nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("drop slot %s: %w", name, err)
}

// Checkpoint writes dirty pages out.
func (e *Engine) Checkpoint(ctx context.Context) error { return e.exec(ctx, "checkpoint") }

// address is where peers reach this server.
func (e *Engine) address() observation.Address {
	return observation.Address{Host: e.cfg.Host, Port: e.cfg.Port}
}
