package bench

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/client"
	"crosstwin/internal/core/view"
	"crosstwin/internal/simulate"
	"crosstwin/test/browser"
	"crosstwin/test/harness"
)

// at returns the value below which a share of all values lies.
func at(values []float64, share float64) float64 {
	slices.Sort(values)
	return values[min(len(values)-1, int(share*float64(len(values))))]
}

const fleetSeconds = 20

// BenchmarkFleet watches simulated fleets of 10, 100 and 1,000 servers.
func BenchmarkFleet(b *testing.B) {
	for _, n := range []int{10, 100, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			fleet(b, simulate.Options{Servers: n, Clusters: max(1, n*3/10)}, "")
		})
	}
}

// BenchmarkFleetFencing watches 1,000 simulated servers in clusters of four, with fencing on.
func BenchmarkFleetFencing(b *testing.B) {
	fleet(b, simulate.Options{Servers: 1000, Clusters: 250, Fencing: true}, "fencing-")
}

func fleet(b *testing.B, opt simulate.Options, kind string) {
	c, token, p := harness.Service(b, binary, "--log-level", "error")
	f, err := simulate.Start(b.Context(), c, opt)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Stop()
	awaitSeen(b, c, opt)
	time.Sleep(3 * time.Second) // the work of enrolling is over
	// A console is open meanwhile.
	events, cancel := context.WithCancel(b.Context())
	defer cancel()
	go c.Events(events, nil, 0, func(client.Event) error { return nil })
	before, asked := cpuSeconds(b, p.Pid), f.Asked()
	var ages, all, one, page []float64
	timed := func(into *[]float64, path string) {
		began := time.Now()
		if err := fetch(c.Base()+path, token); err != nil {
			b.Fatal(err)
		}
		*into = append(*into, time.Since(began).Seconds()*1000)
	}
	for end := time.Now().Add(fleetSeconds * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		timed(&all, "/api/v1/clusters")
		timed(&one, "/api/v1/clusters/sim-001")
		timed(&page, "/")
		views, err := c.Clusters(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		for _, v := range views {
			for _, s := range v.Servers {
				ages = append(ages, s.LastContactSeconds)
			}
		}
	}
	cpu := 100 * (cpuSeconds(b, p.Pid) - before) / fleetSeconds
	fmt.Printf("\n%d simulated servers in %d clusters, each looked at %.2f times a second\n", opt.Servers, opt.Clusters,
		float64(f.Asked()-asked)/fleetSeconds/float64(opt.Servers))
	name := fmt.Sprintf("fleet-%s%d-", kind, opt.Servers)
	limit := 50.0
	if opt.Fencing {
		limit = 100
	}
	report(name+"cpu", cpu, "percent", limit)
	report(name+"memory", residentMiB(b, p.Pid), "MiB", 256)
	report(name+"observation-age-p99", at(ages, 0.99), "s", 2)
	report(name+"answer-clusters-p99", at(all, 0.99), "ms", 100)
	report(name+"answer-cluster-p99", at(one, 0.99), "ms", 100)
	report(name+"page-p99", at(page, 0.99), "ms", 100)
}

// awaitSeen waits until all servers are seen, and all clusters have permissions where they are
// to have them.
func awaitSeen(b *testing.B, c *client.Client, opt simulate.Options) {
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		views, err := c.Clusters(b.Context())
		seen, fenced := 0, 0
		for _, v := range views {
			if v.Permission != nil && v.Permission.Seconds > 0 {
				fenced++
			}
			for _, s := range v.Servers {
				if s.Health != view.Unseen {
					seen++
				}
			}
		}
		if err == nil && seen == opt.Servers && (!opt.Fencing || fenced == opt.Clusters) {
			return
		}
		if time.Now().After(end) {
			b.Fatalf("%d of %d servers seen, %d of %d clusters with a permission: %v", seen, opt.Servers, fenced, opt.Clusters,
				err)
		}
	}
}

func fetch(address, token string) error {
	req, err := http.NewRequest("GET", address, nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(io.Discard, res.Body)
	return err
}

// frames counts, over ten seconds, the time between drawn frames.
const frames = `new Promise((done) => { const gaps = []; let last = performance.now(); const end = last + 10000;
  const step = (t) => { gaps.push(t - last); last = t; t < end ? requestAnimationFrame(step) : done(gaps); };
    requestAnimationFrame(step); })`

// paint returns when the first cluster's sentence stood on the page, in ms after
// the navigation began: watched from the page itself.
const paint = `new Promise((done) => {
  const look = () => document.querySelector(".fl-r p, .bulletin p")
    ? done(performance.now()) : setTimeout(look, 5); look(); })`

// BenchmarkConsole opens the fleet of 200 clusters in a browser, all of them
// changing each second.
func BenchmarkConsole(b *testing.B) {
	c, _, _ := harness.Service(b, binary, "--log-level", "error")
	opt := simulate.Options{Servers: 600, Clusters: 200}
	f, err := simulate.Start(b.Context(), c, opt)
	if err != nil {
		b.Fatal(err)
	}
	defer f.Stop()
	awaitSeen(b, c, opt)
	p, stop, err := browser.Open(b.Context(), c.Base(), 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer stop()
	link, err := c.SessionLink(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	if err := p.Go(strings.TrimPrefix(link, c.Base()), "of 200 clusters"); err != nil {
		b.Fatal(err)
	}
	var paints []float64
	for range runs {
		if err := p.Go("/"); err != nil {
			b.Fatal(err)
		}
		var ms float64
		if err := p.Promise(paint, &ms); err != nil {
			b.Fatal(err)
		}
		paints = append(paints, ms)
	}
	var gaps []float64
	if err := p.Promise(frames, &gaps); err != nil {
		b.Fatal(err)
	}
	fmt.Printf("\nfleet of 200 clusters, 600 servers, in Chromium: %d frames in 10 s\n", len(gaps))
	report("console-first-paint", at(paints, 0.5), "ms", 1000)
	report("console-frame-gap-p99", at(gaps, 0.99), "ms", 50)
	report("console-frame-gap-worst", at(gaps, 1), "ms", 200)
	report("console-script", scriptKiB(b), "kB gzip", 350)
}

// scriptKiB sums the console's scripts as they go over the wire.
func scriptKiB(b *testing.B) float64 {
	files, err := filepath.Glob("../../web/dist/assets/*.js")
	if err != nil || len(files) == 0 {
		b.Fatal("the console is not built", err)
	}
	n := 0
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			b.Fatal(err)
		}
		n += gzipped(text)
	}
	return float64(n) / 1024
}

func gzipped(text []byte) int {
	var buf bytes.Buffer
	w := gzip.NewWriter(&buf)
	w.Write(text)
	w.Close()
	return buf.Len()
}
