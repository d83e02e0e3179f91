package host

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// WorkDirs lists the directories in which living processes of a program work: the data
// directories of a database's servers.
func WorkDirs(program string) (out []string) {
	have := map[string]bool{}
	eachProcess(program, func(_ int, dir string) {
		if dir != "" && !have[dir] {
			have[dir] = true
			out = append(out, dir)
		}
	})
	return out
}

// WorkingIn returns a process of a program that works in a directory, or in a unit where
// that may not be seen; 0 for none. Of a server and its children it is the server.
func WorkingIn(program, dir, unit string) (found int) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return 0
	}
	eachProcess(program, func(pid int, at string) {
		mine := at == real || at == "" && unit != "" && UnitOf(pid) == unit
		if mine && (found == 0 || pid < found) {
			found = pid
		}
	})
	return found
}

// eachProcess sees the living processes of a program, with the directory in which each
// works; empty where that may not be seen.
func eachProcess(program string, see func(pid int, dir string)) {
	entries, _ := os.ReadDir("/proc")
	for _, x := range entries {
		pid, err := strconv.Atoi(x.Name())
		if err != nil || !Alive(pid) {
			continue
		}
		comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
		if err != nil || strings.TrimSpace(string(comm)) != program {
			continue
		}
		dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
		if err == nil || errors.Is(err, fs.ErrPermission) {
			see(pid, dir)
		}
	}
}

// TreeBytes returns what the files below a directory take, as far as they can be seen.
func TreeBytes(dir string) (n int64) {
	filepath.WalkDir(dir, func(_ string, x fs.DirEntry, err error) error {
		if err == nil && x.Type().IsRegular() {
			if fi, err := x.Info(); err == nil {
				n += fi.Size()
			}
		}
		return nil
	})
	return n
}

// HasAddress reports whether an address is one of this host's; a name may be.
func HasAddress(host string) bool {
	ip := net.ParseIP(host)
	if ip == nil {
		return host != ""
	}
	own, err := net.InterfaceAddrs()
	for _, a := range own {
		if n, ok := a.(*net.IPNet); ok && (n.IP.Equal(ip) || ip.IsLoopback() && n.Contains(ip)) {
			return true
		}
	}
	return err != nil
}

// Listens reports whether a server that listens at a list of addresses, parted by commas,
// listens at all of another list. Everywhere are the entries that stand for every address;
// 0.0.0.0 and :: stand for those of their kind.
func Listens(now, wanted string, everywhere ...string) bool {
	list := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ' ' })
	}
	have := list(now)
	for _, e := range everywhere {
		if slices.Contains(have, e) {
			return true
		}
	}
	for _, w := range list(wanted) {
		kind := "0.0.0.0"
		if strings.Contains(w, ":") {
			kind = "::"
		}
		if !slices.Contains(have, w) && !slices.Contains(have, kind) {
			return false
		}
	}
	return true
}
