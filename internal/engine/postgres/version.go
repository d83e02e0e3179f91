package postgres

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

// Known are the major versions that this program was tested with. What differs between
// them stands in this file.
var Known = []int{15}

// Named is how people write a major version.
func Named(major int) string { return strconv.Itoa(major) }

// findPrograms returns the directory of the server's programs: of the data's
// major version, or the newest that is installed (Debian's layout).
func findPrograms(dataDir string) (string, error) {
	if b, err := os.ReadFile(filepath.Join(dataDir, "PG_VERSION")); err == nil {
		return "/usr/lib/postgresql/" + strings.TrimSpace(string(b)) + "/bin", nil
	}
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	sort.Slice(dirs, func(i, j int) bool { return majorOf(dirs[i]) < majorOf(dirs[j]) })
	if len(dirs) == 0 {
		return "",
			fmt.Errorf(
				"PostgreSQL's programs were not found below /usr/lib/postgresql: apt-get install postgresql-15, or set bin_dir")
	}
	return dirs[len(dirs)-1], nil
}

func majorOf(binDir string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(binDir)))
	return n
}
