// Package harness builds the binary and the worlds that the tests drive.
package harness

import (
	"context"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/client"
	"crosstwin/internal/demo"
	"crosstwin/internal/freeport"
	"crosstwin/test/workdir"
)

// Main builds the binary once for all tests of a package, unless CROSSTWIN_BINARY names
// one that was built just now, puts its path into binary, runs them and ends the process.
func Main(m *testing.M, binary *string) {
	if *binary = os.Getenv("CROSSTWIN_BINARY"); *binary != "" {
		os.Exit(workdir.Main(m))
	}
	// Not below a private temporary directory: the databases' own user has to
	// reach it.
	dir, err := os.MkdirTemp("", "ct")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	*binary = filepath.Join(dir, "crosstwin")
	if out, err := exec.Command("go", "build", "-o", *binary, "crosstwin/cmd/crosstwin").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v: %s", err, out)
		os.Exit(1)
	}
	code := workdir.Main(m)
	os.RemoveAll(dir)
	os.Exit(code)
}

// Drawn picks the cluster on which a test is carried out, anew in each run; of two tests of a
// run it may be another one. With CROSSTWIN_EVERY_STEP or CROSSTWIN_SEED set it is both, so that
// a run can be repeated, and "make chaos" has every test on both engines.
func Drawn(test string) []string {
	all := []string{demo.Bookings, demo.Cargo}
	if os.Getenv("CROSSTWIN_EVERY_STEP") != "" || os.Getenv("CROSSTWIN_SEED") != "" {
		return all
	}
	h := fnv.New32a()
	h.Write([]byte(test))
	return all[(chance+h.Sum32())%2:][:1]
}

var chance = rand.Uint32N(2)

// Dir makes a directory for a world with one cluster.
func Dir(t testing.TB, cluster, prefix string) string {
	t.Helper()
	if cluster == demo.Bookings {
		return workdir.InMemory(t, prefix)
	}
	return workdir.New(t, prefix)
}

// World builds a world with one cluster, whose replicas are still empty, and
// takes it down with the test. failed is told the world's directory when the
// test failed, while it is still there; more changes the world's options.
func World(t testing.TB, binary, cluster string, failed func(dir string),
	more ...func(*demo.Options)) (*demo.Cluster, context.Context) {
	t.Helper()
	// No limit for the whole: a test that gets on, be it slowly, passes. Every wait
	// has its own.
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	dir := Dir(t, cluster, "ctw")
	opt := demo.Options{Dir: filepath.Join(dir, "w"), Binary: binary, Clusters: []string{cluster}, Small: true,
		Blank: workdir.Blank}
	for _, f := range more {
		f(&opt)
	}
	w, err := demo.Build(ctx, opt)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if t.Failed() && failed != nil {
			failed(w.Dir)
		}
		w.Stop()
	})
	return w.Clusters[0], ctx
}

// Service starts a service of its own, without any database, and gives a client
// of it, the client's token and the service's process. It ends with the test.
func Service(t testing.TB, binary string, more ...string) (c *client.Client, token string, p *os.Process) {
	t.Helper()
	dir := t.TempDir()
	address := fmt.Sprintf("127.0.0.1:%d", freeport.Next())
	cmd := exec.Command(binary, append([]string{"serve", "--dir", dir, "--listen", address}, more...)...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
	})
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if text, err := os.ReadFile(filepath.Join(dir, "first-token")); err == nil {
			token = strings.TrimSpace(string(text))
			if c, err = client.New("http://"+address, token, ""); err != nil {
				t.Fatal(err)
			}
			if _, err := c.Version(t.Context()); err == nil {
				return c, token, cmd.Process
			}
		}
		if time.Now().After(end) {
			t.Fatal("the service does not come up")
		}
	}
}
