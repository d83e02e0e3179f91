package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// schema of the bookings database. Places, vessels and people are made up.
const schema = `
create table routes (id int primary key, from_port text not null, to_port text not null, minutes int not null);
create table vessels (id int primary key, name text not null, seats int not null);
create table sailings (id bigint generated always as identity primary key, route_id int not null references routes, vessel_id int not null references vessels,
  departs_at timestamptz not null, seats_total int not null, seats_sold int not null default 0 check (seats_sold between 0 and seats_total));
create table passengers (id bigint generated always as identity primary key, name text not null, email text not null, note text);
create table bookings (id bigint generated always as identity primary key, reference text not null unique, sailing_id bigint not null references sailings,
  passenger_id bigint not null references passengers, booked_at timestamptz not null default clock_timestamp());
insert into routes values (1,'Harbour','Skerry',25),(2,'Skerry','Longholm',40),(3,'Harbour','Longholm',55),(4,'Longholm','Outer Stack',70);
insert into vessels values (1,'Kittiwake',180),(2,'Fulmar',240),(3,'Petrel',90);
insert into sailings (route_id, vessel_id, departs_at, seats_total)
  select 1 + g %% 4, 1 + g %% 3, timestamptz '2027-01-01 06:00Z' + g * interval '2 hours', (array[180,240,90])[1 + g %% 3] * 50 from generate_series(0, 599) g;
insert into passengers (name, email, note)
  select 'Passenger ' || g, 'p' || g || '@skerry.example', repeat(md5(g::text), 12) from generate_series(1, %d) g;
with b as (insert into bookings (reference, sailing_id, passenger_id)
  select 'START-' || g, 1 + g %% 600, 1 + g %% %d from generate_series(1, 3000) g returning sailing_id)
update sailings s set seats_sold = n from (select sailing_id, count(*) n from b group by 1) x where x.sailing_id = s.id;
grant select, insert, update, delete on all tables in schema public to ` + application + `;
grant usage on all sequences in schema public to ` + application + `;
`

// passengerRows sizes the world: about 40 MB.
const passengerRows = 60000

// serverConfig is what the demo's primary sets beyond the defaults.
const serverConfig = `
listen_addresses = '%s'
port = %d
unix_socket_directories = '%s'
max_connections = 60
shared_buffers = 64MB
wal_level = replica
wal_keep_size = 256MB
max_wal_size = 512MB
log_line_prefix = '%%m [%%p] '
timezone = 'UTC'
`

// makePrimary makes a bare server as a DBA would have it, without any help of
// Cross Twin's, and fills it.
func (w *World) makePrimary(ctx context.Context) error {
	s := w.Servers[0]
	w.opt.Log("making a PostgreSQL server with the Skerry Line's bookings on port %d", s.Port)
	if err := w.database(ctx, "initdb", "-D", s.DataDir, "-U", "postgres", "-k", "-E", "UTF8", "--locale=C.UTF-8", "--auth-local=trust", "--auth-host=scram-sha-256"); err != nil {
		return err
	}
	conf, err := os.OpenFile(filepath.Join(s.DataDir, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(conf, serverConfig, s.Host, s.Port, s.SocketDir)
	if err = errors.Join(err, conf.Close()); err != nil {
		return err
	}
	if err := w.database(ctx, "pg_ctl", "-D", s.DataDir, "-l", s.LogFile, "-w", "start"); err != nil {
		return err
	}
	c, err := pgx.Connect(ctx, fmt.Sprintf("postgresql://postgres@/postgres?host=%s&port=%d", s.SocketDir, s.Port))
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for _, sql := range []string{"create role " + application + " login password '" + appPassword + "'", "create database " + database} {
		if _, err := c.Exec(ctx, sql); err != nil {
			return err
		}
	}
	d, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return err
	}
	defer d.Close(ctx)
	_, err = d.Exec(ctx, fmt.Sprintf(schema, passengerRows, passengerRows))
	return err
}

// Database runs one of the database's programs as its owner.
func (w *World) database(ctx context.Context, program string, args ...string) error {
	c := w.DatabaseCommand(ctx, program, args...)
	// pg_ctl hands its outputs on to the server: a pipe would never end.
	out, err := os.CreateTemp("", "crosstwin-demo-")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	c.Stdout, c.Stderr = out, out
	if err := c.Run(); err != nil {
		b, _ := os.ReadFile(out.Name())
		return fmt.Errorf("%s: %w: %s", program, err, b)
	}
	return nil
}

// StartByHand starts a server the way a person or a service manager would,
// without its agent.
func (w *World) StartByHand(ctx context.Context, s *Server) error {
	// A killed server's process id stays in use until its parent reaps it, and
	// another start is refused as long.
	if b, err := os.ReadFile(filepath.Join(s.DataDir, "postmaster.pid")); err == nil {
		pid, _ := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])
		for syscall.Kill(pid, 0) == nil && ctx.Err() == nil {
			time.Sleep(5 * time.Millisecond)
		}
	}
	return w.database(ctx, "pg_ctl", "-D", s.DataDir, "-l", s.LogFile, "-w", "-t", "30", "start")
}

// DatabaseCommand prepares one of the database's programs to run as the owner
// of its files.
func (w *World) DatabaseCommand(ctx context.Context, program string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, filepath.Join(w.bin, program), args...)
	c.Dir, c.Env = "/", []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	if w.owner != nil {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: w.owner}
	}
	return c
}

// Promise counts the bookings and the seats sold on a server: equal at every
// position of every server.
func Promise(ctx context.Context, s *Server) (bookings, seats int64, err error) {
	c, err := pgx.Connect(ctx, s.SuperuserURI)
	if err != nil {
		return 0, 0, err
	}
	defer c.Close(ctx)
	err = c.QueryRow(ctx, "select (select count(*) from bookings), (select sum(seats_sold) from sailings)").Scan(&bookings, &seats)
	return bookings, seats, err
}
