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

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib" // registers the driver pgx
)

// bookingsSchema of the bookings database. Places, vessels and people are made up.
const bookingsSchema = `
create table routes (id int primary key, from_port text not null, to_port text not null, minutes int not null);
create table vessels (id int primary key, name text not null, seats int not null);
create table sailings (id bigint generated always as identity primary key, route_id int not null references routes,
  vessel_id int not null references vessels,
  departs_at timestamptz not null, seats_total int not null,
    seats_sold int not null default 0 check (seats_sold between 0 and seats_total));
create table passengers (id bigint generated always as identity primary key, name text not null,
  email text not null, note text);
create table bookings (id bigint generated always as identity primary key, reference text not null unique,
  sailing_id bigint not null references sailings,
  passenger_id bigint not null references passengers, booked_at timestamptz not null default clock_timestamp());
insert into routes values (1,'Harbour','Skerry',25),(2,'Skerry','Longholm',40),(3,'Harbour','Longholm',55),
  (4,'Longholm','Outer Stack',70);
insert into vessels values (1,'Kittiwake',180),(2,'Fulmar',240),(3,'Petrel',90);
insert into sailings (route_id, vessel_id, departs_at, seats_total)
  select 1 + g %% 4, 1 + g %% 3, timestamptz '2027-01-01 06:00Z' + g * interval '2 hours',
    (array[180,240,90])[1 + g %% 3] * 50 from generate_series(0, 599) g;
insert into passengers (name, email, note)
  select 'Passenger ' || g, 'p' || g || '@skerry.example', repeat(md5(g::text), 12) from generate_series(1, %d) g;
with b as (insert into bookings (reference, sailing_id, passenger_id)
  select 'START-' || g, 1 + g %% 600, 1 + g %% %d from generate_series(1, 3000) g returning sailing_id)
update sailings s set seats_sold = n from (select sailing_id, count(*) n from b group by 1) x where x.sailing_id = s.id;
grant select, insert, update, delete on all tables in schema public to ` + application + `;
grant usage on all sequences in schema public to ` + application + `;
`

// passengers is how many there are: about 40 MB, or an eighth of that.
func (h *postgresHouse) passengers() int {
	if h.c.opt.Small {
		return 7500
	}
	return 60000
}

// serverConfig is what the demo's primary sets beyond the defaults.
const serverConfig = `
listen_addresses = '%s'
port = %d
unix_socket_directories = '%s'
max_connections = %d
shared_buffers = 64MB
wal_level = replica
wal_keep_size = 256MB
max_wal_size = 512MB
log_line_prefix = '%%m [%%p] '
timezone = 'UTC'
`

// postgresHouse keeps PostgreSQL servers by hand.
type postgresHouse struct {
	c     *Cluster
	owner owner
	bin   string
}

func newPostgresHouse(c *Cluster, own owner) (house, error) {
	h := &postgresHouse{c, own, "/usr/lib/postgresql/15/bin"}
	if _, err := os.Stat(h.bin); err != nil {
		return nil, errors.New("PostgreSQL 15 is not installed: apt-get install postgresql-15")
	}
	return h, nil
}

func (h *postgresHouse) place(s *Server, _ string) {
	s.SuperuserURI = fmt.Sprintf("postgresql://postgres@/%s?host=%s&port=%d", Bookings, s.SocketDir, s.Port)
	s.ApplicationURI = fmt.Sprintf("postgresql://%s:%s@%s/%s", application, appPassword, at(s.Host, s.Port), Bookings)
}

func (h *postgresHouse) furnish(*Server, int) error { return nil }
func (h *postgresHouse) enrolment(*Server) []string { return nil }

func (h *postgresHouse) run(ctx context.Context, program string, args ...string) error {
	return h.c.Servers[0].owner.run(ctx, filepath.Join(h.bin, program), args...)
}

