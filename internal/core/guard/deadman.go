package guard

// Deadman is the machine of the process that stops the database when its permission
// has run out, whether or not the agent lives (rule 8). It holds nothing until a
// living agent speaks; a database that may write while it holds nothing is stopped.
type Deadman struct {
	Ends    Ends
	Started Time // no database is stopped before a living agent had time to speak
	Omit    Rule
}

// Step takes one event.
func (d Deadman) Step(e Event, now Time) (Deadman, []Effect) {
	if h, ok := e.(Hold); ok {
		d.Ends = h.Ends
		return d, []Effect{Send{Message: Held(h)}}
	}
	if !d.Ends.Runs(now) && now >= d.Started+startGrace && d.Omit&DeadmanStops == 0 {
		return d, []Effect{Kill{}}
	}
	return d, nil
}

// Feeds reports whether a watchdog is fed that resets the host when it was not for its
// timeout. It is not while a database may take writes whose permission ends so soon that a
// reset after its end would come late: by then another server may take over (rule 8: what is
// not proven to have stopped a second after the end is reset). In order a permission is
// renewed long before.
func (d Deadman) Feeds(mayBeOpen func() bool, timeout, now Time) bool {
	return now < d.Started+startGrace || d.Ends.Last()-now >= min(timeout, GrantLasts/2)-Fencing || !mayBeOpen()
}

// NextLook is how long nothing has to be looked at: until the last permission ends, or
// until a living agent had time to speak.
func (d Deadman) NextLook(now Time) Time { return max(d.Ends.Last(), d.Started+startGrace) - now }
