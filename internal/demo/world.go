// Package demo builds the Skerry Line world: a ferry company's bookings on real
// PostgreSQL servers under one directory, with service, agents and a workload
// that sells seats. The demo, the tour, the benchmarks and the tests use it.
//
// The data keeps a promise that can be checked on every server at every
// position: the seats sold on all sailings are as many as there are bookings.
package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/plan"
	"crosstwin/internal/core/view"
	"crosstwin/internal/freeport"
	"crosstwin/internal/store"
)

// Options say where and how a world is built.
type Options struct {
	Dir    string // cleared if an earlier world stands there
	Binary string // of crosstwin
	Log    func(format string, args ...any)
	// ServiceEnv is added to the service's environment.
	ServiceEnv []string
}

// Server is one database server of the world.
type Server struct {
	Cluster        string `json:"cluster"`
	Name           string `json:"name"`
	Site           string `json:"site"`
	Rank           int    `json:"rank"` // 0: never
	Host           string `json:"host"`
	Port           int    `json:"port"`
	SocketDir      string `json:"socket_dir"`
	DataDir        string `json:"data_dir"`
	AgentAddress   string `json:"agent_address"`
	AgentDir       string `json:"agent_dir"`
	LogFile        string `json:"log_file"`
	SuperuserURI   string `json:"superuser_uri"`
	ApplicationURI string `json:"application_uri"`
	primary        bool
	agent          *exec.Cmd
}

// World is a running world.
type World struct {
	Dir        string
	URL, Token string
	Servers    []*Server
	Client     *client.Client

	opt      Options
	owner    *syscall.Credential // nil: as ourselves
	ownerUID int
	ownerGID int
	bin      string // of the database's programs
	listen   string
	service  *exec.Cmd
}

