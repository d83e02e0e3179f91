package demo

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"crosstwin/internal/apitype"
	"crosstwin/internal/freeport"
)

// Gate is one gate process of the world, which serves all its clusters.
type Gate struct {
	Name    string        `json:"name"`
	Dir     string        `json:"dir"`
	Doors   []GateAddress `json:"addresses"`
	process *exec.Cmd
}

// GateAddress is where applications of one cluster connect.
type GateAddress struct {
	Cluster string `json:"cluster"`
	Writer  string `json:"writer"`
	Reader  string `json:"reader"`
	// Socket is of the writer as well, as the cluster's clients look for it.
	Socket string `json:"socket"`
}

// Gates are the demo's.
var Gates = []string{"quay", "pier"}

// addGates adds the world's gates to the service, and starts them.
func (w *World) addGates(ctx context.Context) error {
	for _, name := range w.opt.Gates {
		g := &Gate{Name: name, Dir: filepath.Join(w.Dir, "gate-"+name)}
		w.Gates = append(w.Gates, g)
		for _, c := range w.Clusters {
			if err := c.addGate(ctx, g); err != nil {
				return err
			}
		}
		if err := w.StartGate(g); err != nil {
			return err
		}
	}
	return nil
}

func (c *Cluster) addGate(ctx context.Context, g *Gate) error {
	code, err := c.Client.AddServer(ctx, c.Name, apitype.NewServer{Name: g.Name, Gate: true})
	if err != nil {
		return err
	}
	a := GateAddress{Cluster: c.Name, Writer: at("127.0.0.1", freeport.Next()), Reader: at("127.0.0.1", freeport.Next()),
		Socket: filepath.Join(c.Dir, c.Name+"-"+g.Name, c.house.socketName())}
	g.Doors = append(g.Doors, a)
	if err := os.MkdirAll(filepath.Dir(a.Socket), 0o755); err != nil { // #nosec G301 -- applications find it there
		return err
	}
	control := at("127.0.0.1", freeport.Next())
	out, err := exec.CommandContext(ctx, c.opt.Binary, "gate", "enroll", "--service", c.URL, "--code", code.Code, "--dir",
		g.Dir, "--listen", control, "--advertise", control, "--writer", a.Writer, "--writer", a.Socket, "--reader",
		a.Reader).CombinedOutput()
	if err != nil {
		return fmt.Errorf("enroll gate %s of %s: %w: %s", g.Name, c.Name, err, out)
	}
	return nil
}

// StartGate starts a gate's process.
func (w *World) StartGate(g *Gate) error {
	p, err := w.spawn("gate-"+g.Name+".log", nil, Host{}, "gate", "--dir", g.Dir)
	if err != nil {
		return err
	}
	g.process = p
	go p.Wait()
	return nil
}

// PID is the number of a gate's process.
func (g *Gate) PID() int { return g.process.Process.Pid }

// Kill ends a gate's process at once.
func (g *Gate) Kill() { g.process.Process.Kill() }

// Writers are the addresses of the cluster's gates for writers.
func (c *Cluster) Writers() (out []string) {
	for _, g := range c.Gates {
		for _, a := range g.Doors {
			if a.Cluster == c.Name {
				out = append(out, a.Writer)
			}
		}
	}
	return out
}

// Readers are those for readers.
func (c *Cluster) Readers() (out []string) {
	for _, g := range c.Gates {
		for _, a := range g.Doors {
			if a.Cluster == c.Name {
				out = append(out, a.Reader)
			}
		}
	}
	return out
}
