package cli

import (
	"fmt"
	"strings"

	"crosstwin/internal/apitype"
)

// leaving says beforehand what a removal does.
func leaving(l apitype.Leaving) string {
	text := " from Cross Twin. Databases keep running, " +
		"and no agent keeps a removed server from taking writes any more.\n" +
		leftovers(l, "To be undone")
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
