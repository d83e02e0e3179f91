package service

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"crosstwin/internal/core/access"
	"crosstwin/internal/core/alert"
)

// A stolen token, one that was removed, one that expired, and guesses: each ends with an
// alert of no cluster, that goes by itself.
func TestRefusalsRaiseAnAlert(t *testing.T) {
	s, ctx := newService(t, t.TempDir()), t.Context()
	yesterday := time.Now().Add(-24 * time.Hour)
	for _, x := range []access.Token{{Name: "graphs"}, {Name: "laptop"}, {Name: "visitor", ExpiresAt: &yesterday}} {
		if err := s.Store.AddToken(ctx, x, Hash("ct-"+x.Name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.RemoveToken(ctx, "laptop", "ada", "127.0.0.1"); err != nil {
		t.Fatal(err)
	}
	at := time.Now()
	open := func() []alert.Alert {
		t.Helper()
		s.raise(ctx, nil, at)
		list, err := s.Store.Alerts(ctx, "", true, 100)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	guess := func(token, from string) {
		t.Helper()
		if _, err := s.TokenName(ctx, token, from); !errors.Is(err, ErrUnknownToken) {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		what string
		does func()
		want string
	}{
		{"one wrong token", func() { guess("ct-typed wrong", "10.0.0.1") }, ""},
		{"a stolen token", func() { s.NoteRefusal(ctx, "graphs", "10.0.0.2", "/api/v1/tokens", "no") },
			"a request from 10.0.0.2 was refused: the token graphs is not good for /api/v1/tokens"},
		{"a removed token", func() { guess("ct-laptop", "10.0.0.3") },
			"the token laptop, which was removed, was used from 10.0.0.3 and refused"},
		{"an expired token", func() { guess("ct-visitor", "10.0.0.4") },
			"the token visitor, which has expired, was used from 10.0.0.4 and refused"},
		{"guesses", func() {
			for range freeFailures {
				guess("ct-guessed", "10.0.0.5")
			}
		}, "logins from 10.0.0.5 fail again and again"},
	} {
		c.does()
		list := open()
		if c.want == "" {
			if len(list) != 0 {
				t.Errorf("%s: %+v", c.what, list)
			}
			continue
		}
		if len(list) != 1 || list[0].Cluster != "" || list[0].Text != c.want ||
			list[0].Level != "warning" || list[0].Mend == "" {
			t.Errorf("%s: %+v", c.what, list)
		}
		at = at.Add(access.RefusalTold + time.Minute)
		open()
		at = at.Add(alert.Gone)
		if list := open(); len(list) != 0 {
			t.Errorf("%s is told for ever: %+v", c.what, list)
		}
		at = time.Now()
	}
	s.NoteRefusal(ctx, "graphs", "10.0.0.2", "/api/v1/tokens", "no")
	guess("ct-laptop", "10.0.0.3")
	if list := open(); len(list) != 2 {
		t.Errorf("two at a time: %+v", list)
	}
	for i := range 3 * mostRefused {
		s.NoteRefusal(ctx, fmt.Sprint("token-", i), "10.0.0.2", "/api/v1/tokens", "no")
	}
	if list := open(); len(list) != mostRefused {
		t.Errorf("%d alerts of %d tokens", len(list), 3*mostRefused)
	}
	trail, err := s.Audit(ctx, 0, 200)
	if err != nil {
		t.Fatal(err)
	}
	said := ""
	for _, e := range trail {
		said += e.From + " " + e.Detail + "\n"
	}
	if !strings.Contains(said, "10.0.0.3 the token laptop, which was removed") {
		t.Errorf("the trail: %s", said)
	}
}
