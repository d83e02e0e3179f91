// Package workdir makes the directories in which tests run their servers.
package workdir

import (
	"os"
	"syscall"
	"testing"
)

// enough is how much must be free in memory for the servers of all tests that run
// at one time, and for those of a second run beside them.
const enough = 8 << 30

// New makes an empty directory that the databases' own users can reach, and removes
// it after all that the test cleans up later.
func New(t testing.TB, prefix string) string {
	t.Helper()
	return create(t, "", prefix)
}

// InMemory makes it in memory, where there is much of that. It is not for MariaDB,
// which maps its log there as if it were battery-backed, and loses nothing in a crash
// that it would lose elsewhere (measured).
func InMemory(t testing.TB, prefix string) string {
	t.Helper()
	return create(t, parent(), prefix)
}

func create(t testing.TB, parent, prefix string) string {
	t.Helper()
	dir, err := os.MkdirTemp(parent, prefix)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func parent() string {
	const memory = "/dev/shm"
	var fs syscall.Statfs_t
	var info syscall.Sysinfo_t
	if syscall.Statfs(memory, &fs) != nil || syscall.Sysinfo(&info) != nil {
		return ""
	}
	if fs.Bavail*uint64(fs.Bsize) < enough || info.Freeram*uint64(info.Unit) < enough {
		return ""
	}
	return memory
}
