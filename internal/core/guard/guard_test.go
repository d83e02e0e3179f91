package guard

import (
	"errors"
	"testing"
)

func TestTermsNeverGoBack(t *testing.T) {
	s := State{Noted: 5, Accepted: 4, Owner: true}
	var stale StaleTermError
	if _, err := s.Note(4); !errors.As(err, &stale) || stale.Noted != 5 {
		t.Error(err)
	}
	if _, err := s.Accept(4, true); !errors.As(err, &stale) {
		t.Error(err)
	}
	if err := s.MayAct(4); !errors.As(err, &stale) {
		t.Error(err)
	}
	if err := s.MayOpen(5); err == nil {
		t.Error("a noted term is not an accepted one: it may not open the data")
	}
	for _, old := range []int64{0, 1, 4, 5} {
		if got := s.Learn(old, false); old < 5 && got != s {
			t.Errorf("term %d changed %v to %v", old, s, got)
		}
	}
	if got := s.Learn(6, false); got != (State{6, 6, false}) {
		t.Error(got)
	}
}

func TestOneOwnerATerm(t *testing.T) {
	s, err := State{}.Accept(3, true)
	if err != nil || s.MayOpen(3) != nil {
		t.Fatal(s, err)
	}
	if again, err := s.Accept(3, true); err != nil || again != s {
		t.Error("the same decision again is no error:", err)
	}
	if _, err := s.Accept(3, false); err == nil {
		t.Error("a term changed its owner")
	}
	if s, _ = s.Note(4); s.MayOpen(3) == nil {
		t.Error("a server opens under a term that is over")
	}
}

func TestMustFence(t *testing.T) {
	for _, c := range []struct {
		s        State
		writable bool
		want     bool
	}{
		{State{}, true, false}, // not under our care yet
		{State{Noted: 2}, true, false},
		{State{2, 1, true}, true, false}, // asked about a new term, still the owner of the decided one
		{State{2, 2, false}, true, true},
		{State{2, 2, false}, false, false},
		{State{2, 2, true}, true, false},
	} {
		if got := c.s.MustFence(c.writable); got != c.want {
			t.Errorf("%+v writable %t: %t", c.s, c.writable, got)
		}
	}
}

// Whatever is asked in whatever order, no state goes back.
func FuzzState(f *testing.F) {
	f.Add([]byte{0x13, 0x24, 0x31, 0x05})
	f.Fuzz(func(t *testing.T, acts []byte) {
		var s State
		for _, a := range acts {
			before, term, owner := s, int64(a>>4), a&1 == 1
			switch a >> 1 & 3 {
			case 0:
				if n, err := s.Note(term); err == nil {
					s = n
				}
			case 1:
				if n, err := s.Accept(term, owner); err == nil {
					s = n
				}
			default:
				s = s.Learn(term, owner)
			}
			if s.Noted < before.Noted || s.Accepted < before.Accepted || s.Accepted > s.Noted || s.Accepted == before.Accepted &&
				s.Owner != before.Owner && s.Accepted > 0 {
				t.Fatalf("%+v became %+v", before, s)
			}
		}
	})
}
