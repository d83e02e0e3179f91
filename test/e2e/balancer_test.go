package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/demo"
	"crosstwin/internal/freeport"
)

// The configuration that the documentation gives leads those who write to the primary,
// after a switchover too, and those who read to every server that is in step and not
// hidden. An agent answers anybody, and says nothing else.
func TestBalancer(t *testing.T) {
	anEngine(t, true, func(t *testing.T, w *world) {
		writes, reads := w.balancer()
		if n := w.leadsTo(writes, "gull"); n != "gull" {
			t.Fatalf("who writes is led to %s", n)
		}
		for _, n := range []string{"tern", "heron"} {
			if got := w.leadsTo(reads, n); got != n {
				t.Errorf("who reads is never led to %s", n)
			}
		}
		w.must(0, nil, "server", "set", "bookings", "heron", "--hidden")
		const no = http.StatusServiceUnavailable
		if code := w.health("heron", "/reads", no); code != no {
			t.Errorf("hidden, and %d for readers", code)
		}
		if n, r := w.told(), w.told("--reader"); n != "gull" || r != "tern" {
			t.Errorf("who writes is told of %s, and who reads of %s", n, r)
		}
		w.operate(operation.OutcomeFinished, operation.Request{Kind: operation.Switchover})
		if n, r := w.told(), w.told("--reader"); n != "tern" || r != "gull" {
			t.Errorf("after the switchover who writes is told of %s, and who reads of %s", n, r)
		}
		if n := w.leadsTo(writes, "tern"); n != "tern" {
			t.Errorf("who writes is led to %s after the switchover", n)
		}
		// What is known once the service is away is what the agent was told before.
		if code := w.health("gull", "/reads", http.StatusOK); code != http.StatusOK {
			t.Errorf("a replica in step, and %d for readers", code)
		}
		// The service is away: who takes writes is told by the agent all the same, and a
		// replica is fit for readers for as long as it can be known.
		service := w.ServicePID()
		syscall.Kill(service, syscall.SIGSTOP)
		defer syscall.Kill(service, syscall.SIGCONT)
		if code := w.health("gull", "/reads?within=2s", no); code != no {
			t.Errorf("the service is away, and %d for readers", code)
		}
		for path, want := range map[string]int{"/reads?within=1h": http.StatusOK, "/reads?within=soon": http.StatusBadRequest,
			"/writes": no, "/": http.StatusNotFound} {
			if code := w.health("gull", path, want); code != want {
				t.Errorf("%s: %d, want %d", path, code, want)
			}
		}
		if code := w.health("tern", "/writes", http.StatusOK); code != http.StatusOK {
			t.Errorf("the primary: %d", code)
		}
		syscall.Kill(service, syscall.SIGCONT)
		demo.KillDatabase(w.server("tern"))
		if code := w.health("tern", "/writes", no); code != no {
			t.Errorf("a primary that crashed: %d", code)
		}
	})
}

// patience is for how long an answer may still be the one of before.
const patience = 20 * time.Second

// health asks an agent as a balancer does, until it gives the wanted answer or time is up.
func (w *world) health(server, path string, want int) (code int) {
	w.t.Helper()
	for end := time.Now().Add(patience); code != want && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		r, err := http.Get("http://" + w.server(server).HealthAddress + path)
		if err != nil {
			w.t.Fatal(err)
		}
		r.Body.Close()
		code = r.StatusCode
	}
	return code
}

// balancer runs a balancer by the documented configuration, with this cluster's addresses.
func (w *world) balancer() (writes, reads string) {
	w.t.Helper()
	b, err := os.ReadFile("../../deploy/balancer.cfg")
	if err != nil {
		w.t.Fatal(err)
	}
	writes, reads = fmt.Sprintf("127.0.0.1:%d", freeport.Next()), fmt.Sprintf("127.0.0.1:%d", freeport.Next())
	replace := []string{"127.0.0.1:7731", writes, "127.0.0.1:7732", reads}
	for i, n := range []string{"gull", "tern", "heron"} {
		s := w.server(n)
		_, port, _ := net.SplitHostPort(s.HealthAddress)
		replace = append(replace, fmt.Sprintf("10.0.0.%d:5432 port 7722", i+1),
			fmt.Sprintf("%s:%d port %s", s.Host, s.Port, port))
	}
	file := filepath.Join(w.t.TempDir(), "balancer.cfg")
	if err := os.WriteFile(file, []byte(strings.NewReplacer(replace...).Replace(string(b))), 0o644); err != nil {
		w.t.Fatal(err)
	}
	c := exec.Command("/usr/sbin/haproxy", "-db", "-f", file)
	var said strings.Builder
	c.Stdout, c.Stderr = &said, &said
	if err := c.Start(); err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() {
		c.Process.Kill()
		c.Wait()
		if w.t.Failed() {
			w.t.Log(said.String())
		}
	})
	return writes, reads
}

// leadsTo connects again and again by way of the balancer, until it leads to a server or
// time is up, and returns the last one it led to.
func (w *world) leadsTo(address, want string) (server string) {
	w.t.Helper()
	for end := time.Now().Add(patience); server != want && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		server = w.ledTo(address, "")
	}
	return server
}

// told returns the server to which an application comes as crosstwin connect says.
func (w *world) told(more ...string) string {
	w.t.Helper()
	text := w.must(0, []string{"://"}, append([]string{"connect", "bookings"}, more...)...)
	_, text, _ = strings.Cut(strings.Fields(text)[0], "://")
	servers, rest, _ := strings.Cut(text, "/")
	_, query, _ := strings.Cut(rest, "?")
	return w.ledTo(servers, query)
}

func (w *world) ledTo(address, query string) string {
	u, err := url.Parse(w.server("gull").ApplicationURI)
	if err != nil {
		w.t.Fatal(err)
	}
	u.Host, u.RawQuery = address, query
	driver, source, ask := "pgx", u.String(), "select inet_server_port()"
	if w.mariadb() {
		password, _ := u.User.Password()
		driver, source = "mysql", fmt.Sprintf("%s:%s@tcp(%s)%s", u.User.Username(), password, address, u.Path)
		ask = "select @@port"
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(w.ctx, 5*time.Second)
	defer cancel()
	port := 0
	if err := db.QueryRowContext(ctx, ask).Scan(&port); err != nil {
		return err.Error()
	}
	for _, n := range []string{"gull", "tern", "heron"} {
		if w.server(n).Port == port {
			return n
		}
	}
	return fmt.Sprintf("port %d", port)
}
