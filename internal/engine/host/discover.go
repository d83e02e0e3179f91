package host

import (
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
)

// WorkDirs lists the directories in which living processes of a program work, as far as
// they may be seen: the data directories of a database's servers.
func WorkDirs(program string) (out []string) {
	entries, _ := os.ReadDir("/proc")
	for _, x := range entries {
		pid, err := strconv.Atoi(x.Name())
		if err != nil || !runs(pid, program) || !Alive(pid) {
			continue
		}
		if dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid)); err == nil && !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	return out
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
