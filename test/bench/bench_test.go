// Package bench measures Cross Twin against the bare server commands, side by
// side in one run. Nothing is asserted: each figure is printed with its limit,
// as a line "bench NAME VALUE UNIT limit LIMIT".
package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/view"
	"crosstwin/internal/demo"
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ctb")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	binary = filepath.Join(dir, "crosstwin")
	out, err := exec.Command("go", "build", "-o", binary, "crosstwin/cmd/crosstwin").CombinedOutput()
	if err != nil {
		fmt.Fprintf(os.Stderr, "%v: %s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

var binary string

func report(name string, value float64, unit string, limit float64) {
	fmt.Printf("bench %s %.3g %s limit %g\n", name, value, unit, limit)
}

func newWorld(b *testing.B) (*demo.World, context.Context) {
	b.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	b.Cleanup(cancel)
	dir, err := os.MkdirTemp("", "ctbw")
	if err != nil {
		b.Fatal(err)
	}
	os.Chmod(dir, 0o755)
	b.Cleanup(func() { os.RemoveAll(dir) })
	w, err := demo.Build(ctx, demo.Options{Dir: filepath.Join(dir, "w"), Binary: binary})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(w.Stop)
	if err := w.SeedAll(ctx, nil); err != nil {
		b.Fatal(err)
	}
	return w, ctx
}

const runs = 7

// BenchmarkSwitchoverPause compares the write pause as one reconnecting writer
// feels it: switchovers by the service, then the same ones by hand with the
// servers' own programs on the same servers.
func BenchmarkSwitchoverPause(b *testing.B) {
	w, ctx := newWorld(b)
	load := w.Load(1, time.Millisecond)
	defer load.Stop()
	var ours, bare []float64
	measure := func(change func() error) float64 {
		if err := load.AwaitAcks(ctx, 200); err != nil {
			b.Fatal(err)
		}
		load.Reset()
		if err := change(); err != nil {
			b.Fatal(err)
		}
		if err := load.AwaitAcks(ctx, 100); err != nil {
			b.Fatal(err)
		}
		return load.Gap().Seconds() * 1000
	}
	for range runs {
		if err := w.Await(ctx, inStep); err != nil {
			b.Fatal(err)
		}
		ours = append(ours, measure(func() error {
			_, err := w.Operate(ctx, plan.Request{Kind: plan.Switchover}, nil)
			return err
		}))
	}
	v, err := w.Client.Cluster(ctx, demo.Cluster)
	if err != nil {
		b.Fatal(err)
	}
	w.StopManagement()
	h := byHand{w: w, ctx: ctx, primary: w.Server(v.Primary), other: w.Server("tern"), third: w.Server("heron")}
	if h.primary == h.other {
		h.other = w.Server("gull")
	}
	for range runs {
		bare = append(bare, measure(h.switchover))
	}
	slices.Sort(ours)
	slices.Sort(bare)
	fmt.Printf("\nwrite pause of a switchover, ms, %d runs each (min / median / max)\n  by the service  %4.0f / %4.0f / %4.0f\n  by hand         %4.0f / %4.0f / %4.0f\n", runs,
		ours[0], ours[runs/2], ours[runs-1], bare[0], bare[runs/2], bare[runs-1])
	report("switchover-pause-postgresql", ours[runs/2]/bare[runs/2], "ratio", 1.5)
}

func inStep(v view.View) bool {
	for _, s := range v.Servers {
		if s.Health != view.InStep && s.Health != view.TakesWrites {
			return false
		}
	}
	return v.Operation == nil
}

// byHand is the careful sequence with bare commands: slots and settings
// beforehand, a checkpoint, a fast stop, proof by control data, promotion
// asked for again every 50 ms.
type byHand struct {
	w                     *demo.World
	ctx                   context.Context
	primary, other, third *demo.Server
}

func (h *byHand) psql(s *demo.Server, sql ...string) (string, error) {
	args := []string{"-XAtq", "-h", s.SocketDir, "-p", strconv.Itoa(s.Port), "-U", "postgres", "-d", "postgres"}
	for _, q := range sql {
		args = append(args, "-c", q)
	}
	out, err := h.w.DatabaseCommand(h.ctx, "psql", args...).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("psql on %s: %w: %s", s.Name, err, out)
	}
	return strings.TrimSpace(string(out)), nil
}

func (h *byHand) follow(s, upstream *demo.Server) error {
	info := fmt.Sprintf("host=%s port=%d user=crosstwin_replication application_name=%s passfile=%s/pgpass", upstream.Host, upstream.Port, s.Name, s.AgentDir)
	_, err := h.psql(s, "alter system set primary_conninfo = '"+info+"'", "alter system set primary_slot_name = 'hand_"+s.Name+"'", "select pg_reload_conf()")
	return err
}

func (h *byHand) switchover() error {
	p, n, c := h.primary, h.other, h.third
	for _, s := range []*demo.Server{p, c} {
		if _, err := h.psql(n, "select pg_create_physical_replication_slot('hand_"+s.Name+"', true) where not exists (select from pg_replication_slots where slot_name = 'hand_"+s.Name+"')"); err != nil {
			return err
		}
	}
	if err := h.follow(p, n); err != nil {
		return err
	}
	if _, err := h.psql(p, "checkpoint"); err != nil {
		return err
	}
	signal := filepath.Join(p.DataDir, "standby.signal")
	if err := os.WriteFile(signal, nil, 0o600); err != nil {
		return err
	}
	if fi, err := os.Stat(p.DataDir); err == nil {
		st := fi.Sys().(*syscall.Stat_t)
		os.Chown(signal, int(st.Uid), int(st.Gid))
	}
	b, err := os.ReadFile(filepath.Join(p.DataDir, "postmaster.pid"))
	if err != nil {
		return err
	}
	pid, _ := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0])

	// The pause.
	syscall.Kill(pid, syscall.SIGINT)
	end := ""
	for end == "" {
		out, err := h.w.DatabaseCommand(h.ctx, "pg_controldata", "-D", p.DataDir).Output()
		if err != nil {
			return err
		}
		if strings.Contains(string(out), "shut down\n") {
			for _, l := range strings.Split(string(out), "\n") {
				if v, ok := strings.CutPrefix(l, "Latest checkpoint location:"); ok {
					end = strings.TrimSpace(v)
				}
			}
		}
	}
	for {
		ok, err := h.psql(n, "select pg_last_wal_replay_lsn() > '"+end+"'")
		if err != nil {
			return err
		}
		if ok == "t" {
			break
		}
	}
	for {
		if _, err := h.psql(n, "select pg_promote(false) where pg_is_in_recovery()"); err != nil {
			return err
		}
		time.Sleep(50 * time.Millisecond)
		if r, err := h.psql(n, "select pg_is_in_recovery()"); err != nil {
			return err
		} else if r == "f" {
			break
		}
	}
	// After it.
	if err := h.follow(c, n); err != nil {
		return err
	}
	if err := h.w.StartByHand(h.ctx, p); err != nil {
		return err
	}
	for _, s := range []*demo.Server{p, c} {
		for {
			r, err := h.psql(n, "select count(*) from pg_stat_replication where state = 'streaming' and application_name = '"+s.Name+"'")
			if err != nil {
				return err
			}
			if r == "1" {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	h.primary, h.other = n, p
	return nil
}

const idleSeconds = 30

// BenchmarkIdle measures what watching three idle servers each second costs.
func BenchmarkIdle(b *testing.B) {
	w, ctx := newWorld(b)
	if err := w.Await(ctx, inStep); err != nil {
		b.Fatal(err)
	}
	time.Sleep(3 * time.Second) // the work of seeding is over
	pids := map[string]int{"service": w.ServicePID()}
	for _, s := range w.Servers {
		pids["agent "+s.Name] = w.AgentPID(s.Name)
	}
	before := map[string]float64{}
	for n, p := range pids {
		before[n] = cpuSeconds(b, p)
	}
	time.Sleep(idleSeconds * time.Second)
	cpu, mem := map[string]float64{}, map[string]float64{}
	for n, p := range pids {
		kind, _, _ := strings.Cut(n, " ")
		c, m := 100*(cpuSeconds(b, p)-before[n])/idleSeconds, residentMiB(b, p)
		fmt.Printf("  %-12s %.2f %% of a core, %.1f MiB\n", n, c, m)
		cpu[kind], mem[kind] = max(cpu[kind], c), max(mem[kind], m)
	}
	report("idle-service-cpu", cpu["service"], "percent", 3)
	report("idle-service-memory", mem["service"], "MiB", 60)
	report("idle-agent-cpu", cpu["agent"], "percent", 1)
	report("idle-agent-memory", mem["agent"], "MiB", 40)
}

// cpuSeconds reads user and system time of a process (proc(5), stat; the clock
// tick is 10 ms on Linux).
func cpuSeconds(b *testing.B, pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		b.Fatal(err)
	}
	f := strings.Fields(string(text)[strings.LastIndex(string(text), ")")+1:])
	user, _ := strconv.ParseFloat(f[11], 64)
	system, _ := strconv.ParseFloat(f[12], 64)
	return (user + system) / 100
}

func residentMiB(b *testing.B, pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		b.Fatal(err)
	}
	for _, l := range strings.Split(string(text), "\n") {
		if v, ok := strings.CutPrefix(l, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(v)[0], 64)
			return kb / 1024
		}
	}
	b.Fatal("no VmRSS")
	return 0
}