const (
	// Cluster is the PostgreSQL cluster's name.
	Cluster = "bookings"

	markerFile  = "skerry-line.json"
	database    = "bookings"
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

// Build makes a world with a running primary and two empty servers, all
// enrolled. SeedAll turns the empty ones into replicas.
func Build(ctx context.Context, opt Options) (*World, error) {
	w := &World{Dir: opt.Dir, opt: opt}
	if opt.Log == nil {
		w.opt.Log = func(string, ...any) {}
	}
	if err := w.prepare(); err != nil {
		return nil, err
	}
	steps := []func(context.Context) error{w.StartService, w.addMembers, w.makePrimary, w.startAgents, w.awaitPrimary, w.writeConnections}
	for _, s := range steps {
		if err := s(ctx); err != nil {
			w.Stop()
			return nil, err
		}
	}
	return w, nil
}

func (w *World) prepare() error {
	dirs, _ := filepath.Glob("/usr/lib/postgresql/15/bin")
	if len(dirs) == 0 {
		return errors.New("PostgreSQL 15 is not installed: apt-get install postgresql-15")
	}
	w.bin = dirs[0]
	w.ownerUID, w.ownerGID = os.Geteuid(), os.Getegid()
	if os.Geteuid() == 0 {
		u, err := user.Lookup("postgres")
		if err != nil {
			return fmt.Errorf("databases never run as root, and there is no user postgres to run them: %w", err)
		}
		w.ownerUID, _ = strconv.Atoi(u.Uid)
		w.ownerGID, _ = strconv.Atoi(u.Gid)
		w.owner = &syscall.Credential{Uid: uint32(w.ownerUID), Gid: uint32(w.ownerGID)}
	}
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
	for _, s := range []*Server{{Name: "gull", Site: "harbour", Rank: 1, primary: true}, {Name: "tern", Site: "harbour", Rank: 2}, {Name: "heron", Site: "island", Rank: 0}} {
		w.place(s)
		w.Servers = append(w.Servers, s)
		for _, d := range []string{filepath.Dir(s.DataDir), s.SocketDir} {
			if err := os.MkdirAll(d, 0o755); err != nil {
				return err
			}
			if err := os.Chown(d, w.ownerUID, w.ownerGID); err != nil {
				return err
			}
		}
		if n := len(s.SocketDir) + len("/.s.PGSQL.65535"); n > 107 {
			return fmt.Errorf("the path %s is too long for a socket (%d of 107 bytes): choose a shorter --dir", s.SocketDir, n)
		}
	}
	return nil
}

func (w *World) place(s *Server) {
	base := filepath.Join(w.Dir, s.Name)
	s.Cluster, s.Host, s.Port = Cluster, "127.0.0.1", freeport.Next()
	s.SocketDir, s.DataDir, s.AgentDir, s.LogFile = filepath.Join(base, "run"), filepath.Join(base, "data"), filepath.Join(base, "agent"), filepath.Join(base, "postgresql.log")
	s.AgentAddress = fmt.Sprintf("127.0.0.1:%d", freeport.Next())
	s.SuperuserURI = fmt.Sprintf("postgresql://postgres@/%s?host=%s&port=%d", database, s.SocketDir, s.Port)
	s.ApplicationURI = fmt.Sprintf("postgresql://%s:%s@%s:%d/%s", application, appPassword, s.Host, s.Port, database)
}

// Server finds a server by name.
func (w *World) Server(name string) *Server {
	for _, s := range w.Servers {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// spawn starts a crosstwin process that logs to a file.
func (w *World) spawn(log string, env []string, args ...string) (*exec.Cmd, error) {
	f, err := os.OpenFile(filepath.Join(w.Dir, log), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	c := exec.Command(w.opt.Binary, args...)
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
	c, err := w.spawn("service.log", env, "serve", "--dir", filepath.Join(w.Dir, "service"), "--listen", w.listen, "--log-level", "debug")
	if err != nil {
		return err
	}
	w.service = c
	exited := make(chan struct{})
	go func() { c.Wait(); close(exited) }()
	for {
		b, err := os.ReadFile(filepath.Join(w.Dir, "service", "first-token"))
		if err == nil {
			w.Token = strings.TrimSpace(string(b))
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

// ServicePID gives the service's process.
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

func (w *World) addMembers(ctx context.Context) error {
	if _, err := w.Client.AddCluster(ctx, apitype.NewCluster{Name: Cluster}); err != nil {
		return err
	}
	for _, s := range w.Servers {
		code, err := w.Client.AddServer(ctx, Cluster, apitype.NewServer{Name: s.Name, Rank: s.Rank, Site: s.Site, Primary: s.primary})
		if err != nil {
			return err
		}
		out, err := exec.CommandContext(ctx, w.opt.Binary, "agent", "enroll", "--service", w.URL, "--code", code.Code, "--dir", s.AgentDir, "--listen", s.AgentAddress, "--advertise", s.AgentAddress,
			"--data-dir", s.DataDir, "--socket-dir", s.SocketDir, "--host", s.Host, "--port", strconv.Itoa(s.Port), "--log-file", s.LogFile).CombinedOutput()
		if err != nil {
			return fmt.Errorf("enroll %s: %w: %s", s.Name, err, out)
		}
	}
	return nil
}

func (w *World) startAgents(ctx context.Context) error {
	for _, s := range w.Servers {
		if err := w.StartAgent(ctx, s.Name); err != nil {
			return err
		}
	}
	return nil
}

// StartAgent starts a server's agent.
func (w *World) StartAgent(_ context.Context, name string) error {
	s := w.Server(name)
	c, err := w.spawn(filepath.Join(name, "agent.log"), nil, "agent", "--dir", s.AgentDir)
	if err != nil {
		return err
	}
	s.agent = c
	go c.Wait()
	return nil
}

// KillAgent ends a server's agent with kill -9.
func (w *World) KillAgent(name string) error { return w.Server(name).agent.Process.Kill() }

// AgentPID gives the process of a server's agent.
func (w *World) AgentPID(name string) int { return w.Server(name).agent.Process.Pid }

// awaitPrimary waits until the service has taken the primary under its care.
func (w *World) awaitPrimary(ctx context.Context) error {
	return w.Await(ctx, func(v view.View) bool {
		s := v.Find("gull")
		return v.Primary == "gull" && s.Health == view.TakesWrites && s.Observation.ClosedByDefault
	})
}

// Await waits until the cluster looks as wanted.
func (w *World) Await(ctx context.Context, ok func(view.View) bool) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	for {
		v, err := w.Client.Cluster(ctx, Cluster)
		if err == nil && ok(v) {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the cluster did not come to the state that was waited for: %s %v", v.Sentence, err)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Operate carries out an operation and waits for its end.
func (w *World) Operate(ctx context.Context, r plan.Request, each func(store.Operation)) (store.Operation, error) {
	p, err := w.Client.Preview(ctx, Cluster, r)
	if err != nil {
		return store.Operation{}, err
	}
	r.ConfirmName = p.ConfirmName
	op, err := w.Client.Begin(ctx, Cluster, r)
	if err != nil {
		return op, err
	}
	if each == nil {
		each = func(store.Operation) {}
	}
	op, err = w.Client.Follow(ctx, op.ID, time.Minute, each)
	if err == nil && op.Outcome != store.OutcomeFinished {
		err = fmt.Errorf("%s ended as %q: %s", op.Kind, op.Outcome, op.Message)
	}
	return op, err
}

// SeedAll makes replicas of the empty servers.
func (w *World) SeedAll(ctx context.Context, each func(store.Operation)) error {
	for _, s := range w.Servers {
		if s.primary {
			continue
		}
		if _, err := w.Operate(ctx, plan.Request{Kind: plan.Seed, Server: s.Name}, each); err != nil {
			return err
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
}

func (w *World) writeConnections(context.Context) error {
	var c Connections
	c.Service.URL, c.Service.Token, c.Service.PID, c.Servers = w.URL, w.Token, w.ServicePID(), w.Servers
	b, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(w.Dir, "connections.json"), append(b, '\n'), 0o600); err != nil {
		return err
	}
	env := fmt.Sprintf("export CROSSTWIN_SERVICE=%s CROSSTWIN_TOKEN=%s PATH='%s':\"$PATH\"\n", w.URL, w.Token, filepath.Dir(w.opt.Binary))
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
	for _, s := range w.Servers {
		if s.agent != nil {
			procs = append(procs, s.agent)
		}
	}
	for _, c := range procs {
		c.Process.Signal(syscall.SIGTERM)
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
		if pid == os.Getpid() || len(args) < 4 || args[1] != "serve" && args[1] != "agent" {
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

// stopDatabases ends the database servers whose data is below dir, one or two
// levels down.
func stopDatabases(dir string) {
	list := func() (all []int) {
		eachProcess(func(pid int, cmdline, cwd string) {
			if cmdline != "" && strings.HasPrefix(cwd, dir+"/") && strings.HasSuffix(cwd, "/data") {
				all = append(all, pid)
			}
		})
		return all
	}
	pids, _ := filepath.Glob(filepath.Join(dir, "*", "data", "postmaster.pid"))
	if one := filepath.Join(dir, "data", "postmaster.pid"); len(pids) == 0 {
		pids = []string{one}
	}
	for _, sig := range []syscall.Signal{syscall.SIGINT, syscall.SIGQUIT, syscall.SIGKILL} {
		for _, f := range pids {
			b, err := os.ReadFile(f)
			if err != nil {
				continue
			}
			if pid, err := strconv.Atoi(strings.SplitN(string(b), "\n", 2)[0]); err == nil && contains(list(), pid) {
				syscall.Kill(pid, sig)
			}
		}
		if sig == syscall.SIGKILL {
			for _, pid := range list() {
				syscall.Kill(pid, sig)
			}
		}
		for end := time.Now().Add(4 * time.Second); len(list()) > 0 && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
		}
	}
}

func contains(list []int, n int) bool {
	for _, x := range list {
		if x == n {
			return true
		}
	}
	return false
}