// makePrimary makes a bare server as a DBA would have it, without any help of
// Cross Twin's, and fills it.
func (h *postgresHouse) makePrimary(ctx context.Context) error {
	s := h.c.Servers[0]
	h.c.opt.Log("making a PostgreSQL server with the Skerry Line's bookings on port %d", s.Port)
	if err := h.c.opt.Blank(h.c.Engine, s.DataDir, func() error {
		return h.run(ctx, "initdb", "-D", s.DataDir, "-U", "postgres", "-k", "-E", "UTF8", "--locale=C.UTF-8",
			"--auth-local=trust", "--auth-host=scram-sha-256")
	}); err != nil {
		return err
	}
	if err := appendTo(filepath.Join(s.DataDir, "postgresql.conf"),
		fmt.Sprintf(serverConfig, s.Host, s.Port, s.SocketDir, h.c.opt.connections())); err != nil {
		return err
	}
	if s.on.Namespace != "" {
		if err := appendTo(filepath.Join(s.DataDir, "pg_hba.conf"), "host all all all scram-sha-256\n"); err != nil {
			return err
		}
	}
	if err := h.run(ctx, "pg_ctl", "-D", s.DataDir, "-l", s.LogFile, "-w", "start"); err != nil {
		return err
	}
	c, err := pgx.Connect(ctx, fmt.Sprintf("postgresql://postgres@/postgres?host=%s&port=%d", s.SocketDir, s.Port))
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for _, sql := range []string{"create role " + application + " login password '" + appPassword + "'",
		"create database " + Bookings} {
		if _, err := c.Exec(ctx, sql); err != nil {
			return err
		}
	}
	d, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return err
	}
	defer d.Close(ctx)
	_, err = d.Exec(ctx, fmt.Sprintf(bookingsSchema, h.passengers(), h.passengers()))
	return err
}

func appendTo(file, text string) error {
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	return errors.Join(err, f.Close())
}

func (h *postgresHouse) startByHand(ctx context.Context, s *Server, env ...string) error {
	// A killed server's process id stays in use until its parent reaps it, and
	// another start is refused as long.
	if b, err := os.ReadFile(filepath.Join(s.DataDir, "postmaster.pid")); err == nil {
		pid, _ := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
		for syscall.Kill(pid, 0) == nil && ctx.Err() == nil {
			time.Sleep(5 * time.Millisecond)
		}
	}
	return s.owner.with(env...).run(ctx, filepath.Join(h.bin, "pg_ctl"), "-D", s.DataDir, "-l", s.LogFile, "-w", "-t",
		"30", "start")
}

// starve stops the processes through which the primary feeds its replicas.
func (h *postgresHouse) starve(_ context.Context, s *Server) error {
	eachProcess(func(pid int, cmdline, cwd string) {
		if cwd == s.DataDir && strings.Contains(cmdline, "walsender") {
			syscall.Kill(pid, syscall.SIGSTOP)
		}
	})
	return nil
}

func (h *postgresHouse) open(s *Server) (*sql.DB, error) { return sql.Open("pgx", s.SuperuserURI) }

func (h *postgresHouse) writable(ctx context.Context, s *Server) error {
	c, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "set default_transaction_read_only = off; create temp table probe(); select txid_current()")
	return err
}

// promise: as many seats are sold as there are bookings.
func (h *postgresHouse) promise(ctx context.Context, s *Server) error {
	c, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	var bookings, seats int64
	if err := c.QueryRow(ctx,
		"select (select count(*) from bookings), (select sum(seats_sold) from sailings)").Scan(&bookings,
		&seats); err != nil {
		return err
	}
	if bookings != seats {
		return fmt.Errorf("%s holds %d bookings and %d seats sold", s.Name, bookings, seats)
	}
	return nil
}

func (h *postgresHouse) missing(ctx context.Context, s *Server, acked []string) ([]string, error) {
	c, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	rows, err := c.Query(ctx,
		"select r from unnest($1::text[]) r where not exists (select from bookings where reference = r)", acked)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// seller is a client that sells seats. It connects the way an application
// would, with all servers in one address.
type seller struct {
	c          *pgx.Conn
	passengers int
}

func (h *postgresHouse) session(ctx context.Context) (session, error) {
	var hosts []string
	for _, s := range h.c.Servers {
		hosts = append(hosts, at(s.Host, s.Port))
	}
	if gates := h.c.Writers(); len(gates) > 0 {
		hosts = gates
	}
	c, err := pgx.Connect(ctx,
		fmt.Sprintf("postgresql://%s:%s@%s/%s?target_session_attrs=read-write&connect_timeout=2&application_name=skerry",
			application, appPassword, strings.Join(hosts, ","), Bookings))
	if err != nil {
		return nil, err
	}
	return seller{c, h.passengers()}, nil
}

func (h *postgresHouse) socketName() string { return ".s.PGSQL.5432" }

// write makes one booking: it is inserted and raises the seats sold.
func (s seller) write(ctx context.Context, reference string) error {
	return pgx.BeginFunc(ctx, s.c, func(tx pgx.Tx) error {
		sailing := 1 + rand.IntN(600)
		if _, err := tx.Exec(ctx, "insert into bookings (reference, sailing_id, passenger_id) values ($1, $2, $3)", reference,
			sailing, 1+rand.IntN(s.passengers)); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "update sailings set seats_sold = seats_sold + 1 where id = $1", sailing)
		return err
	})
}

func (s seller) close() { s.c.Close(context.Background()) }
