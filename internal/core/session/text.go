package session

import (
	"strings"
)

// A statement's text is read for what it can do that no server tells afterwards. What is not
// understood counts as able to do it.

// token is a part of a statement. A word is in capitals, all else as it stands.
type token struct {
	kind tokenKind
	text string
	at   int // where it begins in the text
}

type tokenKind int

const (
	word   tokenKind = iota
	quoted           // a quoted name
	literal
	number
	symbol
	parameter
)

// syntax is how an engine writes texts.
type syntax struct {
	backslash bool // \ escapes within every string
	backtick  bool // `name`, "text", #comment, /*!code*/
	dollar    bool // $tag$text$tag$, nested comments, E'text'
}

var (
	postgresSyntax = syntax{dollar: true}
	mariaSyntax    = syntax{backslash: true, backtick: true}
)

// tokens splits a text.
func (x syntax) tokens(s string) (out []token) {
	for i := 0; i < len(s); {
		c := s[i]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v':
			i++
		case strings.HasPrefix(s[i:], "--") && (!x.backtick || i+2 == len(s) || s[i+2] <= ' '), x.backtick && c == '#':
			i += lineEnd(s[i:])
		case strings.HasPrefix(s[i:], "/*"):
			if x.backtick && i+2 < len(s) && (s[i+2] == '!' || strings.HasPrefix(s[i+2:], "M!")) {
				i = x.codeBegins(s, i+3) // the server runs what is in there
				continue
			}
			i += x.commentEnd(s[i:])
		case x.backtick && strings.HasPrefix(s[i:], "*/"):
			i += 2
		case c == '\'':
			n := stringEnd(s[i:], x.backslash)
			out, i = append(out, token{literal, unquote(s[i : i+n]), i}), i+n
		case c == '"' || c == '`' && x.backtick:
			n := stringEnd(s[i:], x.backslash && c == '"')
			kind := quoted
			if c == '"' && x.backtick {
				kind = literal
			}
			out, i = append(out, token{kind, unquote(s[i : i+n]), i}), i+n
		case x.dollar && (c == 'e' || c == 'E') && i+1 < len(s) && s[i+1] == '\'':
			n := 1 + stringEnd(s[i+1:], true)
			out, i = append(out, token{literal, unquote(s[i+1 : i+n]), i}), i+n
		case x.dollar && c == '$':
			n, kind := dollarEnd(s[i:])
			out, i = append(out, token{kind, s[i : i+n], i}), i+n
		case c >= '0' && c <= '9':
			n := span(s[i:], letter)
			out, i = append(out, token{number, s[i : i+n], i}), i+n
		case letter(c):
			n := span(s[i:], letter)
			out, i = append(out, token{word, strings.ToUpper(s[i : i+n]), i}), i+n
		case c == '?':
			out, i = append(out, token{parameter, "?", i}), i+1
		default:
			out, i = append(out, token{symbol, s[i : i+1], i}), i+1
		}
	}
	return out
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c >= 0x80
}

func span(s string, in func(byte) bool) int {
	n := 1
	for n < len(s) && in(s[n]) {
		n++
	}
	return n
}

func lineEnd(s string) int {
	if i := strings.IndexByte(s, '\n'); i >= 0 {
		return i + 1
	}
	return len(s)
}

// codeBegins skips the version in /*!100100 code */.
func (x syntax) codeBegins(s string, i int) int {
	for i < len(s) && (s[i] == '!' || s[i] >= '0' && s[i] <= '9') {
		i++
	}
	return i
}

func (x syntax) commentEnd(s string) int {
	depth, i := 1, 2
	for i < len(s) && depth > 0 {
		switch {
		case strings.HasPrefix(s[i:], "*/"):
			depth, i = depth-1, i+2
		case x.dollar && strings.HasPrefix(s[i:], "/*"):
			depth, i = depth+1, i+2
		default:
			i++
		}
	}
	return i
}

// stringEnd is the length of a quoted text: a doubled quote stands for one.
func stringEnd(s string, backslash bool) int {
	for i := 1; i < len(s); i++ {
		switch {
		case backslash && s[i] == '\\':
			i++
		case s[i] == s[0]:
			if i+1 < len(s) && s[i+1] == s[0] {
				i++
				continue
			}
			return i + 1
		}
	}
	return len(s)
}

func unquote(s string) string {
	q := s[:1]
	return strings.ReplaceAll(strings.TrimSuffix(s[1:], q), q+q, q)
}

// dollarEnd is the length of a dollar-quoted text, or of a parameter such as $1.
func dollarEnd(s string) (int, tokenKind) {
	tag := strings.IndexByte(s[1:], '$')
	if tag >= 0 && !strings.ContainsFunc(s[1:1+tag], func(r rune) bool { return r < 0x80 && !letter(byte(r)) }) &&
		(tag == 0 || s[1] < '0' || s[1] > '9') {
		mark := s[:tag+2]
		if end := strings.Index(s[len(mark):], mark); end >= 0 {
			return 2*len(mark) + end, literal
		}
		return len(s), literal
	}
	return span(s, func(c byte) bool { return c >= '0' && c <= '9' }), parameter
}

// statements splits tokens at semicolons.
func statements(all []token) (out [][]token) {
	from := 0
	for i, t := range all {
		if t.kind == symbol && t.text == ";" {
			if i > from {
				out = append(out, all[from:i])
			}
			from = i + 1
		}
	}
	if from < len(all) {
		out = append(out, all[from:])
	}
	return out
}

// is reports whether a token is one of some words or symbols.
func (t token) is(texts ...string) bool {
	if t.kind != word && t.kind != symbol {
		return false
	}
	for _, x := range texts {
		if t.text == x {
			return true
		}
	}
	return false
}

// begins reports whether a statement begins with words.
func begins(s []token, words ...string) bool {
	if len(s) < len(words) {
		return false
	}
	for i, w := range words {
		if !s[i].is(w) {
			return false
		}
	}
	return true
}

// calls returns the arguments of each call of a function, up to the first few tokens.
func calls(s []token, function string) (out [][]token) {
	for i := 0; i+1 < len(s); i++ {
		named := s[i].is(strings.ToUpper(function)) || s[i].kind == quoted && strings.EqualFold(s[i].text, function)
		if named && s[i+1].is("(") {
			out = append(out, s[i+2:])
		}
	}
	return out
}
