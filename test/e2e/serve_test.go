package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/freeport"
)

// daemon is a service started by hand, with its own home for logins.
type daemon struct {
	t    *testing.T
	dir  string
	port int
	cmd  *exec.Cmd
	log  *os.File
}

// serve starts a service with these arguments and waits until it listens.
func serve(t *testing.T, env []string, args ...string) *daemon {
	t.Helper()
	d := &daemon{t: t, dir: t.TempDir(), port: freeport.Next()}
	for i := range args {
		args[i] = strings.NewReplacer("DIR", d.dir, "PORT", fmt.Sprint(d.port)).Replace(args[i])
	}
	for i := range env {
		env[i] = strings.NewReplacer("DIR", d.dir, "PORT", fmt.Sprint(d.port)).Replace(env[i])
	}
	d.cmd = exec.Command(binary, append([]string{"serve"}, args...)...)
	d.cmd.Env = append(os.Environ(), env...)
	var err error
	if d.log, err = os.Create(filepath.Join(d.dir, "log")); err != nil {
		t.Fatal(err)
	}
	d.cmd.Stdout, d.cmd.Stderr = d.log, d.log
	if err := d.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.cmd.Process.Kill(); d.cmd.Wait(); d.log.Close() })
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		// The port opens a moment before the log says so.
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", d.port)); err == nil {
			c.Close()
			if strings.Contains(d.said(), "service listens") {
				return d
			}
		}
		if time.Now().After(end) {
			t.Fatalf("the service does not listen:\n%s", d.said())
		}
	}
}

func (d *daemon) said() string {
	b, _ := os.ReadFile(filepath.Join(d.dir, "log"))
	return string(b)
}

// run runs a command with a home of its own and nothing in the environment.
func (d *daemon) run(args ...string) (string, int) {
	d.t.Helper()
	c := exec.Command(binary, args...)
	c.Env = []string{"HOME=" + d.dir, "XDG_CONFIG_HOME=" + filepath.Join(d.dir, "config"), "PATH=/usr/bin:/bin"}
	out, _ := c.CombinedOutput()
	return string(out), c.ProcessState.ExitCode()
}

