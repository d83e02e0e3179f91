package api

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

// A body is bounded in size, an answer is kept and guessed at by nobody, and failures
// from an address never keep a valid token out.
func TestGuarded(t *testing.T) {
	f := newFace(t)
	auth := "Authorization: Bearer " + f.token
	code, text, h := f.ask("POST", "/api/v1/clusters", `{"name":"`+strings.Repeat("x", mostBody)+`"}`, auth)
	if code != http.StatusRequestEntityTooLarge || !strings.Contains(text, "too large") {
		t.Errorf("%d %s", code, text)
	}
	if h.Get("Cache-Control") != "no-store" || h.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("%v", h)
	}
	refused := 0
	for range 3 * 10 {
		code, _, _ := f.ask("GET", "/api/v1/clusters", "", "Authorization: Bearer ct-guessed")
		if code == http.StatusTooManyRequests {
			refused++
		}
	}
	if code, text, _ := f.ask("GET", "/api/v1/clusters", "", auth); code != 200 || refused == 0 {
		t.Errorf("after %d refusals a valid token gets %d: %s", refused, code, text)
	}
	_, text, _ = f.ask("GET", "/api/v1/audit", "", auth)
	if n := strings.Count(text, "login failed"); n == 0 || n > 20 {
		t.Errorf("%d failed logins in the audit trail: %s", n, text)
	}
}

// A stream of events ends with the token that opened it.
func TestStreamEndsWithItsToken(t *testing.T) {
	keepAlive = 50 * time.Millisecond
	f := newFace(t)
	auth := "Authorization: Bearer " + f.token
	conn, err := net.Dial("tcp", strings.TrimPrefix(f.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprintf(conn, "GET /api/v1/events HTTP/1.1\r\nHost: x\r\n%s\r\n\r\n", auth)
	in := bufio.NewReader(conn)
	line := func() (string, error) {
		conn.SetReadDeadline(time.Now().Add(20 * time.Second))
		return in.ReadString('\n')
	}
	for text := ""; !strings.Contains(text, "still here"); {
		if text, err = line(); err != nil {
			t.Fatal(err)
		}
	}
	if code, text, _ := f.ask("DELETE", "/api/v1/tokens/night-shift", "", auth); code != 204 {
		t.Fatal(code, text)
	}
	for {
		text, err := line()
		if err != nil {
			t.Fatalf("the stream goes on without its token: %v", err)
		}
		if text == "0\r\n" {
			return // the end of a body in chunks
		}
	}
}
