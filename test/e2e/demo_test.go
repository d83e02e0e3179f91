package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/demo"
	"crosstwin/test/workdir"
)

// The demo says how to reach everything, cleans up after an unclean end of an
// earlier one, and leaves nothing running after Ctrl-C.
func TestDemo(t *testing.T) {
	t.Parallel()
	base := workdir.New(t, "ctd")
	dir := filepath.Join(base, "w")
	said := func() string {
		b, _ := os.ReadFile(filepath.Join(base, "out"))
		return string(b)
	}
	start := func(earlier string, servers int, more ...string) (*exec.Cmd, demo.Connections) {
		t.Helper()
		c := exec.Command(binary, append([]string{"demo", "--dir", dir}, more...)...)
		out, err := os.Create(filepath.Join(base, "out"))
		if err != nil {
			t.Fatal(err)
		}
		defer out.Close()
		c.Stdout, c.Stderr = out, out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan error, 1)
		go func() { ended <- c.Wait() }()
		t.Cleanup(func() { c.Process.Signal(syscall.SIGINT); <-ended; demo.Clear(dir) })
		deadline := time.After(5 * time.Minute) // beside other worlds on two cores
		for {
			b, _ := os.ReadFile(filepath.Join(dir, "connections.json"))
			var conn demo.Connections
			if json.Unmarshal(b, &conn) == nil && len(conn.Servers) == servers && conn.Service.URL != earlier &&
				up(conn.Servers) {
				return c, conn
			}
			select {
			case <-deadline:
				t.Fatalf("the demo did not come up:\n%s", said())
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
	first, old := start("", 3, "--cluster", "cargo")
	first.Process.Kill() // kill -9: everything it started goes on
	time.Sleep(200 * time.Millisecond)
	if !up(old.Servers) {
		t.Fatal("the servers ended with the demo: the test shows nothing")
	}
	second, conn := start(old.Service.URL, 6)
	if up(old.Servers) {
		t.Error("the earlier world still runs")
	}
	for end := time.Now().Add(time.Minute); !strings.Contains(said(),
		"crosstwin status"); time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("the demo does not say what to try:\n%s", said())
		}
	}
	// Any client can use what the file says.
	for _, s := range conn.Servers {
		for _, uri := range []string{s.SuperuserURI, s.ApplicationURI} {
			if err := reach(uri); err != nil {
				t.Errorf("%s: %v", uri, err)
			}
		}
	}
	sh := exec.Command("sh", "-c", ". "+dir+"/env && crosstwin status")
	if b, err := sh.CombinedOutput(); err != nil || !strings.Contains(string(b), "takes writes on gull") ||
		!strings.Contains(string(b), "takes writes on wren") {
		t.Errorf("%v %s", err, b)
	}
	sh = exec.Command("sh", "-c", ". "+dir+"/env && crosstwin check bookings && crosstwin check cargo")
	if b, err := sh.CombinedOutput(); err != nil || strings.Count(string(b), " encrypted, and has it prove itself") != 4 {
		t.Errorf("not all replicas follow encrypted: %v %s", err, b)
	}
	second.Process.Signal(syscall.SIGINT)
	for end := time.Now().Add(30 * time.Second); processWith(dir) != 0 ||
		up(conn.Servers); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("something of the demo is left running")
		}
	}
}

// reach connects by a URI with the engines' own client programs.
func reach(uri string) error {
	u, err := url.Parse(uri)
	if err != nil {
		return err
	}
	c := exec.Command("psql", "-qAt", "-c", "select 1", uri)
	if u.Scheme == "mysql" {
		c = exec.Command("mariadb", "--no-defaults", "-e", "select 1", "--user="+u.User.Username(),
			strings.TrimPrefix(u.Path, "/"))
		if password, ok := u.User.Password(); ok {
			c.Args = append(c.Args, "--password="+password, "--protocol=tcp", "--host="+u.Hostname(), "--port="+u.Port())
		} else {
			c.Args = append(c.Args, "--socket="+u.Query().Get("socket"))
		}
	}
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// up reports whether all servers take connections.
func up(servers []*demo.Server) bool {
	for _, s := range servers {
		c, err := net.Dial("tcp", net.JoinHostPort(s.Host, strconv.Itoa(s.Port)))
		if err != nil {
			return false
		}
		c.Close()
	}
	return true
}
