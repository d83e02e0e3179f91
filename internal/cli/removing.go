package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

func removeFlags(c *cobra.Command, drop *bool) {
	c.Flags().BoolP("yes", "y", false, "do not ask")
	c.Flags().BoolVar(drop, "drop", false, "also drop what Cross Twin made on the servers, where nothing uses it")
}

// leaving says beforehand what removing servers does to what Cross Twin made there.
func leaving(v *view.View, names []string, drop bool) string {
	list := view.Leaving(v, names...)
	calls := view.LeaveCalls(v, names, list, drop)
	var dropped, stays []string
	for _, l := range list {
		if calls[l.Server].Drops(l) {
			dropped = append(dropped, words.Leftover(l))
		} else {
			stays = append(stays, words.Leftover(l))
		}
	}
	title := "What stays"
	if !drop {
		title = "What stays (--drop drops what nothing uses)"
	}
	return fmt.Sprintf(" from Cross Twin. The database of %s keeps running, and its agent no more keeps it from taking writes.",
		words.List(names)) + lines("What is undone", dropped) + lines(title, stays)
}

// leftovers says afterwards what became of it.
func leftovers(list []verb.Leftover) string {
	var gone, stays []string
	for _, l := range list {
		if l.Gone {
			gone = append(gone, words.Leftover(l))
		} else {
			stays = append(stays, words.Leftover(l))
		}
	}
	return strings.TrimPrefix(lines("What is undone", gone)+lines("What stays", stays)+"\n", "\n")
}

func lines(title string, list []string) string {
	if len(list) == 0 {
		return ""
	}
	return fmt.Sprintf("\n%s:\n  %s", title, strings.Join(list, "\n  "))
}
