// Package words makes sentences: sizes, spans of time, lists, and every cause
// in words. It is the last thing that happens to a judgement; no decision reads
// what it makes.
package words

import (
	"fmt"
	"strings"
	"time"

	"crosstwin/internal/core/position"
)

// Amount says how much log lies between two positions.
func Amount(d position.Distance) string {
	if d.Unit == position.Transactions {
		return Count(d.Amount, "transaction")
	}
	return Size(d.Amount) + " of log"
}

// Count says how many things there are: "1 replica", "3 replicas".
func Count(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// List joins names: "gull, tern and heron".
func List(names []string) string {
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return strings.Join(names, "")
}

// Said puts a health behind a number of subjects: "is behind", "take no writes".
// A health is never put behind a verb by hand.
func Said(health string, n int) string {
	if takes, ok := strings.CutPrefix(health, "takes "); ok {
		if n == 1 {
			return health
		}
		return "take " + takes
	}
	if n == 1 {
		return "is " + health
	}
	return "are " + health
}

// Short prints a time of a few milliseconds or less.
func Short(seconds float64) string {
	if ms := seconds * 1000; ms < 10 {
		return fmt.Sprintf("%.1f ms", ms)
	}
	return Span(seconds)
}

// Span prints seconds the way a person says them.
func Span(seconds float64) string {
	// Rounded to what is shown, so that no "60.0 s" and no "4 min 59.9 s" come out.
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case seconds >= 3600:
		d = d.Round(time.Minute)
	case seconds >= 59.95:
		d = d.Round(time.Second)
	}
	switch {
	case seconds < 0:
		return "never"
	case seconds == 0:
		return "0 s"
	case seconds < 1:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", seconds)
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 24*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%.1f days", seconds/86400)
}

// Size prints bytes in the unit of the engine's documentation (kB = 1024 bytes).
func Size(bytes int64) string {
	f, units := float64(bytes), []string{"B", "kB", "MB", "GB", "TB"}
	i := 0
	for f >= 1024 && i < len(units)-1 {
		f /= 1024
		i++
	}
	if i == 0 {
		return fmt.Sprintf("%d B", bytes)
	}
	return fmt.Sprintf("%.1f %s", f, units[i])
}

// behind puts a text behind a separator, where there is one.
func behind(sep, s string) string {
	if s == "" {
		return ""
	}
	return sep + s
}
