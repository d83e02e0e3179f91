package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"syscall"
	"time"

	"crosstwin/internal/apitype"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/view"
	"crosstwin/internal/freeport"
)

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
	HealthAddress  string `json:"health_address"`
	AgentDir       string `json:"agent_dir"`
	LogFile        string `json:"log_file"`
	SuperuserURI   string `json:"superuser_uri"`
	ApplicationURI string `json:"application_uri"`
	Engine         string `json:"engine"`
	ConfigFile     string `json:"config_file,omitempty"`
	primary        bool
	agent          *exec.Cmd
	agentGone      chan struct{} // closed when it has ended
	deadman        *deadman
	house          house
	owner          owner
	on             Host
}

// The names of the two clusters.
const (
	Bookings = "bookings" // PostgreSQL: gull, tern, heron
	Cargo    = "cargo"    // MariaDB: wren, plover, dunlin
)

// Cluster is one cluster of the world.
type Cluster struct {
	*World
	Name    string
	Engine  string
	Servers []*Server
	house   house
	// Adopted: its primary is not named when it is added, but taken over afterwards.
	Adopted bool
}

// house is how servers of one engine are kept by hand, and what the data in
// them promises: all that the world does without Cross Twin.
type house interface {
	// place sets where a server lives and how it is reached.
	place(s *Server, base string)
	// makePrimary makes the first server and fills it.
	makePrimary(ctx context.Context) error
	// furnish writes what each host has before Cross Twin comes.
	furnish(s *Server, number int) error
	enrolment(s *Server) []string
	startByHand(ctx context.Context, s *Server, env ...string) error
	// starve has the primary's replicas get nothing more, without its knowledge.
	starve(ctx context.Context, primary *Server) error
	// session connects an application to whichever server takes writes: through the gates where
	// there are some.
	session(ctx context.Context) (session, error)
	// socketName is the name of a socket that the engine's own clients look for in a directory.
	socketName() string
	missing(ctx context.Context, s *Server, acked []string) ([]string, error)
	promise(ctx context.Context, s *Server) error
	// writable tries to write, as the strongest account that a role should stop.
	writable(ctx context.Context, s *Server) error
	open(s *Server) (*sql.DB, error)
}

func newCluster(w *World, name string) (*Cluster, error) {
	c := &Cluster{World: w, Name: name}
	var user string
	var servers []*Server
	switch name {
	case Bookings:
		c.Engine, user = position.EnginePostgres, "postgres"
		servers = []*Server{{Name: "gull"}, {Name: "tern"}, {Name: "heron"}}
	case Cargo:
		c.Engine, user = position.EngineMariaDB, "mysql"
		servers = []*Server{{Name: "wren"}, {Name: "plover"}, {Name: "dunlin"}}
	default:
		return nil, fmt.Errorf("there is no cluster %q in this world", name)
	}
	own, err := ownerOf(user)
	if err != nil {
		return nil, err
	}
	if c.house, err = newHouse(c, own); err != nil {
		return nil, err
	}
	for _, more := range w.opt.More {
		servers = append(servers, &Server{Name: more})
	}
	for i, s := range servers {
		s.Rank, s.Site = i+1, "harbour"
		if i == 2 {
			s.Rank, s.Site = 0, "island"
		}
		s.primary, s.Cluster, s.Engine, s.house = i == 0, name, c.Engine, c.house
		if err := c.place(s, own, i+1); err != nil {
			return nil, err
		}
		c.Servers = append(c.Servers, s)
	}
	return c, nil
}

func newHouse(c *Cluster, own owner) (house, error) {
	if c.Engine == position.EngineMariaDB {
		return newMariaDBHouse(c, own)
	}
	return newPostgresHouse(c, own)
}

// owner is the user of a database's files.
type owner struct {
	uid, gid   int
	credential *syscall.Credential // nil: as ourselves
	env        []string            // what its programs find in their environment besides
	on         Host
}

