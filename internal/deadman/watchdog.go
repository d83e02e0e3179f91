package deadman

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Watchdog is the kernel's: it resets the host when it has not been fed for its timeout,
// whatever the reason (Linux, Documentation/watchdog/watchdog-api). Nil is none. A path that
// is no such device is written to all the same, so that it can be tried what would be fed.
type Watchdog struct {
	file    *os.File
	timeout time.Duration
	log     *slog.Logger
	failed  bool // as the log was told
}

// resetAfter is what the watchdog is set to, in seconds; feedEvery how often it is fed.
const (
	resetAfter = 3
	feedEvery  = 500 * time.Millisecond
)

// OpenWatchdog opens and starts a watchdog.
func OpenWatchdog(path string, log *slog.Logger) (*Watchdog, error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return nil, fmt.Errorf("the kernel's watchdog: %w", err)
	}
	w := &Watchdog{file: f, timeout: resetAfter * time.Second, log: log}
	fd := int(f.Fd())
	err = unix.IoctlSetPointerInt(fd, unix.WDIOC_SETTIMEOUT, resetAfter)
	if errors.Is(err, unix.ENOTTY) {
		log.Warn("this is no watchdog: it is written to, and resets nothing", "watchdog", path)
		return w, nil
	}
	if seconds, err := unix.IoctlGetInt(fd, unix.WDIOC_GETTIMEOUT); err == nil && seconds > 0 {
		w.timeout = time.Duration(seconds) * time.Second
	}
	if err != nil || w.timeout != resetAfter*time.Second {
		log.Warn("the watchdog cannot be set as wanted: a reset may come later than another server takes over",
			"watchdog", path, "wanted", resetAfter*time.Second, "is", w.timeout, "error", err)
	}
	log.Info("the kernel's watchdog is fed while the permission is in order", "watchdog", path, "timeout", w.timeout)
	return w, nil
}

// feed keeps the host from being reset for the next timeout.
func (w *Watchdog) feed() {
	_, err := w.file.Write([]byte{0})
	if err != nil && !w.failed {
		w.log.Error("the watchdog cannot be fed", "error", err)
	}
	w.failed = err != nil
}

// disarm stops it: the letter says that the end is meant.
func (w *Watchdog) disarm() {
	if w == nil {
		return
	}
	_, err := w.file.Write([]byte("V"))
	if err = errors.Join(err, w.file.Close()); err != nil {
		w.log.Error("the watchdog could not be stopped: the host may be reset", "error", err)
	}
}

// ticks gives the moments at which it is fed; none without one.
func (w *Watchdog) ticks(ctx context.Context) <-chan time.Time {
	if w == nil {
		return nil
	}
	t := time.NewTicker(feedEvery)
	context.AfterFunc(ctx, t.Stop)
	return t.C
}
