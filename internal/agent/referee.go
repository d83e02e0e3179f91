package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
	"crosstwin/internal/handover"
)

// A referee is an agent without a database: it notes terms, on disk before it answers, and
// counts towards the majority. It is never promoted, pledges nothing, and knows no account.
// One process is the referee of several clusters, each in a directory of its own with a
// certificate of that cluster.

// RefereeDir is the directory of a referee unless told otherwise; refereeUnit the unit of the
// packages that runs it there.
const (
	RefereeDir  = "/var/lib/crosstwin-referee"
	refereeUnit = "crosstwin-referee.service"
)

// Kind is what one process may be for several clusters, without a database beside it.
type Kind struct {
	Name      string // in commands
	dir, unit string
	port      int // the first that one takes for the service to reach it
	is        func(*Config) bool
	// after is done once the process serves; nil: nothing.
	after func(ctx context.Context, stop func(), dir string, seats func() []*seat, log *slog.Logger)
}

// Dir is where its clusters are enrolled unless told otherwise.
func (k Kind) Dir() string { return k.dir }

// Referees is the kind of the referee; that of an agent may be beside its first port.
var Referees = Kind{Name: "referee", dir: RefereeDir, unit: refereeUnit, port: 7730,
	is: func(c *Config) bool { return c.Referee }}

func (a *Agent) refereeVerbs() map[verb.Name]handler {
	m := map[verb.Name]handler{}
	add := func(n verb.Name, h handler) { m[n] = h }
	add(without[verb.Note](a.jobs.settled)) // serveVerb noted the term

	// It made nothing that would have to be undone.
	add(ask(func(context.Context, verb.Leave) ([]verb.Leftover, error) { return nil, a.left() }))
	return m
}

func (a *Agent) refereeHandler() http.Handler {
	m := http.NewServeMux()
	a.handleTerms(m)
	m.HandleFunc("POST /agent/v1/observe", a.fromService(a.serveStanding))
	return m
}

// serveStanding answers a look at a referee: how it stands, and no database.
func (a *Agent) serveStanding(w http.ResponseWriter, r *http.Request) error {
	var req agentapi.ObserveRequest
	if err := decode(r.Body, &req); err != nil {
		return err
	}
	if err := a.keepDecision(req.Decision); err != nil {
		return err
	}
	a.noteCertificates(req.Certificates)
	if req.Term > 0 {
		if err := a.learn(req.Term, false); err != nil {
			return err
		}
	}
	said, err := a.asked(req.Guard)
	if err != nil {
		return err
	}
	s := a.memory.get()
	o := &observation.Server{At: time.Now().UTC(), Guard: s.Guard, Decision: s.Decision, Nonce: nonce(),
		Data:       observation.Data{Empty: true},
		Permission: &observation.Permission{Fencing: s.Fencing, Answer: said}}
	a.tellOwn(o)
	return answer(w, o)
}

// seatEvery is how often new clusters are looked for, and seatAgain how long after one could
// not be served it is tried again.
const (
	seatEvery = time.Second
	seatAgain = 10 * time.Second
)

// RunSeats serves every cluster that was enrolled in the directory, of referees or of gates, and
// those that are later, until ctx ends.
func RunSeats(ctx context.Context, kind Kind, dir, version string, log *slog.Logger) error {
	if _, err := os.ReadDir(dir); err != nil {
		return fmt.Errorf("no %s is enrolled in %s: run crosstwin %[1]s enroll first: %[3]w", kind.Name, dir, err)
	}
	var serving sync.WaitGroup
	defer serving.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	running := map[string]*seat{}
	var now atomic.Pointer[[]*seat] // those that run, for whoever is not this loop
	begun := false
	for t := time.NewTicker(seatEvery); ; {
		there := seats(dir)
		for _, d := range there {
			x := running[d]
			if x != nil && x.enrolled.Equal(enrolledAt(d)) && time.Now().Before(x.next()) {
				continue
			}
			x.stop()
			x = newSeat(ctx, d)
			running[d] = x
			serving.Go(func() {
				if err := x.serve(kind, version, log); err != nil && x.ctx.Err() == nil {
					log.Error("a cluster has no "+kind.Name+" here; it is tried again", "directory", d, "error", err)
				}
			})
		}
		for d, x := range running {
			if !slices.Contains(there, d) {
				x.stop()
				delete(running, d)
			}
		}
		list := slices.Collect(maps.Values(running))
		now.Store(&list)
		if !begun {
			begun = true
			go kind.begin(ctx, cancel, dir, func() []*seat { return *now.Load() }, log)
		}
		select {
		case <-ctx.Done():
			t.Stop()
			return nil
		case <-t.C:
		}
	}
}

// begin says that the process serves, once all that were there at its start do.
func (k Kind) begin(ctx context.Context, stop func(), dir string, seats func() []*seat, log *slog.Logger) {
	for _, x := range seats() {
		select {
		case <-x.up:
		case <-x.ended:
		case <-ctx.Done():
			return
		}
	}
	handover.Ready()
	if k.after != nil {
		k.after(ctx, stop, dir, seats, log)
	}
}

