// Package demo builds the Skerry Line world: a ferry company's bookings on real
// PostgreSQL servers and its cargo on real MariaDB servers, under one
// directory, with service, agents and a workload. The demo, the tour, the
// benchmarks and the tests use it.
//
// The data keeps promises that can be checked on every server at every
// position: as many seats are sold as there are bookings; every port's balance
// is the sum of its containers' movements, and no container is ever lost.
package demo

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/client"
	"crosstwin/internal/freeport"
)

// Options say where and how a world is built.
type Options struct {
	Dir    string // cleared if an earlier world stands there
	Binary string // of crosstwin
	Log    func(format string, args ...any)
	// ServiceEnv is added to the service's environment.
	ServiceEnv []string
	// Clusters names those to build; none: all.
	Clusters []string
	// More are servers that each cluster has besides its three.
	More []string
	// Small has each cluster begin with an eighth of its rows.
	Small bool
	// Connections is how many each server takes; 0: 60.
	Connections int
	// Gates are names of gates that every cluster has; applications connect to them.
	Gates []string
	// Fencing has a deadman beside every agent, so that fencing can be switched on.
	Fencing bool
	// Blank makes the data of a new server, of an engine, at a directory by do, or in another
	// way; nil: by do.
	Blank func(engine, dir string, do func() error) error
	// Host returns where a server runs; nil: all on loopback.
	Host func(server string) Host
}

func (o Options) connections() int { return cmp.Or(o.Connections, 60) }

// Host is a machine for one server.
type Host struct {
	Address   string // an IP address
	Namespace string // file of the network namespace that it is; empty: this process's own
}

// enter returns the command line of a program that runs on the host.
func (h Host) enter(args ...string) []string {
	if h.Namespace == "" {
		return args
	}
	return append([]string{"nsenter", "--net=" + h.Namespace, "--"}, args...)
}

// World is a running world.
type World struct {
	Dir        string
	URL, Token string
	Clusters   []*Cluster
	Gates      []*Gate
	Client     *client.Client

	opt     Options
	listen  string
	service *exec.Cmd
}

const (
	markerFile  = "skerry-line.json"
	application = "skerry"
	appPassword = "ferry-to-the-isles" // of a made-up application on loopback
)

// DefaultDir is where the demo lives unless told otherwise. As root it is not
// below root's home, because the database's own user has to reach it.
func DefaultDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/crosstwin-demo"
	}
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "crosstwin-demo")
	}
	home, _ := os.UserHomeDir()
	return filepath.Join(home, ".local", "share", "crosstwin-demo")
}

// Build makes a world: of each cluster a running primary and two empty servers,
// all enrolled. SeedAll turns the empty ones into replicas.
func Build(ctx context.Context, opt Options) (*World, error) {
	w := &World{Dir: opt.Dir, opt: opt}
	if opt.Log == nil {
		w.opt.Log = func(string, ...any) {}
	}
	if opt.Blank == nil {
		w.opt.Blank = func(_, _ string, do func() error) error { return do() }
	}
	if err := w.prepare(); err != nil {
		return nil, err
	}
	steps := []func(context.Context) error{w.StartService}
	for _, c := range w.Clusters {
		steps = append(steps, c.AddMembers, c.house.makePrimary, c.StartAgents, c.awaitPrimary)
	}
	for _, s := range append(steps, w.addGates, w.writeConnections) {
		if err := s(ctx); err != nil {
			w.Stop()
			return nil, err
		}
	}
	return w, nil
}

func (w *World) prepare() error {
	if err := Clear(w.Dir); err != nil {
		return err
	}
	if err := os.MkdirAll(w.Dir, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(w.Dir, markerFile), []byte("{}\n"), 0o644); err != nil {
		return err
	}
	w.listen = fmt.Sprintf("127.0.0.1:%d", freeport.Next())
	w.URL = "http://" + w.listen
	names := w.opt.Clusters
	if len(names) == 0 {
		names = []string{Bookings, Cargo}
	}
	for _, n := range names {
		c, err := newCluster(w, n)
		if err != nil {
			return err
		}
		w.Clusters = append(w.Clusters, c)
	}
	return nil
}

