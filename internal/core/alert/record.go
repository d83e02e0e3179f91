package alert

import "time"

// Alert is a problem that lasted.
type Alert struct {
	ID      int64  `json:"id"`
	Cluster string `json:"cluster"`
	// Server is empty for an alert of the whole cluster; of no cluster, what it is about: a
	// token or an address.
	Server         string     `json:"server,omitempty"`
	Rule           string     `json:"rule"`
	Level          string     `json:"level"` // critical or warning
	Text           string     `json:"text"`
	Mend           string     `json:"mend,omitempty"`
	RaisedAt       time.Time  `json:"raised_at"`
	ClearedAt      *time.Time `json:"cleared_at,omitempty"`
	AcknowledgedAt *time.Time `json:"acknowledged_at,omitempty"`
	AcknowledgedBy string     `json:"acknowledged_by,omitempty"`
	Note           string     `json:"note,omitempty"`
}

// Channel is a web address that alerts are sent to.
type Channel struct {
	ID        int64     `json:"-"`
	Name      string    `json:"name"`
	URL       string    `json:"url"`
	CreatedAt time.Time `json:"created_at"`
	// Last is what became of the newest delivery.
	Last *Delivery `json:"last,omitempty"`

	Secret string `json:"-"` // signs what is sent
	// Problem is why nothing can be sent.
	Problem string `json:"problem,omitempty"`
}

// Delivery is one message to a channel.
type Delivery struct {
	ID        int64      `json:"id"`
	ChannelID int64      `json:"-"`
	Body      string     `json:"-"`
	Attempts  int        `json:"attempts"`
	NextAt    *time.Time `json:"next_at,omitempty"` // it is tried again then
	DoneAt    *time.Time `json:"done_at,omitempty"`
	Error     string     `json:"error,omitempty"` // of the last attempt
}
