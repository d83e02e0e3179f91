// Package freeport picks TCP ports of loopback for the demo world and for
// tests. It keeps clear of the range from which the kernel takes the local
// ends of outgoing connections: a port that is free now could be taken by any
// connection before its server binds it (seen, with several worlds at once).
package freeport

import (
	"fmt"
	"math/rand/v2"
	"net"
	"sync"
)

// The range: above the well-known ports, below the kernel's own (32768).
const lowest, highest = 12000, 32000

var given struct {
	sync.Mutex
	ports map[int]net.Listener // each holds its port's claim
}

// Next returns a port that is free now and that no other process was given that
// still runs. A server binds its port long after it was chosen, so looking
// alone is not enough: the claim is an abstract socket of the port's name, which
// the kernel takes back with the process.
func Next() int {
	given.Lock()
	defer given.Unlock()
	if given.ports == nil {
		given.ports = map[int]net.Listener{}
	}
	for {
		port := lowest + rand.IntN(highest-lowest)
		claim, err := net.Listen("unix", fmt.Sprintf("@crosstwin-port-%d", port))
		if err != nil {
			continue // given already, here or elsewhere
		}
		ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			claim.Close()
			continue
		}
		ln.Close()
		given.ports[port] = claim
		return port
	}
}
