package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// cargoSchema of the cargo database. Every container came to its first port by
// a movement from nowhere, so a port's balance is the sum of its movements.
const cargoSchema = `
create database cargo character set utf8mb4;
use cargo;
create table ports (id int not null primary key, name varchar(40) not null);
create table containers (id int not null primary key, code char(11) not null unique, port_id int not null,
  contents varchar(200) not null, weight_kg decimal(8,1) not null,
  constraint at_port foreign key (port_id) references ports (id));
create table movements (id bigint not null auto_increment primary key, reference varchar(60) not null unique,
  container_id int not null, from_port int, to_port int not null,
  moved_at timestamp(6) not null default current_timestamp(6), note text, key (container_id));
create table balances (port_id int not null primary key, containers int not null);
insert into ports values (1,'Harbour'),(2,'Skerry'),(3,'Longholm'),(4,'Outer Stack');
insert into containers select seq, concat('SKRU', lpad(seq, 7, '0')), 1 + seq % 4, repeat(md5(seq), 5),
  1000 + seq % 900 from seq_1_to_{containers};
insert into movements (reference, container_id, to_port, note) select concat('START-', id), id, port_id,
  repeat(md5(id), 4) from containers;
insert into balances select port_id, count(*) from containers group by port_id;
create user 'skerry'@'%' identified by 'ferry-to-the-isles';
grant select, insert, update, delete on cargo.* to 'skerry'@'%';
create event nightly_sweep on schedule every 1 day starts '2027-01-01 03:00:00' do delete from cargo.movements
  where reference like 'VOID-%';
`

// containers is how many there are, always.
func (h *mariadbHouse) containers() int {
	if h.c.opt.Small {
		return 2500
	}
	return 20000
}

// cargoConfig is the configuration of each server, as a DBA would have it who
// knows replication; nothing in it is Cross Twin's.
const cargoConfig = `[mariadbd]
datadir = %s
socket = %s
pid_file = %s
# Servers on one host need directories of their own for temporary files: each
# clears the leftovers there when it starts, its neighbour's too.
tmpdir = %s
port = %d
bind_address = %s
server_id = %d
log_bin = cargo-bin
relay_log = cargo-relay
log_slave_updates = on
binlog_format = ROW
binlog_row_image = FULL
binlog_row_metadata = FULL
gtid_domain_id = 1
gtid_strict_mode = on
sync_binlog = 1
innodb_flush_log_at_trx_commit = 1
innodb_buffer_pool_size = 64M
innodb_log_file_size = 32M
max_connections = %d
character_set_server = utf8mb4
skip_name_resolve = on
event_scheduler = on
`

// mariadbHouse keeps MariaDB servers by hand.
type mariadbHouse struct {
	c     *Cluster
	owner owner
}

const mariadbDaemon = "/usr/sbin/mariadbd"

func newMariaDBHouse(c *Cluster, own owner) (house, error) {
	for _, p := range []string{mariadbDaemon, "/usr/bin/mariadb-backup"} {
		if _, err := os.Stat(p); err != nil {
			return nil, errors.New("MariaDB is not installed: apt-get install mariadb-server mariadb-backup")
		}
	}
	return &mariadbHouse{c, own}, nil
}

func (h *mariadbHouse) place(s *Server, base string) {
	s.ConfigFile = filepath.Join(base, "my.cnf")
	s.SuperuserURI = "mysql://" + administrator() + "@localhost/" + Cargo + "?socket=" + socketOf(s)
	s.ApplicationURI = fmt.Sprintf("mysql://%s:%s@%s/%s", application, appPassword, at(s.Host, s.Port), Cargo)
}

func socketOf(s *Server) string { return filepath.Join(s.SocketDir, "mysqld.sock") }

// administrator is the account that a server knows by the user at the other
// end of its socket.
func administrator() string {
	if os.Geteuid() == 0 {
		return "root"
	}
	return os.Getenv("USER")
}

