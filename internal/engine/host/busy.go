package host

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Busy measures how much of one core a process uses, between two looks at it.
// The zero Busy is ready.
type Busy struct {
	mu   sync.Mutex
	pid  int
	used float64
	at   time.Time
}

// clockTicks is the unit of processor times in /proc: 100 a second on every
// Linux that this runs on (USER_HZ, proc(5)).
const clockTicks = 100

// Share returns the share of one core, 0 to 1, that a process used since the
// last call; 0 at the first look at it.
func (b *Busy) Share(pid int, now time.Time) float64 {
	used, ok := processorTime(pid)
	b.mu.Lock()
	defer b.mu.Unlock()
	share := 0.0
	if gone := now.Sub(b.at).Seconds(); ok && b.pid == pid && gone > 0 {
		share = min(1, max(0, used-b.used)/gone)
	}
	b.pid, b.used, b.at = pid, used, now
	return share
}

// processorTime returns the seconds of processor time that a process has used.
func processorTime(pid int) (float64, bool) {
	text, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	if err != nil {
		return 0, false
	}
	// The name in parentheses may hold spaces; utime and stime are fields 14 and 15.
	_, rest, _ := strings.Cut(string(text), ") ")
	f := strings.Fields(rest)
	if len(f) < 13 {
		return 0, false
	}
	user, err1 := strconv.ParseFloat(f[11], 64)
	system, err2 := strconv.ParseFloat(f[12], 64)
	return (user + system) / clockTicks, err1 == nil && err2 == nil
}
