package deadman

import (
	"fmt"
	"log/slog"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// LockMemory keeps this process in memory: what stops a database on a host that swaps may
// not wait for a disk itself. Where that is not allowed it goes on without.
func LockMemory(owner uint32, log *slog.Logger) {
	var limit unix.Rlimit
	err := unix.Getrlimit(unix.RLIMIT_MEMLOCK, &limit)
	if err == nil && owner != 0 && limit.Cur != unix.RLIM_INFINITY {
		err = fmt.Errorf("its limit is %d bytes (LimitMEMLOCK)", limit.Cur)
	}
	if err == nil {
		err = unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT)
	}
	if err != nil {
		log.Warn("the deadman is not locked in memory: on a host that swaps it may act late", "error", err)
	}
}

// Owner is the user and group of a directory.
func Owner(dir string) (uid, gid uint32, err error) {
	i, err := os.Stat(dir)
	if err != nil {
		return 0, 0, err
	}
	s := i.Sys().(*syscall.Stat_t)
	return s.Uid, s.Gid, nil
}

// Become gives up root for the owner of the agent's directory, for good: what stands
// there is the agent's, and nothing of it is followed with more rights than the agent has.
func Become(uid, gid uint32) error {
	if os.Geteuid() != 0 || uid == 0 {
		return nil
	}
	if err := syscall.Setgroups(nil); err != nil {
		return fmt.Errorf("give up root: %w", err)
	}
	if err := syscall.Setgid(int(gid)); err != nil {
		return fmt.Errorf("give up root: %w", err)
	}
	if err := syscall.Setuid(int(uid)); err != nil {
		return fmt.Errorf("give up root: %w", err)
	}
	return nil
}