func (h *mariadbHouse) furnish(s *Server, number int) error {
	text := fmt.Sprintf(cargoConfig, s.DataDir, socketOf(s), filepath.Join(s.SocketDir, "mariadb.pid"), s.SocketDir,
		s.Port, s.Host, 10+number, h.c.opt.connections())
	if err := os.WriteFile(s.ConfigFile, []byte(text), 0o644); err != nil {
		return err
	}
	return os.Chown(s.ConfigFile, h.owner.uid, h.owner.gid)
}

func (h *mariadbHouse) enrolment(s *Server) []string {
	return []string{"--config-file", s.ConfigFile}
}

func (h *mariadbHouse) makePrimary(ctx context.Context) error {
	s := h.c.Servers[0]
	h.c.opt.Log("making a MariaDB server with the Skerry Line's cargo on port %d", s.Port)
	if err := h.c.opt.Blank(h.c.Engine, s.DataDir, func() error {
		return s.owner.run(ctx, "/usr/bin/env", "TMPDIR="+s.SocketDir, "/usr/bin/mariadb-install-db", "--no-defaults",
			"--datadir="+s.DataDir, "--auth-root-authentication-method=socket", "--auth-root-socket-user="+administrator(),
			"--skip-test-db")
	}); err != nil {
		return err
	}
	if err := h.startByHand(ctx, s); err != nil {
		return err
	}
	db, err := h.connect(s, "")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, strings.ReplaceAll(cargoSchema, "{containers}", strconv.Itoa(h.containers())))
	return err
}

