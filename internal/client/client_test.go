package client

import (
	"errors"
	"net"
	"syscall"
	"testing"
)

// Whoever waits for a service that is being started tells it from one that answers wrongly.
func TestNobodyListens(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	c, err := New("http://"+ln.Addr().String(), "x", "")
	if err != nil {
		t.Fatal(err)
	}
	ln.Close()
	if _, err := c.Version(t.Context()); !errors.Is(err, ErrUnreachable) || !errors.Is(err, syscall.ECONNREFUSED) {
		t.Errorf("%v", err)
	}
}
