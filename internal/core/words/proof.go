package words

import "crosstwin/internal/core/observation"

// Taken says how a server takes connections, Insisted what a replica asks of its
// upstream; empty where that is not known.
func Taken(p observation.Proof) string {
	return map[observation.Proof]string{observation.ProofAuthority: "encrypted, by a certificate of the service",
		observation.ProofOther: "encrypted, by a certificate of its own", observation.ProofNone: "not encrypted"}[p]
}

// Insisted says what a replica has its upstream prove.
func Insisted(p observation.Proof) string {
	return map[observation.Proof]string{observation.ProofAuthority: "encrypted and proven",
		observation.ProofOther: "encrypted", observation.ProofNone: "encryption not insisted on"}[p]
}
