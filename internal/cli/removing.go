package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
)

func removeFlags(c *cobra.Command, drop *bool) {
	c.Flags().BoolP("yes", "y", false, "do not ask")
	c.Flags().BoolVar(drop, "drop", false, "also drop what Cross Twin made on the servers, where nothing uses it")
}

// leaving says beforehand what a removal does.
func leaving(l apitype.Leaving, drop bool) string {
	text := " from Cross Twin. Databases keep running, " +
		"and no agent keeps a removed server from taking writes any more.\n" +
		leftovers(l, "To be undone")
	if !drop {
		text += "With --drop, what nothing uses is dropped as well.\n"
	}
	return strings.TrimSuffix(text, "\n")
}

// leftovers lists what becomes of the things that Cross Twin made.
func leftovers(l apitype.Leaving, goneTitle string) (text string) {
	for _, part := range []struct {
		title string
		gone  bool
	}{{goneTitle, true}, {"What stays", false}} {
		var list []string
		for _, x := range l.Leftovers {
			if x.Gone == part.gone {
				list = append(list, x.Text)
			}
		}
		if len(list) > 0 {
			text += fmt.Sprintf("%s:\n  %s\n", part.title, strings.Join(list, "\n  "))
		}
	}
	return text
}