func (h *mariadbHouse) startByHand(ctx context.Context, s *Server, env ...string) error {
	log, err := os.OpenFile(s.LogFile, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	defer log.Close()
	c := s.owner.with(env...).command(context.Background(), mariadbDaemon, "--defaults-file="+s.ConfigFile)
	c.Stdout, c.Stderr = log, log
	if c.SysProcAttr == nil {
		c.SysProcAttr = &syscall.SysProcAttr{}
	}
	c.SysProcAttr.Setsid = true
	if err := c.Start(); err != nil {
		return err
	}
	exited := make(chan error, 1)
	go func() { exited <- c.Wait() }()
	db, err := h.connect(s, "")
	if err != nil {
		return err
	}
	defer db.Close()
	for db.PingContext(ctx) != nil {
		select {
		case err := <-exited:
			return fmt.Errorf("%s ended at once: %w: see %s", s.Name, err, s.LogFile)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

func (h *mariadbHouse) connect(s *Server, database string) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName, c.MultiStatements, c.InterpolateParams = administrator(), "unix", socketOf(s),
		database, true, true
	c.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

func (h *mariadbHouse) open(s *Server) (*sql.DB, error) { return h.connect(s, Cargo) }

// starve stops the receivers of the replicas.
func (h *mariadbHouse) starve(ctx context.Context, primary *Server) error {
	for _, s := range h.c.Servers {
		if s == primary {
			continue
		}
		db, err := h.connect(s, "")
		if err != nil {
			return err
		}
		_, err = db.ExecContext(ctx, "stop slave io_thread")
		db.Close()
		if err != nil && !strings.Contains(err.Error(), "connect") {
			return err
		}
	}
	return nil
}

// writable tries as the application: an administrator may write despite
// read_only, which the checks say.
func (h *mariadbHouse) writable(ctx context.Context, s *Server) error {
	m, err := h.application(ctx, s)
	if err != nil {
		return err
	}
	defer m.close()
	_, err = m.db.ExecContext(ctx, "start transaction; insert into ports values (99, 'nowhere'); rollback")
	return err
}

// promise: no container is lost, and each port's balance is the sum of its
// movements and the number of containers there.
func (h *mariadbHouse) promise(ctx context.Context, s *Server) error {
	db, err := h.open(s)
	if err != nil {
		return err
	}
	defer db.Close()
	var containers, wrong int
	err = db.QueryRowContext(ctx, `select (select count(*) from containers),
 (select count(*) from balances b where containers <> (select count(*) from containers c where c.port_id = b.port_id)
  or containers <> (select sum(to_port = b.port_id) - sum(coalesce(from_port, 0) = b.port_id) from movements))`).Scan(
		&containers, &wrong)
	if err != nil {
		return err
	}
	if containers != h.containers() || wrong != 0 {
		return fmt.Errorf("%s holds %d containers of %d, and the balances of %d ports are not the sums of their movements",
			s.Name, containers, h.containers(), wrong)
	}
	return nil
}

func (h *mariadbHouse) missing(ctx context.Context, s *Server, acked []string) ([]string, error) {
	db, err := h.open(s)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "select reference from movements where reference like 'W%'")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	have := map[string]bool{}
	for rows.Next() {
		var r string
		if err := rows.Scan(&r); err != nil {
			return nil, err
		}
		have[r] = true
	}
	var out []string
	for _, r := range acked {
		if !have[r] {
			out = append(out, r)
		}
	}
	return out, rows.Err()
}

// mover is a client that moves containers between ports.
type mover struct {
	db         *sql.DB
	c          *sql.Conn
	containers int
}

// application connects to one server as the application.
func (h *mariadbHouse) application(ctx context.Context, s *Server) (*mover, error) {
	return h.dial(ctx, at(s.Host, s.Port))
}

// dial connects to an address as the application.
func (h *mariadbHouse) dial(ctx context.Context, address string) (*mover, error) {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName, c.MultiStatements, c.InterpolateParams, c.Timeout = application,
		appPassword, "tcp", address, Cargo, true, true, 2*time.Second
	c.Logger, c.ReadTimeout = &mysql.NopLogger{}, writeLimit // a commit takes no context
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	m := &mover{db: sql.OpenDB(connector), containers: h.containers()}
	if m.c, err = m.db.Conn(ctx); err != nil {
		m.db.Close()
		return nil, err
	}
	return m, nil
}

func (h *mariadbHouse) socketName() string { return "mysqld.sock" }

func (h *mariadbHouse) session(ctx context.Context) (session, error) {
	if gates := h.c.Writers(); len(gates) > 0 {
		var failed error
		for _, g := range gates {
			m, err := h.dial(ctx, g)
			if err == nil {
				return m, nil
			}
			failed = err
		}
		return nil, failed
	}
	for _, s := range h.c.Servers {
		if m := h.writer(ctx, s); m != nil {
			return m, nil
		}
	}
	return nil, errors.New("no server takes writes")
}

// writer opens a session with a server that takes writes. Each has its own time: one whose
// disk hangs takes connections still, and answers nobody.
func (h *mariadbHouse) writer(ctx context.Context, s *Server) session {
	limit, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	m, err := h.application(limit, s)
	if err != nil {
		return nil
	}
	var readOnly bool
	if err := m.c.QueryRowContext(limit, "select @@global.read_only").Scan(&readOnly); err != nil || readOnly {
		m.close()
		return nil
	}
	return m
}

// write moves one container: from where it is to another port.
func (m *mover) write(ctx context.Context, reference string) error {
	tx, err := m.c.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	container := 1 + rand.IntN(m.containers)
	var from int
	if err := tx.QueryRowContext(ctx, "select port_id from containers where id = ? for update",
		container).Scan(&from); err != nil {
		return err
	}
	to := 1 + (from+rand.IntN(3))%4
	// Balances in one order for everybody: no two movers wait for each other.
	first, second := min(from, to), max(from, to)
	step := func(port int) string {
		if port == to {
			return "containers + 1"
		}
		return "containers - 1"
	}
	for _, s := range []struct {
		sql  string
		args []any
	}{
		{"insert into movements (reference, container_id, from_port, to_port) values (?, ?, ?, ?)",
			[]any{reference, container, from, to}},
		{"update containers set port_id = ? where id = ?", []any{to, container}},
		{"update balances set containers = " + step(first) + " where port_id = ?", []any{first}},
		{"update balances set containers = " + step(second) + " where port_id = ?", []any{second}},
	} {
		if _, err := tx.ExecContext(ctx, s.sql, s.args...); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (m *mover) close() {
	if m.c != nil {
		m.c.Close()
	}
	m.db.Close()
}
