package host

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// Alive reports whether a process exists and is no zombie: init reaps late on some
// machines. One whose first thread has ended lives on while another one of its threads does.
func Alive(pid int) bool {
	b, err := patient(func() ([]byte, error) { return os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)) })
	if err != nil {
		return false
	}
	// The state follows the command's name in parentheses.
	if i := bytes.LastIndexByte(b, ')'); i > 0 && i+2 < len(b) && b[i+2] != 'Z' && b[i+2] != 'X' {
		return true
	}
	for _, t := range threads(pid) {
		if !t.ended {
			return true
		}
	}
	return false
}

// Doomed reports whether a process was killed and waits in the kernel, for a disk that
// hangs: none of its threads comes back to its program, so that it acknowledges nothing.
func Doomed(pid int) bool {
	waits := false
	for _, t := range threads(pid) {
		if !t.ended && !(t.waits && t.killed) {
			return false
		}
		waits = waits || !t.ended
	}
	return waits
}

// Doomed reports whether all that is left of the server is so.
func (d *Data) Doomed() bool {
	left := d.Processes()
	return len(left) > 0 && allDoomed(left)
}

func allDoomed(pids []int) bool {
	return !slices.ContainsFunc(pids, func(pid int) bool { return !Doomed(pid) })
}

// thread is what /proc says of one: that it has ended, that it waits in the kernel and
// cannot be interrupted, that SIGKILL is on its way to it.
type thread struct{ ended, waits, killed bool }

func threads(pid int) (out []thread) {
	for _, task := range tasks(pid) {
		b, err := patient(func() ([]byte, error) { return os.ReadFile(filepath.Join(task, "status")) })
		if err != nil {
			continue // it has gone
		}
		t := thread{}
		for _, line := range strings.Split(string(b), "\n") {
			name, value, _ := strings.Cut(line, ":")
			value = strings.TrimSpace(value)
			switch name {
			case "State":
				t.ended = strings.HasPrefix(value, "Z") || strings.HasPrefix(value, "X")
				t.waits = strings.HasPrefix(value, "D")
			case "SigPnd", "ShdPnd":
				set, _ := strconv.ParseUint(value, 16, 64)
				t.killed = t.killed || set&(1<<(syscall.SIGKILL-1)) != 0
			}
		}
		out = append(out, t)
	}
	return out
}

// tasks returns the directories of a process's threads.
func tasks(pid int) []string {
	dir := fmt.Sprintf("/proc/%d/task", pid)
	names, _ := patient(func() ([]string, error) { return namesIn(dir) })
	for i, n := range names {
		names[i] = filepath.Join(dir, n)
	}
	return names
}

// workingDir returns the directory that a process works in. When its first thread has ended,
// only its others know.
func workingDir(pid int) (string, error) {
	dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if !errors.Is(err, fs.ErrNotExist) {
		return dir, err
	}
	for _, task := range tasks(pid) {
		if dir, err := os.Readlink(filepath.Join(task, "cwd")); err == nil {
			return dir, nil
		}
	}
	return "", err
}