// HTTPS with the service's own authority: a login is kept, a stranger's trust
// is not enough, and an agent enrols knowing only its code.
func TestServeTLS(t *testing.T) {
	t.Parallel()
	d := serve(t, nil, "--dir", "DIR/records", "--listen", "127.0.0.1:PORT", "--tls")
	url := fmt.Sprintf("https://127.0.0.1:%d", d.port)
	records := filepath.Join(d.dir, "records")
	if out, code := d.run("status", "--service", url, "--token", "x"); code != 6 || !strings.Contains(out, "certificate") {
		t.Errorf("without its authority: %d %s", code, out)
	}
	if out, code := d.run("login", "--service", url, "--ca", filepath.Join(records, "authority.crt"), "--token",
		"wrong"); code != 6 {
		t.Errorf("a wrong token: %d %s", code, out)
	}
	if out, code := d.run("login", "--service", url, "--ca", filepath.Join(records, "authority.crt"), "--token-file",
		filepath.Join(records, "first-token")); code != 0 || !strings.Contains(out, "as first") {
		t.Fatalf("login: %d %s", code, out)
	}
	// In use, the first token is in no file of the service's any more, and the trail says
	// who took it over.
	if _, err := os.Stat(filepath.Join(records, "first-token")); !os.IsNotExist(err) {
		t.Errorf("the first token's file is left: %v", err)
	}
	if out, code := d.run("audit", "list"); code != 0 || !strings.Contains(out, "logged in") {
		t.Errorf("the trail: %d %s", code, out)
	}
	if out, code := d.run("status"); code != 0 ||
		!strings.Contains(out, "No cluster yet. Begin with: crosstwin cluster add NAME") {
		t.Errorf("after the login: %d %s", code, out)
	}
	if fi, err := os.Stat(filepath.Join(d.dir, "config", "crosstwin", "login.yaml")); err != nil ||
		fi.Mode().Perm() != 0o600 {
		t.Errorf("the kept login: %v %v", fi, err)
	}
	for _, args := range [][]string{{"cluster", "add", "bookings"}, {"server", "add", "bookings", "gull", "--primary"}} {
		if out, code := d.run(args...); code != 0 {
			t.Fatalf("%v: %d %s", args, code, out)
		}
	}
	out, _ := d.run("server", "code", "bookings", "gull", "-o", "json")
	var code struct{ Code string }
	if err := json.Unmarshal([]byte(out), &code); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	enroll := []string{"agent", "enroll", "--service", url, "--code", code.Code, "--dir", filepath.Join(d.dir, "agent"),
		"--data-dir", filepath.Join(d.dir, "data"), "--host", "127.0.0.1", "--listen",
		fmt.Sprintf("127.0.0.1:%d", freeport.Next())}
	if out, rc := d.run(enroll...); rc != 0 || !strings.Contains(out, "enrolled as gull") {
		t.Errorf("%d %s", rc, out)
	}
	if out, code := d.run("status"); code != 0 ||
		!strings.Contains(out, "bookings takes no writes: it has no primary yet") {
		t.Errorf("%d %s", code, out)
	}
	// The first token can go once another is there; then the last one too.
	token, _ := d.run("token", "add", "night-shift", "--scope", "admin")
	if out, code := d.run("token", "remove", "first"); code != 0 {
		t.Errorf("%d %s", code, out)
	}
	if out, code := d.run("token", "list"); code != 6 || !strings.Contains(out, "crosstwin login") {
		t.Errorf("a removed token is good: %d %s", code, out)
	}
	if out, code := d.run("token", "list", "--token", strings.TrimSpace(token)); code != 0 ||
		!strings.Contains(out, "night-shift") {
		t.Errorf("%d %s", code, out)
	}
	d.cmd.Process.Signal(syscall.SIGTERM)
	if err := d.cmd.Wait(); err != nil || !strings.Contains(d.said(), "service stopped") {
		t.Errorf("it did not stop cleanly: %v\n%s", err, d.said())
	}
}

// Settings from a file, the environment and flags, in that order of weight; a
// misspelt one is an error.
func TestServeSettings(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "serve.yaml")
	d := serve(t, []string{"CROSSTWIN_SERVE_LISTEN=127.0.0.1:PORT", "CROSSTWIN_SERVE_DIR=DIR/records"}, "--log-json")
	if !strings.Contains(d.said(), `"msg":"service listens"`) {
		t.Errorf("the log is not JSON:\n%s", d.said())
	}
	for _, path := range []string{"/healthz", "/readyz", "/api/v1/openapi.json"} {
		res, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d%s", d.port, path))
		if err != nil || res.StatusCode != 200 {
			t.Errorf("%s: %v", path, err)
		}
	}
	write := func(text string) {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	port, dir := freeport.Next(), t.TempDir()
	write(fmt.Sprintf("dir: %s\nlisten: 127.0.0.1:%d\nlog-level: debug\n", dir, port))
	serve(t, nil, "--config", file, "--listen", "127.0.0.1:PORT") // the flag wins
	if _, err := os.Stat(filepath.Join(dir, "crosstwin.db")); err != nil {
		t.Errorf("the file's directory was not used: %v", err)
	}
	for text, want := range map[string]string{"lisen: x\n": `there is no setting "lisen"`, "{": "configuration",
		"log-level: loud\n": `no log level "loud"`} {
		write(text)
		var out bytes.Buffer
		c := exec.Command(binary, "serve", "--config", file, "--dir", t.TempDir())
		c.Stdout, c.Stderr = &out, &out
		if c.Run(); c.ProcessState.ExitCode() != 2 || !strings.Contains(out.String(), want) {
			t.Errorf("%q: %d %s", text, c.ProcessState.ExitCode(), out.String())
		}
	}
}
