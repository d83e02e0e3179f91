package tail

import (
	"crypto/rand"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A saved tail is loaded by a client program that also obeys commands of its own, one
// of which runs programs. Names and statements in it come from whoever could write to
// the database. So nothing but what is meant for the server stands outside quotes, and
// the tables that it fills are in a schema of a name that nobody could prepare.

// Into makes the name of the schema, or database, that a saved tail is loaded into.
func Into() string { return "crosstwin_salvage_" + strings.ToLower(rand.Text()[:10]) }

// Comment makes a text fit for a line of a comment: no character of it ends the line.
func Comment(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || r == unicode.ReplacementChar {
			return '␤'
		}
		return r
	}, text)
}

// Shorten makes a name fit for so many bytes: a longer one ends in its number, so that
// two of them stay two.
func Shorten(name string, bytes, number int) string {
	if len(name) <= bytes {
		return name
	}
	end := fmt.Sprintf("~%d", number)
	cut := name[:bytes-len(end)]
	for !utf8.ValidString(cut) && len(cut) > 0 {
		cut = cut[:len(cut)-1]
	}
	return cut + end
}
