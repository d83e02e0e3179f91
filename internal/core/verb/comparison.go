package verb

// Comparison is the result of comparing all tables.
type Comparison struct {
	Servers []string     `json:"servers"`
	Tables  []TableMatch `json:"tables"`
	Rows    int64        `json:"rows"`
	Differ  int          `json:"differ"`
	// Left are the tables, and the like, of which nothing is said, each with the
	// reason, such as "cargo.old (MyISAM: it cannot be read as of one moment)".
	Left []string `json:"left,omitempty"`
}

// Kinds names what was compared: tables, and sequences where there are any.
func (c *Comparison) Kinds() string {
	for _, t := range c.Tables {
		if t.Sequence {
			return "tables and sequences"
		}
	}
	return "tables"
}

// TableMatch is one table on all servers.
type TableMatch struct {
	Table string           `json:"table"`
	Rows  map[string]int64 `json:"rows"` // by server; -1: no such table
	Same  bool             `json:"same"`
	// Sequence: it is one, not a table.
	Sequence bool              `json:"sequence,omitempty"`
	Differs  map[string]string `json:"differs,omitempty"` // by server, in words
}
