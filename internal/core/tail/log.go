package tail

import "time"

// LogFile is one file of a server's log.
type LogFile struct {
	Name      string    `json:"name"`
	Bytes     int64     `json:"bytes"`
	ChangedAt time.Time `json:"changed_at"`
	// From and To are the positions between which it holds writes: an LSN, or
	// what the log held before the file began (MariaDB). To is empty while it
	// is written.
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
	// History is the number of the history it belongs to (PostgreSQL).
	History uint32 `json:"history,omitempty"`
	// Ahead: made ready for writes to come; it holds none.
	Ahead bool `json:"ahead,omitempty"`
	// NeededBy names who still needs it and why; filled in by the service.
	NeededBy []string `json:"needed_by,omitempty"`
}

// ReadLogArgs chooses what is read of a log. Without From and Since it is the
// newest transactions.
type ReadLogArgs struct {
	From  string    `json:"from,omitempty"` // position after which to begin
	To    string    `json:"to,omitempty"`
	Since time.Time `json:"since,omitzero"`
	// Shown is what the page before gave: what ended up to there is not shown
	// again.
	Shown string `json:"shown,omitempty"`
	Table string `json:"table,omitempty"` // schema.table, or the table alone
	Limit int    `json:"limit,omitempty"`
}

// LogPage is a part of a log as a person reads it.
type LogPage struct {
	Transactions []Transaction `json:"transactions"`
	// Next is where the following page begins, so early that it has all records
	// of what is not yet shown; Shown is to be handed back with it. End is set
	// when the log has no more at the moment.
	Next  string `json:"next"`
	Shown string `json:"shown,omitempty"`
	End   bool   `json:"end"`
}

// Complaint is one line of a server's own error log.
type Complaint struct {
	At    time.Time `json:"at"`
	Level string    `json:"level"` // warning, error, fatal
	Text  string    `json:"text"`
}

// Cut keeps limit transactions of a page: the newest, or the first, and then
// the next page begins where the last one kept ends.
func (p *LogPage) Cut(limit int, newest bool) {
	n := len(p.Transactions)
	if limit <= 0 || n <= limit {
		return
	}
	if newest {
		p.Transactions = p.Transactions[n-limit:]
		return
	}
	p.Transactions, p.End = p.Transactions[:limit], false
	p.Next = p.Transactions[limit-1].Last
}
