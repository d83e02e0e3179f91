package e2e

import (
	"io"
	"net/http"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"crosstwin/internal/core/view"
	"crosstwin/test/harness"
)

// A simulated fleet, by the commands that a developer uses: every server is
// seen, what is made to look wrong is called by its name, the metrics agree,
// and the records say where they end.
func TestSimulatedFleet(t *testing.T) {
	t.Parallel()
	c, token, _ := harness.Service(t, binary, "--keep-seconds", "1m", "--keep-tens", "10m", "--keep-minutes", "1h")
	crosstwin := func(args ...string) *exec.Cmd {
		return exec.Command(binary, append([]string{"--service", c.Base(), "--token", token}, args...)...)
	}
	fleet := crosstwin("simulate", "--servers", "170", "--clusters", "50", "--fencing")
	if err := fleet.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		fleet.Process.Signal(syscall.SIGINT)
		fleet.Wait()
	}()
	words := map[string]bool{}
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
		views, err := c.Clusters(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		seen, fenced := 0, 0
		clear(words)
		for _, v := range views {
			if v.Permission != nil && v.Permission.Seconds > 0 {
				fenced++
			}
			for _, s := range v.Servers {
				if s.Health != view.Unseen {
					seen++
				}
			}
			for _, p := range v.Problems {
				words[string(p.Rule)] = true
			}
		}
		if seen == 170 && len(views) == 50 && fenced > 25 && words["clock"] && words["link down"] &&
			(words["stalled"] || words["behind"]) {
			if views[0].Health == view.InStep {
				t.Error("the worst does not come first")
			}
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%d servers of %d clusters seen, %d with a permission, with problems %v", seen, len(views), fenced, words)
		}
	}
	req, err := http.NewRequest("GET", c.Base()+"/metrics", nil)
	if err != nil {
		t.Fatal(err)
	}
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != http.StatusUnauthorized {
		t.Errorf("metrics without a token: %v %v", res, err)
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if n := strings.Count(string(b), "\ncrosstwin_server_up{"); err != nil || n != 170 {
		t.Errorf("%v: the metrics know %d servers", err, n)
	}
	if n := strings.Count(string(b), "\ncrosstwin_cluster_takes_writes{cluster=\"sim-"); n != 50 {
		t.Errorf("the metrics know %d clusters", n)
	}
	out, err := crosstwin("records").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "samples of 170 servers") {
		t.Errorf("%v\n%s", err, out)
	}
	for _, words := range [][2]string{{"--hidden", "rank 2, site island, hidden"},
		{"--hidden=false", "rank 2, site island\n"}} {
		if out, err := crosstwin("server", "set", "sim-001", "s2", words[0]).CombinedOutput(); err != nil ||
			!strings.Contains(string(out), words[1]) {
			t.Errorf("%v\n%s", err, out)
		}
	}
	// The agents are made up: an act is refused, and says so.
	out, _ = crosstwin("compare", "sim-001", "--yes").CombinedOutput()
	if !strings.Contains(string(out), "simulated") {
		t.Errorf("%s", out)
	}
	if out, err := crosstwin("simulate", "--servers", "1", "--clusters", "2").CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "1 servers in 2 clusters") {
		t.Errorf("%v\n%s", err, out)
	}
	for _, bad := range [][]string{{"--keep-seconds", "1s"}, {"--keep-seconds", "2h", "--keep-tens", "1h"},
		{"--alert-command", "/no/such/program"}} {
		x := exec.Command(binary, append([]string{"serve", "--dir", t.TempDir(), "--listen", "127.0.0.1:0"}, bad...)...)
		out, _ := x.CombinedOutput()
		if x.ProcessState.ExitCode() != 2 {
			t.Errorf("serve %v: exit code %d\n%s", bad, x.ProcessState.ExitCode(), out)
		}
	}
}
