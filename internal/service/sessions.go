package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"

	"crosstwin/internal/core/cause"
	"crosstwin/internal/store"
)

// The lives of what lets a person into the console.
const (
	sessionLife = 12 * time.Hour
	linkLife    = 10 * time.Minute
)

// ErrUnknownToken says that a token, session or link is not known, or over.
var ErrUnknownToken = errors.New("this token is not known here, or was removed")

// TooManyError says that an address failed too often.
type TooManyError struct{ Wait time.Duration }

func (e TooManyError) Error() string {
	return fmt.Sprintf("too many failed logins from this address: try again in %d s", int(e.Wait.Seconds())+1)
}

// attempts limits failed logins by address: after a few, each further failure
// doubles the time for which nothing from there is looked at.
type attempts struct {
	mu sync.Mutex
	by map[string]*failures
}

type failures struct {
	n     int
	until time.Time
	last  time.Time
}

const (
	freeFailures    = 5
	firstWait       = time.Second
	longestWait     = 5 * time.Minute
	forgetFailures  = 15 * time.Minute
	mostAddresses   = 10000
	doublingsToStop = 10
)

// check reports whether an address may try now.
func (a *attempts) check(address string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if f := a.by[address]; f != nil {
		if wait := time.Until(f.until); wait > 0 {
			return TooManyError{wait}
		}
	}
	return nil
}

// failed counts a failure. It reports whether that is worth a line of the audit
// trail: the first, and each that makes the address wait longer.
func (a *attempts) failed(address string) (telling bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.by == nil {
		a.by = map[string]*failures{}
	}
	for k, f := range a.by {
		if time.Since(f.last) > forgetFailures || len(a.by) > mostAddresses {
			delete(a.by, k)
		}
	}
	f := a.by[address]
	if f == nil {
		f = &failures{}
		a.by[address] = f
	}
	f.n, f.last = f.n+1, time.Now()
	if over := f.n - freeFailures; over >= 0 {
		f.until = f.last.Add(min(longestWait, firstWait<<min(over, doublingsToStop)))
		return over <= doublingsToStop
	}
	return f.n == 1
}

func (a *attempts) succeeded(address string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.by, address)
}

// TokenName returns the name of a token that somebody shows; failures from one
// address are limited.
func (s *Service) TokenName(ctx context.Context, token, from string) (string, error) {
	return s.tried(ctx, token, from, func() (string, error) { return s.Store.TokenName(ctx, Hash(token)) })
}

// tried looks up what was shown; token is empty when that was a one-time code.
func (s *Service) tried(ctx context.Context, token, from string, look func() (string, error)) (string, error) {
	// Looked at first: whoever shows a valid token is let in, however many others
	// failed from the same address.
	name, err := look()
	if errors.Is(err, store.ErrNotFound) {
		if err := s.attempts.check(from); err != nil {
			return "", err
		}
		why := "the token is not known"
		if old := s.noteOld(ctx, token, from); old != "" {
			why = old
		}
		s.log.Warn("a login failed: "+why, "from", from)
		if s.attempts.failed(from) {
			s.audit(context.Background(), "", from, "login failed", "", why)
		}
		if s.attempts.check(from) != nil {
			s.refused.note(from, cause.Cause{Code: cause.LoginsFailed, At: from}, cause.Cause{Code: cause.SeeAudit},
				time.Now())
		}
		return "", ErrUnknownToken
	}
	if err != nil {
		return "", err
	}
	s.attempts.succeeded(from)
	return name, nil
}

// OpenSession trades a token, or the code of a one-time link, for a session's
// secret.
func (s *Service) OpenSession(ctx context.Context, token, code, from string) (secret, name string, err error) {
	name, err = s.tried(ctx, token, from, func() (string, error) {
		if code != "" {
			return s.Store.UseSessionLink(ctx, Hash(code))
		}
		return s.Store.TokenName(ctx, Hash(token))
	})
	if err != nil {
		return "", "", err
	}
	secret = randomText(32)
	s.audit(ctx, name, from, "session opened", "console", "")
	s.tokenKept(name)
	return secret, name, s.Store.AddSession(ctx, Hash(secret), name, sessionLife)
}

// NoteLogin writes down that somebody keeps a token for the command line.
func (s *Service) NoteLogin(ctx context.Context, name, from string) {
	s.audit(ctx, name, from, "logged in", "command line", "")
	s.tokenKept(name)
}

// tokenKept removes the file of the first token once somebody has taken the token over:
// whoever can read the directory later gets nothing by it.
func (s *Service) tokenKept(name string) {
	if s.FirstTokenFile == "" || name != FirstToken {
		return
	}
	if err := os.Remove(s.FirstTokenFile); err == nil {
		s.log.Info("the first token is in use: its file was removed", "file", s.FirstTokenFile)
	} else if !errors.Is(err, fs.ErrNotExist) {
		s.log.Warn("the first token's file could not be removed", "error", err)
	}
}

// FirstToken is the name of the token that new records begin with.
const FirstToken = "first"

// NewSessionLink makes the code of a one-time link for whoever shows a token.
func (s *Service) NewSessionLink(ctx context.Context, name, from string) (string, error) {
	code := randomText(24)
	s.audit(ctx, name, from, "one-time link made", "console", "")
	return code, s.Store.AddSessionLink(ctx, Hash(code), name, linkLife)
}
