package host

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/test/workdir"
)

// data makes a data directory that belongs to somebody who is not root.
func data(t *testing.T) *Data {
	t.Helper()
	dir := workdir.New(t, "cth")
	d := &Data{Name: "gull", Dir: filepath.Join(dir, "data"), BinDir: "/usr/bin", Process: "sleep", DefaultOwner: "nobody"}
	if err := d.Make(); err != nil {
		t.Fatal(err)
	}
	return d
}

// Nothing of a database runs as root, whoever the agent is.
func TestRunsAsTheOwner(t *testing.T) {
	d := data(t)
	id, err := d.Owner()
	if err != nil || id.UID == 0 {
		t.Fatalf("%+v %v", id, err)
	}
	out, _, err := d.Run(t.Context(), "id", "-u")
	if err != nil || strings.TrimSpace(out) != strconv.Itoa(int(id.UID)) {
		t.Errorf("a program runs as %q: %v", out, err)
	}
	if os.Geteuid() != 0 {
		t.Skip("the rest needs root")
	}
	if err := os.Chown(d.Dir, 0, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Owner(); err == nil || !strings.Contains(err.Error(), "never runs as root") {
		t.Errorf("data of root: %v", err)
	}
	if _, _, err := d.Run(t.Context(), "id"); err == nil {
		t.Error("a program ran for data of root")
	}
	if _, err := (&Data{Dir: "/nowhere/data", OwnerName: "no-such-user"}).Owner(); err == nil ||
		!strings.Contains(err.Error(), "no-such-user") {
		t.Errorf("an owner that is none: %v", err)
	}
}

func TestFiles(t *testing.T) {
	d := data(t)
	if !d.Empty() {
		t.Error("new data is not empty")
	}
	for _, content := range []string{"first", "second"} {
		if err := d.WriteOwned(d.Path("note"), []byte(content)); err != nil {
			t.Fatal(err)
		}
		if b, _ := os.ReadFile(d.Path("note")); string(b) != content {
			t.Errorf("%q, want %q", b, content)
		}
	}
	fi, err := os.Stat(d.Path("note"))
	if err != nil || fi.Mode().Perm() != 0o600 {
		t.Fatalf("%v %v", fi.Mode(), err)
	}
	if id, _ := d.Owner(); fi.Sys().(*syscall.Stat_t).Uid != id.UID {
		t.Error("the file belongs to somebody else")
	}
	if err := d.WriteOwned(filepath.Join(d.Dir, "none", "note"), nil); err == nil {
		t.Error("a file in no directory")
	}
	if err := d.AsOwner(func() error {
		return errors.Join(os.Mkdir(d.Path("below"), 0o755),
			os.WriteFile(d.Path("below", "large"), make([]byte, 5000), 0o644))
	}); err != nil {
		t.Fatal(err)
	}
	if n := d.Bytes(false); n != 5006 {
		t.Errorf("%d bytes", n)
	}
	os.WriteFile(d.Path("more"), make([]byte, 1000), 0o644)
	if n := d.Bytes(false); n != 5006 {
		t.Errorf("measured anew unasked: %d", n)
	}
	if n := d.Bytes(true); n != 6006 {
		t.Errorf("%d bytes", n)
	}
	if err := d.RemoveSynced(d.Path("note")); err != nil {
		t.Error(err)
	}
	if err := d.RemoveSynced(d.Path("note")); err != nil {
		t.Errorf("again: %v", err)
	}
	if err := d.Clear(); err != nil || !d.Empty() {
		t.Errorf("cleared: %v", err)
	}
	if d.DiskFree().Or(0) <= 0 {
		t.Error("no disk")
	}
}

// A watched program hands over its words line by line, takes and gives what is
// piped, ends with its context, and its last words stand in the error.
func TestRunWatched(t *testing.T) {
	d := data(t)
	var lines []string
	see := func(l string) { lines = append(lines, l) }
	if err := d.RunWatched(t.Context(), see, Piped{}, "sh", "-c", `printf 'one\rtwo\n\nthree' >&2`); err != nil ||
		strings.Join(lines, ",") != "one,two,three" {
		t.Errorf("%q %v", lines, err)
	}
	var out bytes.Buffer
	if err := d.RunWatched(t.Context(), see, Piped{Stdin: strings.NewReader("in"), Stdout: &out}, "cat"); err != nil ||
		out.String() != "in" {
		t.Errorf("%q %v", &out, err)
	}
	err := d.RunWatched(t.Context(), see, Piped{}, "sh", "-c", "echo the reason; exit 3")
	if err == nil || !strings.Contains(err.Error(), "sh on gull: exit status 3: the reason") {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := d.RunWatched(ctx, see, Piped{}, "sleep", "60"); err == nil || !strings.Contains(err.Error(), "was ended") {
		t.Errorf("%v", err)
	}
	if err := d.RunWatched(t.Context(), see, Piped{}, "no-such-program"); err == nil {
		t.Error("a program that is not there ran")
	}
}

// A server is a process of that name that works in the data directory; a shell
// that somebody opened there is none, nor one that waits to be reaped.
func TestProcesses(t *testing.T) {
	d := data(t)
	run := func(program string, args ...string) *exec.Cmd {
		t.Helper()
		c := exec.Command(program, args...)
		c.Dir = d.Dir
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Process.Kill(); c.Wait() })
		return c
	}
	ours := run("sleep", "60")
	run("tail", "-f", "/dev/null")       // of another name
	other := exec.Command("sleep", "60") // works elsewhere
	other.Start()
	t.Cleanup(func() { other.Process.Kill(); other.Wait() })
	for end := time.Now().Add(10 * time.Second); len(d.Processes()) != 1; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("processes %v, want %d", d.Processes(), ours.Process.Pid)
		}
	}
	if got := d.Processes()[0]; got != ours.Process.Pid || !Alive(got) {
		t.Errorf("process %d, want %d", got, ours.Process.Pid)
	}
	ours.Process.Kill()
	for end := time.Now().Add(10 * time.Second); Alive(ours.Process.Pid); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("a dead process that nobody reaped counts as living")
		}
	}
	if left := d.Processes(); len(left) != 0 {
		t.Errorf("left: %v", left)
	}
}