func ownerOf(name string) (owner, error) {
	if os.Geteuid() != 0 {
		return owner{uid: os.Geteuid(), gid: os.Getegid()}, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return owner{}, fmt.Errorf("databases never run as root, and there is no user %s to run them: %w", name, err)
	}
	var o owner
	o.uid, _ = strconv.Atoi(u.Uid)
	o.gid, _ = strconv.Atoi(u.Gid)
	o.credential = &syscall.Credential{Uid: uint32(o.uid), Gid: uint32(o.gid)}
	return o, nil
}

// command prepares a program to run as the owner of a database's files.
func (o owner) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	line := append([]string{program}, args...)
	if o.on.Namespace != "" {
		// Entering takes root; the user changes after it.
		line = append([]string{"setpriv", "--reuid", strconv.Itoa(o.uid), "--regid", strconv.Itoa(o.gid), "--clear-groups",
			"--"}, line...)
		line = o.on.enter(line...)
	}
	c := exec.CommandContext(ctx, line[0], line[1:]...)
	c.Dir, c.Env = "/", []string{"PATH=/usr/bin:/bin:/usr/sbin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	c.Env = append(c.Env, o.env...)
	if o.credential != nil && o.on.Namespace == "" {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: o.credential}
	}
	return c
}

// with returns an owner whose programs find more in their environment.
func (o owner) with(env ...string) owner {
	o.env = env
	return o
}

// run runs a program to its end. It may hand its outputs on to a server that it
// starts, so they go to a file: a pipe would never end.
func (o owner) run(ctx context.Context, program string, args ...string) error {
	c := o.command(ctx, program, args...)
	out, err := os.CreateTemp("", "crosstwin-demo-")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	c.Stdout, c.Stderr = out, out
	if err := c.Run(); err != nil {
		b, _ := os.ReadFile(out.Name())
		return fmt.Errorf("%s: %w: %s", filepath.Base(program), err, b)
	}
	return nil
}

// at is an address with a port.
func at(host string, port int) string { return net.JoinHostPort(host, strconv.Itoa(port)) }

func (c *Cluster) place(s *Server, own owner, number int) error {
	base := filepath.Join(c.Dir, s.Name)
	s.on = Host{Address: "127.0.0.1"}
	if c.opt.Host != nil {
		s.on = c.opt.Host(s.Name)
	}
	s.owner = own
	s.owner.on = s.on
	s.Host, s.Port = s.on.Address, freeport.Next()
	s.SocketDir, s.DataDir, s.AgentDir, s.LogFile = filepath.Join(base, "run"), filepath.Join(base, "data"),
		filepath.Join(base, "agent"), filepath.Join(base, "database.log")
	s.AgentAddress = at(s.Host, freeport.Next())
	s.HealthAddress = at(s.Host, freeport.Next())
	c.house.place(s, base)
	for _, d := range []string{base, s.SocketDir} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return err
		}
		if err := os.Chown(d, own.uid, own.gid); err != nil {
			return err
		}
	}
	if n := len(s.SocketDir) + len("/.s.PGSQL.65535"); n > 107 {
		return fmt.Errorf("the path %s is too long for a socket (%d of 107 bytes): choose a shorter --dir", s.SocketDir, n)
	}
	return c.house.furnish(s, number)
}

