package agent

import (
	"net"
	"net/http"
	"sync"
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/pki"
)

// refusals remembers who asked for what they may not: for the log, once in a while, and
// for the service, which raises an alert.
type refusals struct {
	written access.Refusals
	mu      sync.Mutex
	last    []observation.Refused // oldest first, one a certificate
}

// mostRefused bounds how many are told.
const mostRefused = 5

// note keeps a refusal, and reports whether it is to be logged.
func (f *refusals) note(name string, r *http.Request, now time.Time) bool {
	from, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		from = r.RemoteAddr
	}
	f.mu.Lock()
	f.keep(now, name)
	x := observation.Refused{Name: name, From: from, Asks: r.URL.Path, At: now.UTC()}
	x.Cluster, x.Server, _ = pki.AgentOf(name)
	f.last = append(f.last, x)
	f.last = f.last[max(0, len(f.last)-mostRefused):]
	f.mu.Unlock()
	return f.written.Write(name, r.Pattern, now)
}

// keep drops what is old, and what is known of one certificate.
func (f *refusals) keep(now time.Time, but string) {
	var kept []observation.Refused
	for _, x := range f.last {
		if x.Name != but && now.Sub(x.At) < access.RefusalTold {
			kept = append(kept, x)
		}
	}
	f.last = kept
}

// recent gives the refusals of the last minutes.
func (f *refusals) recent(now time.Time) []observation.Refused {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.keep(now, "")
	return append([]observation.Refused(nil), f.last...)
}
