package observation

import (
	"time"

	"crosstwin/internal/core/synchronous"
)

// Synchronous is which replicas the commits of a server wait for, or would if it were primary.
type Synchronous struct {
	// Set is what its agent was told; the zero List: nobody.
	Set synchronous.List `json:"set,omitzero"`
	// Value is what the server itself has, in its own words; empty: its commits wait for nobody.
	Value string `json:"value,omitempty"`
	// Standbys are the names in Value under which replicas connect, and Need how many of them
	// have to acknowledge, where Value says so (PostgreSQL). Need 0: it cannot be read.
	Standbys []string `json:"standbys,omitempty"`
	Need     int      `json:"need,omitempty"`
	// ByHand: Value is not what its agent set.
	ByHand bool `json:"by_hand,omitempty"`
	// Live: Value is what its agent set, and the server was proven to obey it.
	Live bool `json:"live,omitempty"`
	// ProvenAt is a position: all that was written after it waited for Set.
	ProvenAt string `json:"proven_at,omitempty"`
	// Clients are the replicas that can acknowledge now (MariaDB).
	Clients int `json:"clients,omitempty"`
	// Alone counts the commits that were acknowledged without a replica, as far as the server
	// tells, LastAlone when the last one was seen, and AloneAt how far its log had come then.
	Alone     int64     `json:"alone,omitempty"`
	LastAlone time.Time `json:"last_alone,omitzero"`
	AloneAt   string    `json:"alone_at,omitempty"`
}

// UnwaitedDefaults is the fact that counts roles, databases and functions whose commits wait for
// no replica by default (PostgreSQL). What a session sets for itself nobody else sees.
const UnwaitedDefaults = "unwaited_defaults"
