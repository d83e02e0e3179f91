package postgres

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// A server that has just begun has neither written how it is nor made its socket: it starts,
// and is not one that lets its agent in no more.
func TestServerThatHasJustBegun(t *testing.T) {
	t.Parallel()
	p := primary(t)
	file, err := os.ReadFile(p.Path("postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	lines := bytes.SplitAfterN(file, []byte("\n"), 6)
	if err := os.WriteFile(p.Path("postmaster.pid"), bytes.Join(lines[:5], nil), 0o600); err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(p.cfg.SocketDir, fmt.Sprintf(".s.PGSQL.%d", p.cfg.Port))
	if err := os.Rename(socket, socket+".later"); err != nil {
		t.Fatal(err)
	}
	p.pool.Reset()
	o := p.Observe(p.ctx(), false)
	if !o.Process.Running || o.Process.NotLetIn || !o.Process.Passing || o.Process.Problem != "it is starting" {
		t.Errorf("%+v", o.Process)
	}
}
