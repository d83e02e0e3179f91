// Package session holds what a gate has to know of the two wire protocols without doing any
// input or output: where a unit of work ends, what a text can do to a session, how a login is
// answered without keeping a password, and what of a session can be carried to another server.
//
// The facts are the handbook's ("Gate facts"), measured on PostgreSQL 15.18 and MariaDB 10.11.19,
// and the servers' own documentation ("Frontend/Backend Protocol"; "Client/Server Protocol").
package session

// Statuses of a PostgreSQL session, as ReadyForQuery shows them.
const (
	Idle          = 'I'
	InTransaction = 'T'
	Failed        = 'E'
)

// Units follows where a PostgreSQL session stands between units: what the server answers with
// one ReadyForQuery. The zero Units is a session that has just logged in.
//
// Invariant: AtBoundary is true only when nothing that was forwarded is unanswered, nothing
// was forwarded since the last Sync, and the server said that it is in no transaction.
type Units struct {
	// pending are the messages that are answered with ReadyForQuery (Q, F, S), and the ends of
	// a copy between them (c), in the order in which they were forwarded.
	pending []byte
	dirty   bool // something was forwarded since the last of them
	status  byte
}

// Forward notes a message of the client's that was forwarded.
func (u *Units) Forward(kind byte) {
	switch kind {
	case 'Q', 'F', 'S':
		u.pending = append(u.pending, kind)
		u.dirty = false
	case 'c', 'f': // the end of a copy; a stray one, behind a copy that failed, is passed over
		if len(u.pending) > 0 || u.dirty {
			u.pending = append(u.pending, 'c')
			u.dirty = true
		}
	case 'd': // data of a copy
	default:
		u.dirty = true
	}
}

// Ready notes a ReadyForQuery.
func (u *Units) Ready(status byte) {
	u.status = status
	for len(u.pending) > 0 {
		first := u.pending[0]
		u.pending = u.pending[1:]
		if first != 'c' {
			break
		}
	}
	if len(u.pending) == 0 {
		u.pending = nil
		return
	}
	if onlyEnds(u.pending) && u.dirty {
		u.dirty = false // the end of a copy that the query before it was
		u.pending = nil
	}
}

func onlyEnds(list []byte) bool {
	for _, k := range list {
		if k != 'c' {
			return false
		}
	}
	return true
}

// CopyIn notes that the server takes data from now on. In the extended protocol it passes over
// every Sync until the data has ended: those are never answered.
func (u *Units) CopyIn() {
	if len(u.pending) == 0 || u.pending[0] == 'Q' || u.pending[0] == 'F' {
		return
	}
	for len(u.pending) > 0 && u.pending[0] == 'S' {
		u.pending = u.pending[1:]
	}
	u.dirty = u.dirty || len(u.pending) == 0
}

// Pending is how many answers are outstanding.
func (u *Units) Pending() (n int) {
	for _, k := range u.pending {
		if k != 'c' {
			n++
		}
	}
	return n
}

// Between reports whether the next message would begin a unit: nothing stands unfinished.
func (u *Units) Between() bool { return !u.dirty }

// AtBoundary reports whether the session can be carried away now, as far as the protocol goes.
func (u *Units) AtBoundary() bool { return u.Quiet() && u.Status() == Idle }

// Quiet reports whether nothing is unanswered, in a transaction or out of one.
func (u *Units) Quiet() bool { return !u.dirty && len(u.pending) == 0 }

// Status is the one that the server told last.
func (u *Units) Status() byte {
	if u.status == 0 {
		return Idle
	}
	return u.status
}

// Lose forgets what is unanswered: the server is gone. It returns how many answers the client
// still waits for, and whether it is in the middle of a unit that it has not ended with Sync.
func (u *Units) Lose(status byte) (answers int, unfinished bool) {
	answers, unfinished = u.Pending(), u.dirty
	*u = Units{status: status}
	return answers, unfinished
}
