package position

import "fmt"

// Unit is what a Distance counts.
type Unit string

// The two units. They are never compared with each other.
const (
	Bytes        Unit = "bytes"        // of log
	Transactions Unit = "transactions" // numbered ones, all domains together
)

// Distance is how much log lies between two positions.
type Distance struct {
	Amount int64 `json:"amount"`
	Unit   Unit  `json:"unit"`
}

// UnitOf returns the unit in which an engine's positions are subtracted.
func UnitOf(engine string) Unit {
	if engine == EngineMariaDB {
		return Transactions
	}
	return Bytes
}

// IsZero reports whether nothing lies between.
func (d Distance) IsZero() bool { return d.Amount == 0 }

// Exceeds reports whether d is more than o. Distances of two units do not
// compare: that is a fault of the program, and it panics.
func (d Distance) Exceeds(o Distance) bool {
	if d.Unit != o.Unit && !d.IsZero() && !o.IsZero() {
		panic(fmt.Sprintf("position: %d %s compared with %d %s", d.Amount, d.Unit, o.Amount, o.Unit))
	}
	return d.Amount > o.Amount
}
