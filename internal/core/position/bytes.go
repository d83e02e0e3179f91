package position

// The names of the engines as they stand in records and on the wire.
const (
	EnginePostgres = "postgresql"
)

// Bytes maps a position in an engine's text form to a number of bytes on one
// history, so that positions of one history can be subtracted. ok is false for
// an empty or unreadable position.
func Bytes(engine, text string) (n int64, ok bool) {
	switch engine {
	case EnginePostgres:
		l, err := ParseLSN(text)
		return int64(l), err == nil
	}
	return 0, false
}
