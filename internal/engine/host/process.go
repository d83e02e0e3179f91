package host

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Command prepares a program to run as the owner of the data.
func (d *Data) Command(ctx context.Context, program string, args ...string) (*exec.Cmd, error) {
	id, err := d.Owner()
	if err != nil {
		return nil, err
	}
	if !filepath.IsAbs(program) {
		program = filepath.Join(d.BinDir, program)
	}
	c := exec.CommandContext(ctx, program, args...)
	c.Env = append([]string{"PATH=/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL=C.UTF-8", "TZ=UTC"}, d.Env...)
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if os.Geteuid() == 0 {
		c.SysProcAttr.Credential = &syscall.Credential{Uid: id.UID, Gid: id.GID, Groups: groupsOf(id.UID)}
	}
	return c, nil
}

// Run runs a utility and gives what it printed. The error holds its last
// words.
func (d *Data) Run(ctx context.Context, program string, args ...string) (stdout, stderr string, err error) {
	c, err := d.Command(ctx, program, args...)
	if err != nil {
		return "", "", err
	}
	var out, problems bytes.Buffer
	c.Stdout, c.Stderr = &out, &problems
	if err = c.Run(); err != nil {
		err = fmt.Errorf("%s on %s: %w: %s", program, d.Name, err, LastLines(problems.String()+out.String(), 3))
	}
	return out.String(), problems.String(), err
}

// Server is a server process that was started here.
type Server struct {
	PID    int
	Exited <-chan struct{} // closed when it has ended
	from   int64           // where its words begin in its log
	data   *Data
	log    string
	// awaited is called when nobody waits for it any more; nil: nothing is to be done then.
	awaited func()
	problem problem // of the host's start command
}

// Spawn starts the server's program with its output in a log file. The process
// is a child of the agent, so it is reaped at once, but in a session of its
// own: it outlives the agent.
func (d *Data) Spawn(logFile, program string, args ...string) (*Server, error) {
	c, err := d.Command(context.Background(), program, args...)
	if err != nil {
		return nil, err
	}
	log, err := d.appendLog(logFile)
	if err != nil {
		return nil, fmt.Errorf("log file of %s: %w", d.Name, err)
	}
	defer log.Close()
	from, _ := log.Seek(0, io.SeekEnd)
	c.Stdout, c.Stderr = log, log
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", d.Name, err)
	}
	exited := make(chan struct{})
	go func() { c.Wait(); close(exited) }()
	return &Server{PID: c.Process.Pid, Exited: exited, from: from, data: d, log: logFile}, nil
}

// Await asks again and again whether the server is ready. An error holds what
// its log says; words are what makes a line of it telling.
func (s *Server) Await(ctx context.Context, ready func() bool, every time.Duration, words ...string) error {
	if s.awaited != nil {
		defer s.awaited()
	}
	for !ready() {
		why := ""
		select {
		case <-s.Exited:
			if err := s.problem.get(); err != nil {
				return fmt.Errorf("start %s: %w; its log says: %s", s.data.Name, err, s.words(words...))
			}
			why = "the server ended again"
		case <-ctx.Done():
			why = "not ready in time"
		case <-time.After(every):
			continue
		}
		return fmt.Errorf("start %s: %s; its log says: %s", s.data.Name, why, s.words(words...))
	}
	return nil
}

// words returns the last telling lines that the server wrote since its start. One without a
// log file writes into the journal of its unit.
func (s *Server) words(telling ...string) string {
	if _, err := os.Stat(s.log); err != nil && s.data.Unit != "" {
		return journal(s.data.Unit, telling...)
	}
	return s.data.logSince(s.log, s.from, telling...)
}

// PipePiece is how much a pipe of a copy holds, and how much is taken from it at a time: in
// small pieces each process waits for the next (measured: 10 % of the rate).
const PipePiece = 1 << 20

