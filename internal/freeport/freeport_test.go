package freeport

import (
	"fmt"
	"net"
	"testing"
)

// A port is given once, and claimed where another process would see it.
func TestNext(t *testing.T) {
	seen := map[int]bool{}
	for range 200 {
		p := Next()
		if seen[p] || p < lowest || p >= highest {
			t.Fatalf("port %d", p)
		}
		seen[p] = true
		if _, err := net.Listen("unix", fmt.Sprintf("@crosstwin-port-%d", p)); err == nil {
			t.Fatalf("port %d can be claimed by another", p)
		}
		ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p))
		if err != nil {
			t.Fatal(err)
		}
		ln.Close()
	}
}
