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

// NextLook is how long nothing has to be looked at: until the last permission ends, or
// until a living agent had time to speak.
func (d Deadman) NextLook(now Time) Time { return max(d.Ends.Last(), d.Started+startGrace) - now }