// A server that ends while it is waited for is an error with its own words.
func TestSpawn(t *testing.T) {
	d := data(t)
	log := filepath.Join(filepath.Dir(d.Dir), "log")
	os.WriteFile(log, []byte("an older FATAL word\n"), 0o600)
	s, err := d.Spawn(log, "sh", "-c", "echo working; echo FATAL: no room; exit 1")
	if err != nil {
		t.Fatal(err)
	}
	err = s.Await(t.Context(), func() bool { return false }, time.Millisecond, "FATAL")
	if err == nil || !strings.Contains(err.Error(), "start gull: the server ended again; its log says: FATAL: no room") ||
		strings.Contains(err.Error(), "older") {
		t.Errorf("%v", err)
	}
	if s, err = d.Spawn(log, "sleep", "60"); err != nil {
		t.Fatal(err)
	}
	defer syscall.Kill(s.PID, syscall.SIGKILL)
	if err := s.Await(t.Context(), func() bool { return Alive(s.PID) }, time.Millisecond); err != nil {
		t.Error(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if err := s.Await(ctx, func() bool { return false }, time.Millisecond); err == nil ||
		!strings.Contains(err.Error(), "not ready in time") {
		t.Errorf("%v", err)
	}
}

// A commit counts as waiting from when it is first seen to, not from when its
// statement began.
func TestWaits(t *testing.T) {
	var w Waits
	at := func(s int) time.Time { return time.Unix(1000+int64(s), 0) }
	for _, c := range []struct {
		at      int
		waiting []string
		granted string
		want    float64
	}{{0, nil, "1", 0}, {1, []string{"a"}, "1", 0}, {3, []string{"a", "b"}, "2", 2}, {4, []string{"b"}, "3", 1},
		{9, []string{"b", "a"}, "4", 6}, {10, nil, "5", 0}, {11, []string{"b"}, "6", 0},
		// Each gives up and another tries, and nothing is granted.
		{13, []string{"c"}, "6", 2}, {15, nil, "6", 4}, {17, []string{"d"}, "6", 6}, {18, []string{"d"}, "7", 1},
		{19, nil, "8", 0}, {20, []string{"e"}, "8", 0}, {30, nil, "8", 10}, {36, nil, "8", 0}, {40, []string{"f"}, "8", 0}} {
		if got := w.Longest(at(c.at), c.waiting, c.granted); got != c.want {
			t.Errorf("at %d: %v, want %v", c.at, got, c.want)
		}
	}
}
