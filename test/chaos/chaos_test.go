// Package chaos runs random schedules of operations and disturbances on real
// servers, with writers that remember what was acknowledged, and looks afterwards
// whether anything was lost that no plan had named, or written in two places.
//
// CROSSTWIN_CHAOS is the number of schedules (5 when it is not set), CROSSTWIN_SEED
// the first one's seed: each prints its own, and with CROSSTWIN_CHAOS=1 that seed
// repeats it.
package chaos

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/demo"
	"crosstwin/test/harness"
)

var binary string

func TestMain(m *testing.M) { harness.Main(m, &binary) }

// inside marks the process that has a network and mounts of its own.
const inside = "CROSSTWIN_CHAOS_INSIDE"

// storyLine matches what a schedule tells of itself in the output.
var storyLine = regexp.MustCompile(`_test\.go:\d+: |^\s+\d+\.\d s  |^\s*--- `)

// tell runs a command and logs its story while it goes on.
func tell(t *testing.T, c *exec.Cmd) (string, error) {
	r, w := io.Pipe()
	c.Stdout, c.Stderr = w, w
	var all strings.Builder
	read := make(chan bool)
	go func() {
		defer close(read)
		for s := bufio.NewScanner(r); s.Scan(); {
			fmt.Fprintln(&all, s.Text())
			if storyLine.MatchString(s.Text()) {
				t.Log(strings.TrimSpace(s.Text()))
			}
		}
		io.Copy(io.Discard, r)
	}()
	err := c.Run()
	w.Close()
	<-read
	return all.String(), err
}

// goneInside carries out a test in a process that has a network and mounts of its own,
// and reports whether it did; in that process it does nothing.
func goneInside(t *testing.T, limit time.Duration, env ...string) bool {
	if os.Getenv(inside) != "" {
		return false
	}
	if os.Geteuid() != 0 {
		t.Skip("a network and disks of its own need root")
	}
	c := exec.Command("unshare", "--net", "--mount", "--", "sh", "-c",
		`ip link set lo up && echo 1 > /proc/sys/net/ipv4/ip_forward && exec "$0" "$@"`, os.Args[0],
		"-test.run", "^"+t.Name()+"$", "-test.v", "-test.parallel", fmt.Sprint(number("CROSSTWIN_PARALLEL", 3)),
		"-test.timeout", fmt.Sprint(limit))
	c.Env = append(append(os.Environ(), inside+"=1"), env...)
	out, err := tell(t, c)
	if err != nil || !strings.Contains(out, "--- PASS: "+t.Name()+"/") {
		t.Fatalf("%v\n%s", err, out)
	}
	return true
}

func number(name string, otherwise uint64) uint64 {
	if n, err := strconv.ParseUint(os.Getenv(name), 10, 64); err == nil {
		return n
	}
	return otherwise
}

func TestChaos(t *testing.T) {
	schedules := number("CROSSTWIN_CHAOS", 5)
	seed := number("CROSSTWIN_SEED", rand.Uint64N(1e6))
	if goneInside(t, 10*time.Minute*time.Duration(1+schedules/2), fmt.Sprintf("CROSSTWIN_SEED=%d", seed)) {
		return
	}
	for i := range schedules {
		cluster := []string{demo.Bookings, demo.Cargo}[(seed+i)%2]
		t.Run(fmt.Sprintf("%s/%d", cluster, seed+i), func(t *testing.T) {
			t.Parallel()
			run(t, cluster, seed+i)
		})
	}
}