// Cluster finds a cluster by name.
func (w *World) Cluster(name string) *Cluster {
	for _, c := range w.Clusters {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// servers returns those of all clusters.
func (w *World) servers() []*Server {
	var out []*Server
	for _, c := range w.Clusters {
		out = append(out, c.Servers...)
	}
	return out
}

// spawn starts a crosstwin process that logs to a file.
func (w *World) spawn(log string, env []string, on Host, args ...string) (*exec.Cmd, error) {
	f, err := os.OpenFile(filepath.Join(w.Dir, log), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	line := append([]string{w.opt.Binary}, args...)
	if args[0] == "deadman" && os.Geteuid() == 0 { // as its unit has it
		line = append([]string{"nice", "-n", "-15"}, line...)
	}
	line = on.enter(line...)
	c := exec.Command(line[0], line[1:]...)
	c.Stdout, c.Stderr, c.Env, c.Dir = f, f, append(os.Environ(), env...), "/"
	// A group of its own: Ctrl-C in the terminal reaches only the demo, which
	// then stops everything in order.
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return c, c.Start()
}

// StartService starts the service and waits until it is ready.
func (w *World) StartService(ctx context.Context) error {
	return w.StartServiceWith(ctx, w.opt.ServiceEnv...)
}

// StartServiceWith starts it with more in its environment.
func (w *World) StartServiceWith(ctx context.Context, env ...string) error {
	c, err := w.spawn("service.log", env, Host{}, "serve", "--dir", filepath.Join(w.Dir, "service"), "--listen", w.listen,
		"--deliver-to", "127.0.0.0/8", "--log-level", "debug")
	if err != nil {
		return err
	}
	w.service = c
	exited := make(chan struct{})
	go func() { c.Wait(); close(exited) }()
	for {
		b, err := os.ReadFile(filepath.Join(w.Dir, "service", "first-token"))
		if err == nil || w.Token != "" { // it is gone once the token is in use
			w.Token = cmp.Or(w.Token, strings.TrimSpace(string(b)))
			if w.Client, err = client.New(w.URL, w.Token, ""); err != nil {
				return err
			}
			if _, err = w.Client.Version(ctx); err == nil {
				return nil
			}
		}
		select {
		case <-exited:
			return fmt.Errorf("the service ended at once: see %s", filepath.Join(w.Dir, "service.log"))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// ServicePID returns the service's process.
func (w *World) ServicePID() int { return w.service.Process.Pid }

// StopService asks the service to end.
func (w *World) StopService() { w.service.Process.Signal(syscall.SIGTERM) }

// WaitServiceGone waits until the service's process has ended.
func (w *World) WaitServiceGone(ctx context.Context) error {
	for w.service.ProcessState == nil {
		select {
		case <-ctx.Done():
			return fmt.Errorf("the service still runs: %w", ctx.Err())
		case <-time.After(10 * time.Millisecond):
		}
	}
	return nil
}

// Connections is the content of connections.json.
type Connections struct {
	Service struct {
		URL   string `json:"url"`
		Token string `json:"token"`
		PID   int    `json:"pid"`
	} `json:"service"`
	Servers []*Server `json:"servers"`
	Gates   []*Gate   `json:"gates,omitempty"`
}

func (w *World) writeConnections(context.Context) error {
	var c Connections
	c.Service.URL, c.Service.Token, c.Service.PID, c.Servers = w.URL, w.Token, w.ServicePID(), w.servers()
	c.Gates = w.Gates
	b, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(w.Dir, "connections.json"), append(b, '\n'), 0o600); err != nil {
		return err
	}
	env := fmt.Sprintf("export CROSSTWIN_SERVICE=%s CROSSTWIN_TOKEN=%s PATH='%s':\"$PATH\"\n", w.URL, w.Token,
		filepath.Dir(w.opt.Binary))
	return os.WriteFile(filepath.Join(w.Dir, "env"), []byte(env), 0o600)
}

// Stop ends everything that the world started: service, agents, databases.
func (w *World) Stop() {
	w.StopManagement()
	stopDatabases(w.Dir)
}

// StopManagement ends service and agents; the databases go on.
func (w *World) StopManagement() {
	var procs []*exec.Cmd
	if w.service != nil {
		procs = append(procs, w.service)
	}
	for _, g := range w.Gates {
		if g.process != nil {
			procs = append(procs, g.process)
		}
	}
	for _, s := range w.servers() {
		if s.deadman != nil {
			s.deadman.end() // first: it would stop a database whose agent ends
			s.deadman = nil
		}
		if s.agent != nil {
			procs = append(procs, s.agent)
		}
	}
	for _, c := range procs {
		c.Process.Signal(syscall.SIGTERM)
	}
	if len(w.Gates) > 0 {
		for _, pid := range leftovers(w.Dir) { // gates that gave way to a new process
			syscall.Kill(pid, syscall.SIGTERM)
		}
	}
	for _, c := range procs {
		for end := time.Now().Add(8 * time.Second); c.ProcessState == nil && time.Now().Before(end); {
			time.Sleep(10 * time.Millisecond)
		}
		if c.ProcessState == nil {
			c.Process.Kill()
		}
	}
}

// Clear ends what an earlier world in a directory left running and removes the
// directory. A directory that holds something else is not touched.
func Clear(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, markerFile)); err != nil {
		return fmt.Errorf("%s is not empty and holds no demo world: choose another --dir", dir)
	}
	for _, pid := range leftovers(dir) {
		syscall.Kill(pid, syscall.SIGTERM)
	}
	for end := time.Now().Add(5 * time.Second); len(leftovers(dir)) > 0 && time.Now().Before(end); {
		time.Sleep(20 * time.Millisecond)
	}
	for _, pid := range leftovers(dir) {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	stopDatabases(dir)
	return os.RemoveAll(dir)
}

// leftovers finds the crosstwin processes that work in a world's directory.
func leftovers(dir string) []int {
	var out []int
	eachProcess(func(pid int, cmdline, _ string) {
		args := strings.Split(cmdline, "\x00")
		if pid == os.Getpid() || len(args) < 4 || args[1] != "serve" && args[1] != "agent" && args[1] != "deadman" &&
			args[1] != "gate" {
			return
		}
		for i, a := range args {
			if a == "--dir" && i+1 < len(args) && strings.HasPrefix(args[i+1], dir+"/") {
				out = append(out, pid)
			}
		}
	})
	return out
}

func eachProcess(do func(pid int, cmdline, cwd string)) {
	entries, _ := os.ReadDir("/proc")
	for _, d := range entries {
		pid, err := strconv.Atoi(d.Name())
		if err != nil {
			continue
		}
		b, _ := os.ReadFile("/proc/" + d.Name() + "/cmdline")
		cwd, _ := os.Readlink("/proc/" + d.Name() + "/cwd")
		if len(b) > 0 || cwd != "" {
			do(pid, string(b), cwd)
		}
	}
}

// stopDatabases ends the database servers whose data is below dir: cleanly, then
// whatever is left.
func stopDatabases(dir string) {
	for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGQUIT, syscall.SIGKILL} {
		eachDatabaseProcess(dir, func(pid int, name string) {
			switch {
			case sig == syscall.SIGKILL:
				syscall.Kill(pid, sig)
			case name == "postgres" && !postmaster(pid):
			case name == "postgres" && sig == syscall.SIGTERM:
				syscall.Kill(pid, syscall.SIGINT) // does not wait for its clients
			case sig == syscall.SIGTERM || name == "postgres":
				syscall.Kill(pid, sig)
			}
		})
		for end := time.Now().Add(4 * time.Second); time.Now().Before(end); {
			left := 0
			eachDatabaseProcess(dir, func(int, string) { left++ })
			if left == 0 {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// eachDatabaseProcess finds the processes that work in a data directory below
// dir, or in dir itself.
func eachDatabaseProcess(dir string, do func(pid int, name string)) {
	eachProcess(func(pid int, cmdline, cwd string) {
		if cmdline == "" || cwd != filepath.Join(dir, "data") &&
			!(strings.HasPrefix(cwd, dir+"/") && strings.HasSuffix(cwd, "/data")) {
			return
		}
		b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		do(pid, strings.TrimSpace(string(b)))
	})
}

// postmaster reports whether a process is the one that its data's pid file names.
func postmaster(pid int) bool {
	cwd, _ := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	b, _ := os.ReadFile(filepath.Join(cwd, "postmaster.pid"))
	return strings.SplitN(string(b), "\n", 2)[0] == strconv.Itoa(pid)
}
