package pgtool

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Standbys is what synchronous_standby_names says: a commit waits for Need of Names. First: they
// are chosen by their order, else whichever acknowledge.
type Standbys struct {
	Need  int
	Names []string
	First bool
}

// standbyForms are the forms with a number: ANY 2 (a, b), FIRST 2 (a, b), 2 (a, b)
// (documentation, "synchronous_standby_names").
var standbyForms = regexp.MustCompile(`(?is)^(any|first)?\s*(\d+)\s*\((.*)\)$`)

// ParseStandbys reads a value that a server has accepted. Case is ignored, also inside of quotes
// (measured), so names come out in small letters.
func ParseStandbys(value string) (Standbys, error) {
	value = strings.TrimSpace(value)
	if value == "" {
		return Standbys{}, nil
	}
	s, list := Standbys{Need: 1, First: true}, value
	if m := standbyForms.FindStringSubmatch(value); m != nil {
		n, err := strconv.Atoi(m[2])
		if err != nil {
			return Standbys{}, fmt.Errorf("%q: %w", value, err)
		}
		s.Need, s.First, list = n, !strings.EqualFold(m[1], "any"), m[3]
	}
	for list = strings.TrimSpace(list); list != ""; {
		name, rest, err := standbyName(list)
		if err != nil {
			return Standbys{}, fmt.Errorf("%q: %w", value, err)
		}
		s.Names = append(s.Names, strings.ToLower(name))
		rest = strings.TrimSpace(rest)
		if rest != "" && rest[0] != ',' {
			return Standbys{}, fmt.Errorf("%q: a comma is missing before %q", value, rest)
		}
		list = strings.TrimSpace(strings.TrimPrefix(rest, ","))
	}
	if len(s.Names) == 0 {
		return Standbys{}, fmt.Errorf("%q names nobody", value)
	}
	return s, nil
}

func standbyName(s string) (name, rest string, err error) {
	if s[0] != '"' {
		if i := strings.IndexAny(s, ", \t\n("); i >= 0 {
			return s[:i], s[i:], nil
		}
		return s, "", nil
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '"' && i+1 < len(s) && s[i+1] == '"':
			b.WriteByte('"')
			i++
		case s[i] == '"':
			return b.String(), s[i+1:], nil
		default:
			b.WriteByte(s[i])
		}
	}
	return "", "", fmt.Errorf("%q has no closing quote", s)
}

// String writes the value again: empty for nobody.
func (s Standbys) String() string {
	if s.Need == 0 || len(s.Names) == 0 {
		return ""
	}
	quoted := make([]string, len(s.Names))
	for i, n := range s.Names {
		quoted[i] = `"` + strings.ReplaceAll(n, `"`, `""`) + `"`
	}
	how := "ANY"
	if s.First {
		how = "FIRST"
	}
	return fmt.Sprintf("%s %d (%s)", how, s.Need, strings.Join(quoted, ", "))
}