// LargePipe makes a pipe that holds a large piece, where the system lets it.
func LargePipe() (r, w *os.File, err error) {
	if r, w, err = os.Pipe(); err != nil {
		return nil, nil, err
	}
	if c, err := w.SyscallConn(); err == nil {
		// A smaller one serves as well.
		c.Control(func(fd uintptr) { unix.FcntlInt(fd, unix.F_SETPIPE_SZ, PipePiece) })
	}
	return r, w, nil
}

// pour makes a file for a program's output, all of which goes to a writer. The caller calls
// poured once the program has it: it closes the caller's end and waits for the rest.
func pour(into io.Writer) (out *os.File, poured func() error, err error) {
	from, out, err := LargePipe()
	if err != nil {
		return nil, nil, err
	}
	done := make(chan error, 1)
	go func() {
		// What a file could write by itself it would write in small pieces.
		_, err := io.CopyBuffer(into, struct{ io.Reader }{from}, make([]byte, PipePiece))
		from.Close() // a program that writes on ends
		done <- err
	}()
	return out, func() error { out.Close(); return <-done }, nil
}

// Piped is a long utility whose input and output are the caller's.
type Piped struct {
	Stdin  io.Reader
	Stdout io.Writer // nil: handed to see, line by line, as its errors are
}

// RunWatched runs a long utility, hands each line that it says (parted by
// newline or carriage return) to see, and ends it when ctx ends.
func (d *Data) RunWatched(ctx context.Context, see func(line string), p Piped, program string, args ...string) error {
	c, err := d.Command(ctx, program, args...)
	if err != nil {
		return err
	}
	// The utility must not outlive its agent: a half-made copy that is still
	// being written could not be cleared.
	c.SysProcAttr.Pdeathsig = syscall.SIGKILL
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	c.Stdin, c.Stdout, c.Stderr = p.Stdin, w, w
	poured := func() error { return nil }
	if p.Stdout != nil {
		var out *os.File
		if out, poured, err = pour(p.Stdout); err != nil {
			return err
		}
		c.Stdout = out
	}
	started := make(chan error, 1)
	exited := make(chan error, 1)
	go func() {
		// Pdeathsig is sent when the starting thread ends: keep it to the end.
		runtime.LockOSThread()
		err := c.Start()
		started <- err
		if err == nil {
			exited <- c.Wait()
		}
	}()
	err = <-started
	w.Close()
	defer r.Close()
	if err != nil {
		return errors.Join(fmt.Errorf("%s on %s: %w", program, d.Name, err), poured())
	}
	given := make(chan error, 1)
	go func() { given <- poured() }()
	last := readLines(r, see)
	if err := cmp.Or(<-exited, <-given); err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("%s on %s was ended: %w", program, d.Name, ctx.Err())
		}
		return fmt.Errorf("%s on %s: %w: %s", program, d.Name, err, strings.Join(last, " | "))
	}
	return nil
}

// readLines hands every line to see and gives the last few.
func readLines(r io.Reader, see func(string)) []string {
	var last []string
	sc := bufio.NewScanner(r)
	sc.Buffer(make([]byte, 64<<10), 1<<20)
	sc.Split(splitLines)
	for sc.Scan() {
		line := strings.TrimSpace(sc.Text())
		if line == "" {
			continue
		}
		see(line)
		if last = append(last, line); len(last) > 4 {
			last = last[1:]
		}
	}
	io.Copy(io.Discard, r)
	return last
}

func splitLines(data []byte, atEOF bool) (int, []byte, error) {
	if i := bytes.IndexAny(data, "\r\n"); i >= 0 {
		return i + 1, data[:i], nil
	}
	if atEOF && len(data) > 0 {
		return len(data), data, nil
	}
	return 0, nil, nil
}

// LastLines returns the last n lines of a text in one.
func LastLines(s string, n int) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	if len(lines) > n {
		lines = lines[len(lines)-n:]
	}
	return strings.Join(lines, " | ")
}

