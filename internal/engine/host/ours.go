package host

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// Processes lists all living processes that work in the data directory: the
// server and its children, also those that outlived it.
//
// Invariant: what cannot be looked at is not taken for gone. Fencing is proven by an empty
// list, so a host that is short of descriptors is asked until it answers.
func (d *Data) Processes() []int {
	real, err := filepath.EvalSymlinks(d.Dir)
	var out []int
	for _, pid := range allProcesses() {
		if runs(pid, d.Process) && d.worksIn(pid, real, err) && Alive(pid) {
			out = append(out, pid)
		}
	}
	return out
}

// Ours reports whether a process is the server, or a child of it, that works in
// this data directory. A shell that somebody opened there is neither.
func (d *Data) Ours(pid int) bool {
	if !runs(pid, d.Process) {
		return false
	}
	real, err := filepath.EvalSymlinks(d.Dir)
	return d.worksIn(pid, real, err)
}

// worksIn reports whether a process of the server's program works in the data directory,
// whose real path is given, or why that could not be told.
func (d *Data) worksIn(pid int, real string, unknown error) bool {
	cwd, err := workingDir(pid)
	if errors.Is(err, fs.ErrPermission) {
		// An agent without root may not look into a server that its unit gave further
		// rights (measured: MariaDB's). Which unit it is in, anybody may see.
		return d.Unit != "" && UnitOf(pid) == d.Unit
	}
	return err == nil && unknown == nil && cwd == real
}

// allProcesses lists the numbers of all processes of the host.
func allProcesses() (out []int) {
	names, _ := patient(func() ([]string, error) { return namesIn("/proc") })
	for _, n := range names {
		if pid, err := strconv.Atoi(n); err == nil {
			out = append(out, pid)
		}
	}
	return out
}

// runs reports whether a process is one of a program. It is asked of every process of a host
// several times a second: no buffer is allocated, and nothing is registered to be waited for.
func runs(pid int, program string) bool {
	var name [32]byte // the kernel keeps 15 bytes and a newline
	n, err := patient(func() (int, error) { return readInto(name[:], "/proc/"+strconv.Itoa(pid)+"/comm") })
	return err == nil && n > 0 && string(name[:n-1]) == program
}

// readInto reads the beginning of a small file of the kernel.
func readInto(b []byte, file string) (int, error) {
	fd, err := unix.Open(file, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	return unix.Read(fd, b)
}

// namesIn lists a directory of the kernel, in no order.
func namesIn(dir string) ([]string, error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

// shortPause is how long to wait until a host that is short of descriptors is asked again.
const shortPause = time.Millisecond

// patient asks until there is an answer: a host that is short of descriptors or memory, or
// interrupted by a signal, has not said whether what was asked for is there.
func patient[T any](ask func() (T, error)) (T, error) {
	for {
		v, err := ask()
		if !errors.Is(err, unix.EMFILE) && !errors.Is(err, unix.ENFILE) && !errors.Is(err, unix.ENOMEM) &&
			!errors.Is(err, unix.EINTR) {
			return v, err
		}
		time.Sleep(shortPause)
	}
}
