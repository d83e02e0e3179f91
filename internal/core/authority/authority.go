// Package authority is the exchange of the service's certificate authority as facts: how
// far it is, and what it waits for on each server.
package authority

import (
	"slices"
	"time"

	"crosstwin/internal/core/observation"
)

// Stage is how far the exchange of an authority has come.
type Stage string

// The stages of an exchange; the empty Stage is that none is under way.
const (
	Introducing Stage = "introducing" // the new one is made and told to everybody, and signs nothing
	Renewing    Stage = "renewing"    // the new one signs; what the old one signed is replaced
)

// State is the authority, and how far its exchange has come.
type State struct {
	// Fingerprint is that of the authority that signs, good from Made to Ends.
	Fingerprint string    `json:"fingerprint"`
	Made        time.Time `json:"made"`
	Ends        time.Time `json:"ends"`
	// Certificates are all that are trusted, as a file; the one that signs first.
	Certificates string `json:"certificates"`
	// Stage is empty when no exchange is under way.
	Stage Stage `json:"stage,omitempty"`
	// Servers are all that have an agent.
	Servers []Server `json:"servers"`
}

// Server is what an exchange waits for on one server: nothing, where both fields are empty.
type Server struct {
	Cluster string `json:"cluster"`
	Server  string `json:"server"`
	Lacks   Lack   `json:"lacks,omitempty"`
	// Unreachable is what was seen instead of its agent: what it lacks is not known.
	Unreachable string `json:"unreachable,omitempty"`
}

// Lack is what a server lacks for the next step of an exchange.
type Lack string

// What may be lacking; the empty Lack is nothing.
const (
	LacksTrust       Lack = "trust"                // it does not trust the authorities that it has to
	LacksCertificate Lack = "certificate"          // its agent's is of the former authority
	LacksDatabase    Lack = "database certificate" // its database's is
)

// LackOf tells what a server lacks. Trusted are the fingerprints of all authorities that
// count, the one that signs first.
func LackOf(o *observation.Server, stage Stage, trusted []string) Lack {
	switch {
	case len(o.Trusts) == 0 && stage == "":
		return "" // an agent of an older version: it trusts whom it enrolled with
	case !slices.Equal(o.Trusts, trusted):
		return LacksTrust
	case stage != Renewing:
		return ""
	case o.CertificateBy != trusted[0]:
		return LacksCertificate
	case o.Encryption != nil && !o.Encryption.CertificateEnds.IsZero() && o.Encryption.CertificateBy != trusted[0]:
		return LacksDatabase
	}
	return ""
}

// Complete reports whether the next step may be taken: every server was seen, and lacks
// nothing.
func (s State) Complete() bool {
	return !slices.ContainsFunc(s.Servers, func(x Server) bool { return x.Lacks != "" || x.Unreachable != "" })
}
