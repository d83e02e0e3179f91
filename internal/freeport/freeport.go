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
	ports map[int]bool
}

// Next gives a port that is free now and was not given before by this process.
func Next() int {
	given.Lock()
	defer given.Unlock()
	if given.ports == nil {
		given.ports = map[int]bool{}
	}
	for {
		port := lowest + rand.IntN(highest-lowest)
		if given.ports[port] {
			continue
		}
		if ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			ln.Close()
			given.ports[port] = true
			return port
		}
	}
}