// Server finds a server by name.
func (c *Cluster) Server(name string) *Server {
	for _, s := range c.Servers {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Names returns the servers' names: the first primary, the one that may take
// over, the one that never does.
func (c *Cluster) Names() []string {
	var out []string
	for _, s := range c.Servers {
		out = append(out, s.Name)
	}
	return out
}

// Open connects to a server as its administrator.
func (s *Server) Open() (*sql.DB, error) { return s.house.open(s) }

// Writable tries to write on a server, as the strongest account that a role
// should stop; nil when that went through.
func (s *Server) Writable(ctx context.Context) error { return s.house.writable(ctx, s) }

// Missing returns the acknowledged writes that a server does not hold.
func (s *Server) Missing(ctx context.Context, acked []string) ([]string, error) {
	return s.house.missing(ctx, s, acked)
}

// Promise checks what the data promises at every position.
func (s *Server) Promise(ctx context.Context) error { return s.house.promise(ctx, s) }

// StartByHand starts a server the way a person or a service manager would,
// without its agent.
func (s *Server) StartByHand(ctx context.Context, env ...string) error {
	return s.house.startByHand(ctx, s, env...)
}

// Starve has a primary's replicas get nothing more.
func (s *Server) Starve(ctx context.Context) error { return s.house.starve(ctx, s) }

// AddMembers adds the cluster and its servers to the service and enrols their agents.
func (c *Cluster) AddMembers(ctx context.Context) error {
	if _, err := c.Client.AddCluster(ctx, apitype.NewCluster{Name: c.Name, Engine: c.Engine}); err != nil {
		return err
	}
	for _, s := range c.Servers {
		if err := c.AddMember(ctx, s, s.primary && !c.Adopted); err != nil {
			return err
		}
	}
	return nil
}

// AddMember adds a server and enrols its agent.
func (c *Cluster) AddMember(ctx context.Context, s *Server, primary bool) error {
	code, err := c.Client.AddServer(ctx, c.Name,
		apitype.NewServer{Name: s.Name, Placement: cluster.Placement{Rank: s.Rank, Site: s.Site}, Primary: primary})
	if err != nil {
		return err
	}
	args := append([]string{"agent", "enroll", "--service", c.URL, "--code", code.Code, "--dir", s.AgentDir, "--listen",
		s.AgentAddress, "--advertise", s.AgentAddress, "--health", s.HealthAddress,
		"--data-dir", s.DataDir, "--socket-dir", s.SocketDir, "--host", s.Host, "--port", strconv.Itoa(s.Port), "--log-file",
		s.LogFile}, c.house.enrolment(s)...)
	out, err := exec.CommandContext(ctx, c.opt.Binary, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("enroll %s: %w: %s", s.Name, err, out)
	}
	return nil
}

// StartAgents starts all agents.
func (c *Cluster) StartAgents(ctx context.Context) error {
	for _, s := range c.Servers {
		if err := c.StartAgent(ctx, s.Name); err != nil {
			return err
		}
	}
	return nil
}

// StartAgent starts a server's agent.
func (c *Cluster) StartAgent(_ context.Context, name string) error {
	s := c.Server(name)
	p, err := c.spawn(filepath.Join(name, "agent.log"), nil, s.on, "agent", "--dir", s.AgentDir)
	if err != nil {
		return err
	}
	gone := make(chan struct{})
	s.agent, s.agentGone = p, gone
	go func() {
		p.Wait()
		close(gone)
	}()
	if c.opt.Fencing && s.deadman == nil {
		s.deadman = c.keepDeadman(s)
	}
	return nil
}

// deadman is the process that stops a server's database when its permission runs out. As
// init would, the world starts it again when it ends.
type deadman struct {
	mu      sync.Mutex
	process *exec.Cmd
	over    bool
}

// deadmanPause is how long init waits until it starts one again.
const deadmanPause = 300 * time.Millisecond

func (c *Cluster) keepDeadman(s *Server) *deadman {
	d := &deadman{}
	go func() {
		for {
			d.mu.Lock()
			if d.over {
				d.mu.Unlock()
				return
			}
			p, err := c.spawn(filepath.Join(s.Name, "deadman.log"), nil, s.on, "deadman", "--dir", s.AgentDir)
			d.process = p
			d.mu.Unlock()
			if err == nil {
				p.Wait()
			}
			time.Sleep(deadmanPause)
		}
	}()
	return d
}

func (d *deadman) end() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.over = true
	if d.process != nil && d.process.Process != nil {
		d.process.Process.Kill()
	}
}

// DeadmanPID returns the process of a server's deadman; 0: there is none.
func (c *Cluster) DeadmanPID(name string) int {
	d := c.Server(name).deadman
	if d == nil {
		return 0
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.process == nil || d.process.Process == nil {
		return 0
	}
	return d.process.Process.Pid
}

// KillAgent ends a server's agent with kill -9, if it has not ended already, and waits until
// it is gone: until then its address is taken (seconds, on a machine that is overloaded).
func (c *Cluster) KillAgent(name string) error {
	s := c.Server(name)
	if err := s.agent.Process.Kill(); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-s.agentGone
	return nil
}

// AgentPID returns the process of a server's agent.
func (c *Cluster) AgentPID(name string) int { return c.Server(name).agent.Process.Pid }

// awaitPrimary waits until the service has taken the primary under its care.
func (c *Cluster) awaitPrimary(ctx context.Context) error {
	return c.Await(ctx, func(v view.View) bool {
		first := c.Servers[0].Name
		s := v.Find(first)
		return v.Primary == first && s.Health == view.TakesWrites && s.Observation.Data.ClosedByDefault
	})
}

// awaitLimit is how long a state is waited for: a rejoin that takes back a tail is among
// what is, on a machine where everything takes its time.
const awaitLimit = 3 * time.Minute

// Await waits until the cluster looks as wanted.
func (c *Cluster) Await(ctx context.Context, ok func(view.View) bool) error {
	ctx, cancel := context.WithTimeout(ctx, awaitLimit)
	defer cancel()
	last := "the service did not answer"
	for {
		v, err := c.Client.Cluster(ctx, c.Name)
		switch {
		case err == nil && ok(v):
			return nil
		case err == nil:
			last = v.Sentence
		case ctx.Err() == nil:
			last = err.Error()
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the cluster did not come to the state that was waited for: %s", last)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Operate carries out an operation and waits for its end.
func (c *Cluster) Operate(ctx context.Context, r operation.Request,
	each func(operation.Operation)) (operation.Operation, error) {
	op, err := c.Client.BeginUnseen(ctx, c.Name, r)
	if err != nil {
		return op, err
	}
	if each == nil {
		each = func(operation.Operation) {}
	}
	op, err = c.Client.Follow(ctx, op.ID, time.Minute, each)
	if err == nil && op.Outcome != operation.OutcomeFinished {
		err = fmt.Errorf("%s ended as %q: %s", op.Kind, op.Outcome, op.Message)
	}
	return op, err
}

// SetPolicy changes the cluster's policy.
func (c *Cluster) SetPolicy(ctx context.Context, change func(p *cluster.Policy)) error {
	v, err := c.Client.Cluster(ctx, c.Name)
	if err != nil {
		return err
	}
	change(&v.Policy)
	_, err = c.Client.SetCluster(ctx, c.Name, apitype.ClusterChange{Policy: &v.Policy})
	return err
}

// Synchronize sets the synchronous mode, once every server has a rank: whoever is primary, there
// are two replicas to choose from.
func (c *Cluster) Synchronize(ctx context.Context, mode synchronous.Mode) error {
	rank := len(c.Servers)
	if _, err := c.Client.SetServer(ctx, c.Name, c.Servers[rank-1].Name,
		apitype.ServerChange{Change: cluster.Change{Rank: &rank}}); err != nil {
		return err
	}
	_, err := c.Operate(ctx, operation.Request{Kind: operation.Synchronize,
		Synchronous: &synchronous.Setting{Mode: mode}}, nil)
	return err
}

// SeedAll makes replicas of the empty servers.
func (c *Cluster) SeedAll(ctx context.Context, each func(operation.Operation)) error {
	for _, s := range c.Servers {
		if s.primary {
			continue
		}
		if _, err := c.Operate(ctx, operation.Request{Kind: operation.Seed, Server: s.Name}, each); err != nil {
			return err
		}
	}
	return nil
}

// Encrypt has the replicas follow encrypted. A primary that was there before its agent, and
// takes that up at a start only, is restarted for it.
func (c *Cluster) Encrypt(ctx context.Context, each func(operation.Operation)) error {
	v, err := c.Client.Cluster(ctx, c.Name)
	if err != nil {
		return err
	}
	p := v.Find(v.Primary)
	if p == nil || p.Observation == nil || p.Observation.Encryption == nil ||
		p.Observation.Encryption.State != observation.ProofNone {
		return nil
	}
	if _, err := c.Operate(ctx, operation.Request{Kind: operation.Restart, Server: p.Name}, each); err != nil {
		return err
	}
	_, err = c.Operate(ctx, operation.Request{Kind: operation.Encrypt}, each)
	return err
}

// RunAsOwner runs a program as the owner of a server's files.
func (s *Server) RunAsOwner(ctx context.Context, program string, args ...string) error {
	return s.owner.run(ctx, program, args...)
}
