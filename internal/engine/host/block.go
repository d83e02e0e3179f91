package host

import "strings"

// WithoutBlock returns a file's text without the block of ours that two lines enclose.
func WithoutBlock(content, begin, end string) string {
	before, rest, ours := strings.Cut(content, begin)
	_, after, whole := strings.Cut(rest, end)
	if !ours || !whole {
		return content
	}
	return before + strings.TrimPrefix(after, "\n")
}
