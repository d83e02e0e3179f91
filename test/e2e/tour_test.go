package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"crosstwin/test/harness"
)

// tour: the whole story by itself, through the binary, ends with exit code 0. Its clusters
// are under fencing.
func tour(t *testing.T, cluster string) {
	dir := filepath.Join(harness.Dir(t, cluster, "ctt"), "w")
	out, err := exec.Command(binary, "tour", "--cluster", cluster, "--dir", dir).CombinedOutput()
	if err != nil {
		keepLogs(t, dir)
		t.Fatalf("%v\n%s", err, out)
	}
	text := strings.Join(strings.Fields(string(out)), " ") // wherever its lines end
	for _, w := range []string{"the workload felt a pause of", "lost writes stand in the saved tail",
		"all compared tables match on", "The whole story of " + cluster + " took", "way: rewind",
		"it began by itself: ", "through the gates meanwhile 0 failed",
		"the session that rested went on as if nothing had been"} {
		if !strings.Contains(text, w) {
			t.Errorf("the tour does not say %q:\n%s", w, out)
		}
	}
	if _, err := os.Stat(dir); err == nil {
		t.Error("the tour left its directory behind")
	}
}
