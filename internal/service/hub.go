package service

import (
	"encoding/json"
	"sync"
	"time"
)

// EventKind is what an event of the stream is about.
type EventKind string

// All kinds of event, each with the type of its data.
const (
	EventCluster   EventKind = "cluster"   // view.View without observations
	EventRemoved   EventKind = "removed"   // Removed
	EventOperation EventKind = "operation" // Changed
	EventAlert     EventKind = "alert"     // alert.Alert
)

// Removed names what is gone: a cluster.
type Removed struct {
	Cluster string `json:"cluster"`
}

// Changed names an operation that has come further; readers fetch the rest.
type Changed struct {
	ID int64 `json:"id"`
}

// Event is one change, as the event stream carries it.
type Event struct {
	ID   int64
	Kind EventKind
	Key  string // cluster's name, or operation's number
	Data json.RawMessage
}

// hubMemory is how many events a reader may have missed and still resume.
const hubMemory = 2000

// Hub hands events to readers. Ids grow without gaps within one process and
// begin at the clock's microseconds, so that ids of an earlier process are
// always smaller.
type Hub struct {
	mu   sync.Mutex
	ring []Event
	next int64
	subs map[chan Event]bool
}

func newHub() *Hub { return &Hub{next: time.Now().UnixMicro(), subs: map[chan Event]bool{}} }

func (h *Hub) publish(kind EventKind, key string, v any) {
	if data, err := json.Marshal(v); err == nil {
		h.send(kind, key, data)
	}
}

// send is publish of what is JSON already.
func (h *Hub) send(kind EventKind, key string, data json.RawMessage) {
	h.mu.Lock()
	defer h.mu.Unlock()
	e := Event{ID: h.next, Kind: kind, Key: key, Data: data}
	h.next++
	if h.ring = append(h.ring, e); len(h.ring) > hubMemory {
		h.ring = h.ring[len(h.ring)-hubMemory:]
	}
	for c := range h.subs {
		select {
		case c <- e:
		default: // a reader that does not keep up is cut off and resumes by id
			delete(h.subs, c)
			close(c)
		}
	}
}

// Subscribe returns the events after an id and then new ones. whole is false
// when some of them are forgotten: the reader has to fetch the state anew.
func (h *Hub) Subscribe(after int64) (missed []Event, whole bool, c chan Event, cancel func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	whole = after == 0 || after >= h.next-1-int64(len(h.ring)) && after < h.next
	if after > 0 && whole {
		for _, e := range h.ring {
			if e.ID > after {
				missed = append(missed, e)
			}
		}
	}
	c = make(chan Event, hubMemory) // hundreds of clusters report at one moment
	h.subs[c] = true
	return missed, whole, c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.subs[c] {
			delete(h.subs, c)
			close(c)
		}
	}
}

// Last returns the id of the newest event.
func (h *Hub) Last() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.next - 1
}
