package verb

// Comparison is the result of comparing all tables.
type Comparison struct {
	Servers []string     `json:"servers"`
	Tables  []TableMatch `json:"tables"`
	Rows    int64        `json:"rows"`
	Differ  int          `json:"differ"`
}

// TableMatch is one table on all servers.
type TableMatch struct {
	Table   string            `json:"table"`
	Rows    map[string]int64  `json:"rows"` // by server; -1: no such table
	Same    bool              `json:"same"`
	Differs map[string]string `json:"differs,omitempty"` // by server, in words
}
