package view

import (
	"fmt"
	"time"

	"crosstwin/internal/core/position"
)

// Amount says how much log lies between two positions.
func Amount(d position.Distance) string {
	if d.Unit == position.Transactions {
		return count(int(d.Amount), "transaction")
	}
	return Size(d.Amount) + " of log"
}

func ifNot(sep, s string) string {
	if s == "" {
		return ""
	}
	return sep + s
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
