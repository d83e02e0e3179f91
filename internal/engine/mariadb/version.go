package mariadb

import (
	"fmt"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
)

// Known are the major versions that this program was tested with, as major gives them. What
// differs between them stands in this file.
var Known = []int{1011}

// Named is how people write a major version.
func Named(major int) string { return fmt.Sprintf("%d.%d", major/100, major%100) }

var versionText = regexp.MustCompile(`Ver (\d+\.\d+\.\d+)`)

// programVersion asks the server's program for its version.
func programVersion() (string, error) {
	out, err := exec.Command(daemon, "--no-defaults", "--version").Output()
	if err != nil {
		return "", fmt.Errorf("%s --version: %w", daemon, err)
	}
	m := versionText.FindSubmatch(out)
	if m == nil {
		return "", fmt.Errorf("%s says no version: %s", daemon, out)
	}
	return string(m[1]), nil
}

// major returns 1011 for version 10.11.19.
func major(version string) int {
	f := strings.Split(version, ".")
	if len(f) < 2 {
		return 0
	}
	a, _ := strconv.Atoi(f[0])
	b, _ := strconv.Atoi(f[1])
	return a*100 + b
}
