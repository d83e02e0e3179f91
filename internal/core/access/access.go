package access

import "time"

// Token is an access token's record; the token itself is not kept.
type Token struct {
	Name       string     `json:"name"`
	CreatedAt  time.Time  `json:"created_at"`
	LastUsedAt *time.Time `json:"last_used_at,omitempty"`
}

// Event is one line of the audit trail.
type Event struct {
	ID     int64     `json:"id"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	From   string    `json:"from"`
	Action string    `json:"action"`
	Target string    `json:"target"`
	Detail string    `json:"detail,omitempty"`
}
