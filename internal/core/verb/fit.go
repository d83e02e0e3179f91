package verb

import "crosstwin/internal/core/observation"

// Fit asks whether a copy of another server would have its place here, and could be
// started. It changes nothing: before a copy removes anything, everything that it
// needs was tried.
type Fit struct {
	// Itself asks only whether the server, as it is, could be started.
	Itself bool `json:"itself,omitempty"`
	// Spaces are the source's tablespaces.
	Spaces []observation.Space `json:"spaces,omitempty"`
	// Others are the identities of the directories that other servers of the cluster
	// keep tablespaces in: on one host they could be the same.
	Others []string `json:"others,omitempty"`
	// Limits are settings of the source which the copy's own may not be below, by name.
	Limits map[string]string `json:"limits,omitempty"`
	// Apart: the source's configuration is outside of its data directory: a copy brings
	// none.
	Apart bool `json:"apart,omitempty"`
}

// Fitted is what came of a Fit.
type Fitted struct {
	// Misfits are reasons why the copy cannot be made, or not be started.
	Misfits []Misfit `json:"misfits,omitempty"`
	// Places are directories beside the data directory that the copy fills, Clears
	// those that are emptied first.
	Places []Place  `json:"places,omitempty"`
	Clears []string `json:"clears,omitempty"`
}

// Misfit is one reason against a copy, and what ends it.
type Misfit struct {
	What string `json:"what"`
	Mend string `json:"mend"`
	// Why it matters; empty: the server would not start, or not as it is.
	Why string `json:"why,omitempty"`
}

// Place is a directory of the source and where it goes here.
type Place struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Verb implements Call.
func (Fit) Verb() Name { return "fit" }

// Yields implements Asks.
func (Fit) Yields() Fitted { return Fitted{} }
