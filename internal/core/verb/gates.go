package verb

// Gates hold applications for the length of a role change, so that it fails none of their
// transactions. These calls are the service's, which makes them at all gates of the cluster that
// answer, side by side. A gate that does not answer holds nobody up: its clients feel the change
// as those do that connect directly.

// RestGates has gates ask what there is of each session, ahead of the pause.
type RestGates struct {
	Gates []string `json:"gates"`
}

// HoldGates has gates begin nothing new, wait for what is under way up to a limit, cut what is not
// done by then, and leave the server.
type HoldGates struct {
	Gates []string `json:"gates"`
	Limit float64  `json:"limit_seconds"`
}

// ReleaseGates has gates lead all sessions to the owner of the newest decided term.
type ReleaseGates struct {
	Gates []string `json:"gates"`
	// Waited: it is awaited that all sessions are there.
	Waited bool `json:"waited,omitempty"`
}

// GateFigures is what came of it, of all gates together.
type GateFigures struct {
	Sessions int `json:"sessions"`
	// Portable of them can be carried; Others says why the rest cannot, and of how many that is so.
	Portable int            `json:"portable"`
	Others   map[string]int `json:"others,omitempty"`
	Carried  int            `json:"carried,omitempty"` // are on the server by now
	Cut      int            `json:"cut,omitempty"`     // transactions that were told to try again
	Closed   int            `json:"closed,omitempty"`  // sessions that could not be carried
	// Seconds is how long the slowest gate took.
	Seconds float64 `json:"seconds"`
}

// Found counts a session that is portable, or why it is not.
func (f *GateFigures) Found(why string) {
	if why == "" {
		f.Portable++
		return
	}
	if f.Others == nil {
		f.Others = map[string]int{}
	}
	f.Others[why]++
}

// Add takes in another gate's.
func (f *GateFigures) Add(g GateFigures) {
	f.Sessions, f.Portable, f.Carried = f.Sessions+g.Sessions, f.Portable+g.Portable, f.Carried+g.Carried
	f.Cut, f.Closed, f.Seconds = f.Cut+g.Cut, f.Closed+g.Closed, max(f.Seconds, g.Seconds)
	for why, n := range g.Others {
		if f.Others == nil {
			f.Others = map[string]int{}
		}
		f.Others[why] += n
	}
}

// Verb implements Call.
func (RestGates) Verb() Name { return "rest-gates" }

// Verb implements Call.
func (HoldGates) Verb() Name { return "hold-gates" }

// Verb implements Call.
func (ReleaseGates) Verb() Name { return "release-gates" }

// Yields implements Asks.
func (RestGates) Yields() (r GateFigures) { return r }

// Yields implements Asks.
func (HoldGates) Yields() (r GateFigures) { return r }

// Yields implements Asks.
func (ReleaseGates) Yields() (r GateFigures) { return r }