// seat is one cluster that is served; nil is none.
type seat struct {
	dir      string
	enrolled time.Time
	ctx      context.Context
	cancel   context.CancelFunc
	ended    chan struct{}
	endedAt  time.Time // once ended is closed
	up       chan struct{}
	agent    *Agent // once up is closed
}

func newSeat(ctx context.Context, dir string) *seat {
	x := &seat{dir: dir, enrolled: enrolledAt(dir), ended: make(chan struct{}), up: make(chan struct{})}
	x.ctx, x.cancel = context.WithCancel(ctx)
	return x
}

// next is when it is served again.
func (x *seat) next() time.Time {
	select {
	case <-x.ended:
		return x.endedAt.Add(seatAgain)
	default:
		return time.Now().Add(seatAgain)
	}
}

func (x *seat) stop() {
	if x != nil {
		x.cancel()
		<-x.ended
	}
}

func (x *seat) serve(kind Kind, version string, log *slog.Logger) error {
	defer close(x.ended)
	defer func() { x.endedAt = time.Now() }()
	a, err := Open(x.dir, log)
	if err != nil {
		return err
	}
	if !kind.is(&a.cfg) {
		return fmt.Errorf("%s is the directory of something else than a %s", x.dir, kind.Name)
	}
	a.Version, x.agent = version, a
	a.serves = sync.OnceFunc(func() { close(x.up) })
	return a.Run(x.ctx)
}

// enrolledAt is when a cluster was enrolled, or enrolled again.
func enrolledAt(dir string) time.Time {
	f, err := os.Stat(filepath.Join(dir, ConfigFile))
	if err != nil {
		return time.Time{}
	}
	return f.ModTime()
}

// seats are the directories of the clusters, those that left aside.
func seats(dir string) (out []string) {
	list, _ := filepath.Glob(filepath.Join(dir, "[^.]*", ConfigFile))
	for _, f := range list {
		seat := filepath.Dir(f)
		if m, err := openMemory(seat); err != nil || !m.get().Left {
			out = append(out, seat)
		}
	}
	return out
}

// EnrollSeat trades a one-time code for the certificate of one cluster's referee or gate. The
// cluster gets a directory of its own below dir, and an address that no other one there has.
func EnrollSeat(ctx context.Context, kind Kind, dir, service, code string, cfg Config) (Config, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return cfg, err
	}
	if err := cfg.addressSeat(dir, kind.port); err != nil {
		return cfg, err
	}
	fresh, err := os.MkdirTemp(dir, ".new-")
	if err != nil {
		return cfg, err
	}
	defer os.RemoveAll(fresh)
	got, err := Enroll(ctx, fresh, service, code, cfg)
	if err != nil {
		return got, err
	}
	seat := filepath.Join(dir, got.Cluster)
	old, err := LoadConfig(seat)
	if err != nil { // there is none
		return got, os.Rename(fresh, seat)
	}
	if old.Server != got.Server {
		return got, fmt.Errorf("the %s in %s is %s of another cluster %s, and this code was for %s: give another "+
			"--dir, with a new code: crosstwin server code %s %s", kind.Name, dir, old.Server, got.Cluster, got.Server,
			got.Cluster, got.Server)
	}
	if _, err := forgetLeft(seat); err != nil {
		return got, err
	}
	for _, name := range []string{authorityFile, pairFile, ConfigFile} {
		if err := os.Rename(filepath.Join(fresh, name), filepath.Join(seat, name)); err != nil {
			return got, err
		}
	}
	return got, nil
}

// addressSeat completes where one listens for the service and is reached.
func (c *Config) addressSeat(dir string, port int) error {
	taken := map[string]bool{}
	for _, seat := range seats(dir) {
		if other, err := LoadConfig(seat); err == nil {
			_, port, _ := net.SplitHostPort(other.Listen)
			taken[port] = true
		}
	}
	if c.Listen == "" {
		for taken[strconv.Itoa(port)] || !free(port) {
			port++
		}
		c.Listen = net.JoinHostPort("0.0.0.0", strconv.Itoa(port))
	}
	_, own, err := net.SplitHostPort(c.Listen)
	switch {
	case err != nil:
		return MissingError{fmt.Errorf("--listen %s: %w", c.Listen, err)}
	case c.Advertise == "" && c.Host == "":
		return MissingError{errors.New("say with --host at which address the service reaches this host")}
	case c.Advertise == "":
		c.Advertise = net.JoinHostPort(c.Host, own)
	case c.Host == "":
		if c.Host, _, err = net.SplitHostPort(c.Advertise); err != nil {
			return MissingError{fmt.Errorf("--advertise %s: %w", c.Advertise, err)}
		}
	}
	return nil
}

// free reports whether nobody listens on a port of this host.
func free(port int) bool {
	ln, err := net.Listen("tcp", net.JoinHostPort("", strconv.Itoa(port)))
	if err != nil {
		return port >= 1<<16 // there is none to look for: listening says so
	}
	return ln.Close() == nil
}

// StartSeat starts the process anew by the packages' unit, where there is one and dir is its
// directory; false where there is not.
func StartSeat(ctx context.Context, kind Kind, dir string) (started bool, err error) {
	if filepath.Clean(dir) != kind.dir || os.Geteuid() != 0 {
		return false, nil
	}
	return host.RestartUnit(ctx, kind.unit)
}
