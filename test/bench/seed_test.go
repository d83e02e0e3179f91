package bench

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/demo"
	"crosstwin/internal/freeport"
	"crosstwin/test/harness"
)

// ballast is how much data a seed copies, in rows of about 1 KB.
const ballast = 2_000_000

// BenchmarkSeed compares the copying of 2 GB by a seed with the engine's own copy utility
// from the same primary to the same disk; the second of two copies each counts, so that the
// primary's files are in memory for both.
func BenchmarkSeed(b *testing.B) {
	for _, c := range []string{demo.Bookings, demo.Cargo} {
		b.Run(c, func(b *testing.B) { seedRate(b, c) })
	}
}

func seedRate(b *testing.B, cluster string) {
	w, ctx := harness.World(b, binary, cluster, nil, inFull)
	primary := w.Servers[0]
	bytes := fill(ctx, b, w, primary)
	var ours, bare, piped []time.Duration
	for i, s := range w.Servers[1:] {
		op, err := w.Operate(ctx, operation.Request{Kind: operation.Seed, Server: s.Name}, nil)
		if err != nil {
			b.Fatal(err)
		}
		ours = append(ours, copied(op))
		began := time.Now()
		copyByHand(ctx, b, w, primary, fmt.Sprintf("%s-bare-%d", s.DataDir, i))
		bare = append(bare, time.Since(began))
		if w.Engine == position.EngineMariaDB {
			began = time.Now()
			copyThroughPipe(ctx, b, primary, fmt.Sprintf("%s-piped-%d", s.DataDir, i))
			piped = append(piped, time.Since(began))
		}
	}
	rate := func(d time.Duration) float64 { return float64(bytes) / 1e6 / d.Seconds() }
	fmt.Printf("\nseed of %s (%s), %.1f GB, MB/s (first, second)\n  by the service        %4.0f %4.0f\n"+
		"  by the utility alone  %4.0f %4.0f\n", w.Name, w.Engine, float64(bytes)/1e9, rate(ours[0]), rate(ours[1]),
		rate(bare[0]), rate(bare[1]))
	if len(piped) > 0 {
		fmt.Printf("  in a pipe on one host %4.0f %4.0f\n", rate(piped[0]), rate(piped[1]))
	}
	report("seed-rate-"+w.Engine, rate(slices.Min(ours))/rate(slices.Min(bare)), "ratio", 0.95)
}

// copied is how long the copy itself took.
func copied(op operation.Operation) time.Duration {
	for i, s := range op.Plan.Steps {
		if r := op.Steps[i]; s.Name == "copy" && r.EndedAt != nil {
			return r.EndedAt.Sub(*r.StartedAt)
		}
	}
	return 0
}

// fill writes the data, past the log where the engine can, and returns its size.
func fill(ctx context.Context, b *testing.B, w *demo.Cluster, s *demo.Server) (bytes int64) {
	b.Helper()
	if w.Engine == position.EnginePostgres {
		letIn(b, s)
	}
	statements := []string{"create role mate login replication", "select pg_reload_conf()",
		"create table ballast as select n, repeat(md5(n::text), 30) as text from generate_series(1, %d) as n", "checkpoint"}
	size := "select pg_database_size(current_database())"
	if w.Engine == position.EngineMariaDB {
		statements = []string{"set session sql_log_bin = 0", "create database ballast",
			"create table ballast.lines as select seq, repeat(md5(seq), 30) as text from seq_1_to_%d",
			"flush tables", "create user hand@localhost identified by 'only-a-test'", "grant all on *.* to hand@localhost"}
		size = "select sum(file_size) from information_schema.innodb_sys_tablespaces where name like 'ballast/%'"
	}
	db, err := s.Open()
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	c, err := db.Conn(ctx)
	if err != nil {
		b.Fatal(err)
	}
	defer c.Close()
	for _, text := range statements {
		if strings.Contains(text, "%d") {
			text = fmt.Sprintf(text, ballast)
		}
		if _, err := c.ExecContext(ctx, text); err != nil {
			b.Fatalf("%s: %v", text, err)
		}
	}
	var n sql.NullInt64
	if err := c.QueryRowContext(ctx, size).Scan(&n); err != nil {
		b.Fatal(err)
	}
	return n.Int64
}

// letIn lets an administrator's account copy the primary over the network, encrypted as by
// the utility's defaults.
func letIn(b *testing.B, s *demo.Server) {
	b.Helper()
	hba := filepath.Join(s.DataDir, "pg_hba.conf")
	rules, err := os.ReadFile(hba)
	if err == nil {
		err = os.WriteFile(hba, append([]byte("hostssl replication mate 127.0.0.1/32 trust\n"), rules...), 0o600)
	}
	if err != nil {
		b.Fatal(err)
	}
}

// copyByHand copies the primary with the engine's utility, encrypted over the network, and
// removes the copy. MariaDB's utility writes to a pipe: what carries it to the other host is
// what the packages bring along for their own copies.
func copyByHand(ctx context.Context, b *testing.B, w *demo.Cluster, s *demo.Server, dir string) {
	b.Helper()
	line := fmt.Sprintf("/usr/lib/postgresql/15/bin/pg_basebackup -D %s -h 127.0.0.1 -p %d -U mate -X stream -c fast", dir,
		s.Port)
	if w.Engine == position.EngineMariaDB {
		port := freeport.Next()
		line = fmt.Sprintf("mkdir %[1]s && openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes "+
			"-days 2 -subj /CN=127.0.0.1 -keyout %[1]s.key -out %[1]s.crt 2>/dev/null || exit 1; "+
			"socat -u OPENSSL-LISTEN:%[2]d,bind=127.0.0.1,cert=%[1]s.crt,key=%[1]s.key,verify=0 STDOUT | "+
			"mbstream -x -C %[1]s & %[3]s | "+
			"socat -u STDIN OPENSSL:127.0.0.1:%[2]d,cafile=%[1]s.crt,retry=50,interval=0.1 && wait $!", dir, port,
			backup(s, dir))
	}
	copyBy(ctx, b, s, dir, line)
}

// copyThroughPipe is MariaDB's utility within one host, unencrypted.
func copyThroughPipe(ctx context.Context, b *testing.B, s *demo.Server, dir string) {
	b.Helper()
	copyBy(ctx, b, s, dir, fmt.Sprintf("mkdir %[1]s && %[2]s | mbstream -x -C %[1]s", dir, backup(s, dir)))
}

// backup is the command line of MariaDB's utility, to its standard output.
func backup(s *demo.Server, dir string) string {
	return fmt.Sprintf("mariadb-backup --no-defaults --backup --stream=mbstream --user=hand --password=only-a-test "+
		"--datadir=%s --socket=%s 2>%s.log", s.DataDir, filepath.Join(s.SocketDir, "mysqld.sock"), dir)
}

// copyBy runs a command line that copies the primary to a directory.
func copyBy(ctx context.Context, b *testing.B, s *demo.Server, dir, line string) {
	b.Helper()
	if err := s.RunAsOwner(ctx, "/bin/bash", "-o", "pipefail", "-c", line); err != nil {
		b.Fatal(err)
	}
	if files, err := os.ReadDir(dir); err != nil || len(files) < 5 {
		b.Fatalf("the copy by hand in %s: %d files, %v", dir, len(files), err)
	}
	b.Cleanup(func() { os.RemoveAll(dir) })
}
