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
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
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
	files, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/status", pid))
	for _, f := range files {
		b, err := os.ReadFile(f)
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

// workingDir returns the directory that a process works in. When its first thread has ended,
// only its others know.
func workingDir(pid int) (string, error) {
	dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if !errors.Is(err, fs.ErrNotExist) {
		return dir, err
	}
	links, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/cwd", pid))
	for _, l := range links {
		if dir, err := os.Readlink(l); err == nil {
			return dir, nil
		}
	}
	return "", err
}