// ProcessIdentity tells a process from any other that had or will have its
// number: when it began, and since which start of the host that is counted.
func ProcessIdentity(pid int) string {
	b, err := patient(func() ([]byte, error) { return os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)) })
	if err != nil {
		return ""
	}
	boot, err := bootID()
	// The field of the start time is the 20th after the command's name.
	fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
	if err != nil || len(fields) < 20 {
		return ""
	}
	return fmt.Sprintf("%d %s %s", pid, fields[19], boot)
}

// bootID tells this start of the host from others.
var bootID = sync.OnceValues(func() (string, error) {
	b, err := patient(func() ([]byte, error) { return os.ReadFile("/proc/sys/kernel/random/boot_id") })
	return strings.TrimSpace(string(b)), err
})

// ErrDoomed says that what is left of a server was killed, and waits in the kernel for its
// disk: it acknowledges nothing any more, and its files are not to be touched.
var ErrDoomed = errors.New("its processes were killed and wait for their disk")

// doomedFrom is after how many tries those that are left may be waiting for their disk.
const doomedFrom = 200

// tellLimit bounds for how long somebody is told that a server was ended on purpose, of which
// processes are left.
const tellLimit = 3 * time.Second

// killTries bounds how often a server's processes are killed, every 10 ms.
const killTries = 500

// KillAll kills all processes of the server until none is left. Then closed is called, and
// tell, which has whatever else watches over the server know that this was meant; what that
// had started meanwhile is killed as well (invariant: a server is fenced when nobody is
// left, after the last who could start it was told).
//
// Processes that wait in the kernel for a disk that hangs end when it comes back. They are
// not waited for: then it is ErrDoomed.
func (d *Data) KillAll(ctx context.Context, closed func() error, tell func(context.Context) error) error {
	told := false
	for try := range killTries {
		left := d.Processes()
		switch {
		case len(left) > 0 && try > doomedFrom && allDoomed(left):
			if err := closed(); err != nil {
				return err
			}
			// Who is told may wait for them, and knows all the same.
			ctx, cancel := context.WithTimeout(ctx, tellLimit)
			defer cancel()
			tell(ctx)
			return fmt.Errorf("%s: %w", d.Name, ErrDoomed)
		case len(left) == 0 && told:
			return nil
		case len(left) == 0:
			told = true
			if err := errors.Join(closed(), tell(ctx)); err != nil {
				return err
			}
			continue
		}
		for _, pid := range left {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("%s could not be fenced: processes %v do not end", d.Name, d.Processes())
}

// KillNow kills all processes of the server, waits for nothing that could hang, and says
// which are left after the limit that could acknowledge something. Whoever else could start
// it again is not told.
func (d *Data) KillNow(limit time.Duration) (left []int) {
	for end := time.Now().Add(limit); ; time.Sleep(2 * time.Millisecond) {
		if left = d.Processes(); len(left) == 0 {
			return left
		}
		if time.Now().After(end) {
			if allDoomed(left) {
				return nil
			}
			return left
		}
		for _, pid := range left {
			syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

// logSince returns the last telling lines of a server's log from an offset on;
// words are what makes a line telling.
func (d *Data) logSince(file string, offset int64, words ...string) string {
	f, err := d.OpenLog(file, os.O_RDONLY)
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	f.Seek(offset, io.SeekStart)
	b, _ := io.ReadAll(io.LimitReader(f, 64<<10))
	return Telling(string(b), words...)
}

// Telling returns the last telling lines of a text, or its last lines when none is;
// words are what makes a line telling.
func Telling(text string, words ...string) string {
	var telling []string
	for _, line := range strings.Split(text, "\n") {
		if slices.ContainsFunc(words, func(w string) bool { return strings.Contains(line, w) }) {
			telling = append(telling, strings.TrimSpace(line))
		}
	}
	if len(telling) == 0 {
		return LastLines(text, 3)
	}
	return LastLines(strings.Join(telling, "\n"), 4)
}
