package service

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/view"
)

// Channels lead to other machines: what listens on this one, or on its link, trusts
// whoever is there. The address counts, not the name.
func TestMayDeliver(t *testing.T) {
	home := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	for address, want := range map[string]struct{ plain, allowed bool }{
		"127.0.0.1": {false, true}, "::ffff:127.0.0.1": {false, true},
		"::1": {false, false}, "169.254.169.254": {false, false},
		"fe80::1": {false, false}, "0.0.0.0": {false, false}, "::": {false, false}, "224.0.0.1": {false, false},
		"10.0.0.1": {true, true}, "192.0.2.7": {true, true}, "2001:db8::1": {true, true}} {
		to := netip.MustParseAddr(address)
		if got := mayDeliver(to, nil) == nil; got != want.plain {
			t.Errorf("%s: %t", address, got)
		}
		if got := mayDeliver(to, home) == nil; got != want.allowed {
			t.Errorf("%s, with 127.0.0.0/8 allowed: %t", address, got)
		}
	}
	s := newService(t, t.TempDir())
	hook := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("it was reached") }))
	defer hook.Close()
	_, port, _ := strings.Cut(strings.TrimPrefix(hook.URL, "http://"), ":")
	for _, u := range []string{hook.URL, "http://localhost:" + port} {
		if err := s.send(t.Context(), alert.Channel{ID: 1, URL: u}, alert.Delivery{ChannelID: 1, Body: "{}"}); err == nil ||
			!strings.Contains(err.Error(), "no channel may lead there") {
			t.Errorf("%s: %v", u, err)
		}
	}
}

// A command that hangs, writes without end and leaves a child that holds its output
// stops neither other channels nor the service, and is ended with all it started.
func TestHangingCommand(t *testing.T) {
	s, dir := newService(t, t.TempDir()), t.TempDir()
	script, child := filepath.Join(dir, "hang"), filepath.Join(dir, "child")
	if err := os.WriteFile(script, []byte(fmt.Sprintf("#!/bin/sh\nsleep 600 &\necho $! > %s.new; mv %s.new %s\n"+
		"while :; do echo noise noise noise; done\n", child, child, child)), 0o755); err != nil {
		t.Fatal(err)
	}
	s.AlertCommand, s.DeliverTo = script, []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	arrived := make(chan bool, 1)
	hook := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { arrived <- true }))
	defer hook.Close()
	ctx := t.Context()
	if _, err := s.AddChannel(ctx, "pager", hook.URL, "test", ""); err != nil {
		t.Fatal(err)
	}
	trouble := []*Assessment{{View: view.View{Cluster: "bookings", Problems: []view.Problem{{Rule: cluster.RuleNeedsYou,
		Text: "operation 3 (seed) needs you"}}}}}
	at := time.Now()
	s.raise(ctx, trouble, at)
	s.raise(ctx, trouble, at.Add(time.Second))
	due, err := s.Store.DueDeliveries(ctx, 10)
	if err != nil || len(due) != 2 {
		t.Fatal(due, err)
	}
	s.sendAll(ctx, due)
	select {
	case <-arrived:
	case <-time.After(sendTimeout):
		t.Error("the other channel waits for the command")
	}
	s.running.Wait()
	for id := int64(1); id <= 2; id++ {
		d, err := s.Store.Delivery(ctx, due[id-1].ID)
		if err != nil || d.ChannelID == commandChannel && !strings.Contains(d.Error, "did not end within") ||
			len(d.Error) > mostOutput+500 {
			t.Errorf("%+v %v", d, err)
		}
	}
	b, err := os.ReadFile(child)
	if err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		stat, err := os.ReadFile("/proc/" + strings.TrimSpace(string(b)) + "/stat")
		if err != nil || strings.Contains(string(stat), ") Z ") {
			break
		}
		if time.Now().After(end) {
			t.Fatal("what the command started lives on")
		}
	}
}
