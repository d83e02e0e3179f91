// Package clock reads the clock by which permissions to write are measured.
package clock

import (
	"time"

	"golang.org/x/sys/unix"

	"crosstwin/internal/core/guard"
)

// Now is the time since the host was started, the time that it was suspended for
// included (CLOCK_BOOTTIME): nobody can set it, and all processes of a host read the
// same.
func Now() guard.Time {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil {
		panic(err) // Linux has it since 2.6.39
	}
	return time.Duration(t.Nano())
}
