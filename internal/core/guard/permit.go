package guard

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"time"
)

// Permit lets one server's agent ask the agents of its cluster for the replication
// account, for histories and for copies, for a short time. The service gives it with
// each call to that agent, and signs it (invariant: an agent gives nothing to another
// one that does not act for the service right now).
type Permit struct {
	Cluster string    `json:"cluster"`
	Holder  string    `json:"holder"` // server whose agent may ask
	Until   time.Time `json:"until"`
}

// PermitLife is for how long a permit is good: a call asks its peers when it begins.
const PermitLife = 15 * time.Minute

// Statement is what is signed.
func (p Permit) Statement() []byte {
	return fmt.Appendf(nil, "Cross Twin permit\x00%s\x00%s\x00%d", p.Cluster, p.Holder, p.Until.Unix())
}

type permitText struct {
	Permit
	Signature []byte `json:"signature"`
}

// Text is a permit with its signature, fit for a header.
func (p Permit) Text(signature []byte) string {
	b, err := json.Marshal(permitText{p, signature})
	if err != nil {
		return ""
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

// ReadPermit reads such a text.
func ReadPermit(text string) (p Permit, signature []byte, err error) {
	const most = 4096
	if text == "" || len(text) > most {
		return p, nil, fmt.Errorf("no permit of the service is shown")
	}
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil {
		return p, nil, fmt.Errorf("the permit cannot be read: %w", err)
	}
	var x permitText
	if err := json.Unmarshal(b, &x); err != nil {
		return p, nil, fmt.Errorf("the permit cannot be read: %w", err)
	}
	return x.Permit, x.Signature, nil
}

// Allows says why a permit does not let a server of a cluster ask at a time; nil if it
// does. That it is signed is for the caller to see.
func (p Permit) Allows(cluster, holder string, now time.Time) error {
	switch {
	case p.Cluster != cluster || p.Holder != holder:
		return fmt.Errorf("the permit is for %s of %s, not for %s of %s", p.Holder, p.Cluster, holder, cluster)
	case now.After(p.Until):
		return fmt.Errorf("the permit ended at %s, and it is %s here", p.Until.UTC().Format(time.RFC3339),
			now.UTC().Format(time.RFC3339))
	case p.Until.Sub(now) > 2*PermitLife:
		return fmt.Errorf("the permit lasts until %s, longer than any does, and it is %s here",
			p.Until.UTC().Format(time.RFC3339), now.UTC().Format(time.RFC3339))
	}
	return nil
}
