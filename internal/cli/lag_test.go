package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/history"

	"github.com/spf13/viper"
)

func TestBackTo(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{"90s": now.Add(-90 * time.Second), "6h": now.Add(-6 * time.Hour),
		"3d": now.Add(-72 * time.Hour), "0s": now, "1.5d": now.Add(-36 * time.Hour),
		"2026-11-22T03:00:00Z": time.Date(2026, 11, 22, 3, 0, 0, 0, time.UTC)} {
		if got, err := backTo(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%s: %s %v", text, got, err)
		}
	}
	for _, text := range []string{"", "soon", "-5m", "5", "2026-11-22"} {
		if _, err := backTo(text, now); exitCode(err) != exitUsage {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestBytesOf(t *testing.T) {
	for text, want := range map[string]int64{"500MB": 500 << 20, "2GB": 2 << 30, "1.5kB": 1536, "10B": 10} {
		if got, err := bytesOf(text); err != nil || got != want {
			t.Errorf("%s: %d %v", text, got, err)
		}
	}
	for _, text := range []string{"", "2", "GB", "-1MB", "much"} {
		if n, err := bytesOf(text); err == nil {
			t.Errorf("%q is %d bytes", text, n)
		}
	}
}

// The chart says the peak in its place, the table what it comes to, and a time
// of which nothing is known is not drawn as zero.
func TestPrintHistory(t *testing.T) {
	from := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	r := history.Report{Cluster: "bookings", From: from, To: from.Add(96 * 10 * time.Second), StepSeconds: 10,
		Marks: []history.Mark{{At: from, Kind: "operation", ID: 3, Text: "seed of tern, finished"}}}
	var samples []history.Sample
	for i := range 90 {
		if i >= 30 && i < 50 {
			continue // the service was away
		}
		v := 0.0
		if i == 60 {
			v = 8
		}
		x := history.Sample{At: from.Unix() + int64(10*i)}
		x.Values.Set(history.Lag, v)
		samples = append(samples, x)
	}
	r.Fill([]string{"gull", "tern"}, map[string][]history.Sample{"tern": samples})
	var out bytes.Buffer
	a := &app{out: &out}
	a.v = viper.New()
	a.printHistory(&out, &r, history.Lag)
	text := out.String()
	lines := strings.Split(text, "\n")
	var top, bottom string
	for i, l := range lines {
		if strings.Contains(l, "8.0 s ┤") {
			top = l
		}
		if strings.Contains(l, "└") {
			bottom = l
			_ = i
		}
	}
	column := strings.IndexRune(top, '█')
	if column < 0 || len([]rune(top[:column])) != 14+60 {
		t.Errorf("the peak stands in column %d of\n%s", len([]rune(top[:max(0, column)])), text)
	}
	runes := []rune(bottom)
	if runes[14+10] != '─' || runes[14+40] != '┄' || runes[14+60] != '─' || runes[14+95] != '┄' {
		t.Errorf("what is known is not told from what is not:\n%s", bottom)
	}
	if !strings.Contains(text, "seed of tern, finished") || strings.Contains(text, "gull ") ||
		!strings.Contains(text, "8.0 s") {
		t.Error(text)
	}
}
