package synchronous

// State is how a cluster stands, as far as it matters for what is to be done next.
type State struct {
	// Want is what commits are to wait for.
	Want List
	// Promised are the lists that every acknowledged write rests on one of, as recorded. None:
	// nothing is promised.
	Promised []List
	// Set is what the primary's agent was told, Live whether the server has it so and was
	// proven to obey it.
	Set  List
	Live bool
	// ByHand: the server has another value than its agent was told.
	ByHand bool
	// Held: Need of Want's servers hold all that was written when Want was proven to be in
	// force, and all that was acknowledged without a replica since.
	Held bool
	// Noted: a majority of the agents knows of the newest change of Promised.
	Noted bool
	// Ready: Need of Want's servers follow closely, so that commits would not wait long for them.
	Ready bool
	// Breach: a write was acknowledged without a replica, and Held is not true again yet.
	Breach bool
}

// Act is what is to be done next.
type Act string

// The acts. One at a time: what it has come to is seen before the next.
const (
	Nothing Act = "nothing"
	Wait    Act = "wait"    // until Held, or until a person puts right what was set by hand
	Promise Act = "promise" // record the lists
	Apply   Act = "apply"   // have the primary wait for Want
)

// Next returns what is to be done next, and the lists to record.
//
// Invariant: every write that is acknowledged while lists are recorded rests on one of them.
// So a list is added before the server has it, and the others are taken away once the server
// is proven to have the new one and enough of its servers hold all of before (rule 4). Where
// nothing was promised, nothing is until then. And the server has a further list only once most
// agents know that it was added: a service whose records are older then learns that they are.
func Next(s State) (Act, []List) {
	switch {
	case (s.Want.IsZero() || s.Breach || s.ByHand) && len(s.Promised) > 0:
		return Promise, nil
	case s.ByHand:
		return Wait, nil // who sets it by hand may have to let writes go on
	case len(s.Promised) > 0 && len(With(s.Promised, s.Want)) > len(s.Promised):
		return Promise, With(s.Promised, s.Want)
	case len(s.Promised) > 0 && !s.Noted && !s.Set.Equal(s.Want):
		return Wait, nil
	case s.Set.IsZero() && !s.Want.IsZero() && !s.Ready:
		return Wait, nil // writes went on without them
	case !s.Set.Equal(s.Want), !s.Want.IsZero() && !s.Live:
		return Apply, nil
	case s.Want.IsZero(), len(s.Promised) == 1:
		return Nothing, nil
	case s.Held:
		return Promise, []List{s.Want}
	}
	return Wait, nil
}

// Enough reports whether enough of the agents have noted a change: most of them, so that whoever
// asks most of them hears of it. Of two, of whom one may be lost, it is the one that is left.
func Enough(noted, agents int) bool { return 2*noted > agents || agents == 2 && noted == 1 }
