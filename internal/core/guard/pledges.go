package guard

import "slices"

// questions asks the set for pledges while little is left of the permission, whatever
// the reason, and the database commits (rule 7).
func (a *Agent) questions(now Time) []Effect {
	d := a.Durable
	if !d.Owner || d.Lost || !a.commits || a.standing != nil || now < a.silent ||
		a.hold.Ends.Last()-now > askFrom || now-a.askedAt < askEvery {
		return nil
	}
	a.number++
	a.question, a.askedAt = Question{a.Process, a.number}, now
	a.answered = nil
	if len(d.Set) == 0 {
		return []Effect{a.tell(Ends{a.hold.Ends.Grant, now + PledgeLasts - Fencing}, now)}
	}
	var do []Effect
	for _, s := range d.Set {
		do = append(do, Send{s, PledgeAsk{a.question, a.Name, d.Accepted, a.hold.Ends.Runs(now)}})
	}
	return do
}

// pledge counts the answers of the set. All of it has to answer; the permission
// counts from before the question was sent.
func (a *Agent) pledge(e Pledge, now Time) []Effect {
	if e.Question != a.question || e.Term != a.Durable.Accepted || !a.Durable.Owner {
		return nil
	}
	a.answered = append(slices.Clip(a.answered), e.From)
	for _, s := range a.Durable.Set {
		if !slices.Contains(a.answered, s) && !a.omits(AskAll) {
			return nil
		}
	}
	from := a.askedAt
	if a.omits(FromTheQuestion) {
		from = now
	}
	end := from + PledgeLasts - Fencing
	if end <= now || end <= a.hold.Ends.Pledge {
		return nil
	}
	return []Effect{a.tell(Ends{a.hold.Ends.Grant, end}, now)}
}

// pledgeAsk promises not to be promoted, or says nothing.
func (a *Agent) pledgeAsk(e PledgeAsk, now Time) []Effect {
	d := a.Durable
	switch {
	case d.Lost && !a.omits(LostIsNever),
		e.Term < d.Accepted && !a.omits(NotBelow),
		e.Term == d.Accepted && d.Owner && !a.omits(NotBelow),
		(a.hold.Ends.Runs(now) || a.database >= DatabaseOpening) && !a.omits(NotWhileWriting):
		return nil
	}
	var do []Effect
	if e.Term > d.Accepted && !a.omits(AcceptFirst) {
		a.Durable.State, a.Durable.Set = State{max(d.Noted, e.Term), e.Term, false}, nil
		do = append(do, Persist{a.Durable})
	}
	a.Pledged, a.ownerWrites = max(a.Pledged, now+PledgeWait), e.Writes
	return append(do, Send{e.From, Pledge{e.Question, a.Name, e.Term}})
}
