package pgtool

import (
	"slices"
	"testing"
)

// The forms are those that the handbook found a server to accept, and to refuse.
func TestParseStandbys(t *testing.T) {
	for value, want := range map[string]Standbys{
		"":                          {},
		"b":                         {Need: 1, Names: []string{"b"}, First: true},
		"b, C":                      {Need: 1, Names: []string{"b", "c"}, First: true},
		"2 (b,c)":                   {Need: 2, Names: []string{"b", "c"}, First: true},
		"FIRST 1 (b,*)":             {Need: 1, Names: []string{"b", "*"}, First: true},
		" any  2 ( b , c, d ) ":     {Need: 2, Names: []string{"b", "c", "d"}},
		"*":                         {Need: 1, Names: []string{"*"}, First: true},
		`ANY 1 ("15/Main", "a,(b")`: {Need: 1, Names: []string{"15/main", "a,(b"}},
		`"a""b"`:                    {Need: 1, Names: []string{`a"b`}, First: true},
	} {
		got, err := ParseStandbys(value)
		if err != nil || got.Need != want.Need || got.First != want.First || !slices.Equal(got.Names, want.Names) {
			t.Errorf("%q: %+v, %v", value, got, err)
		}
	}
	for _, wrong := range []string{"b c", "FIRST (b,c)", `"b`, "ANY 1 ()"} {
		if s, err := ParseStandbys(wrong); err == nil {
			t.Errorf("%q was read as %+v", wrong, s)
		}
	}
}

func FuzzParseStandbys(f *testing.F) {
	for _, s := range []string{"b, c", `ANY 2 ("a b", c)`, "*", "2(b)", `"a""b"`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, value string) {
		s, err := ParseStandbys(value)
		if err != nil || s.Need == 0 || len(s.Names) == 0 {
			return
		}
		again, err := ParseStandbys(s.String())
		if err != nil || again.Need != s.Need || !slices.Equal(again.Names, s.Names) || again.First != s.First {
			t.Errorf("%q: %+v, and read again %+v, %v", value, s, again, err)
		}
	})
}
