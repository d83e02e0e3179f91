package cli

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
)

func (a *app) tokenCommand() *cobra.Command {
	var scopes, clusters []string
	var days int
	add := &cobra.Command{Use: "add NAME", Short: "Make an access token; it is shown once", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if len(scopes) == 0 {
				return exitWith(exitUsage, "say what the token is good for: --scope metrics, watch, read-data, operate or admin")
			}
			t, err := c.AddToken(cmd.Context(), apitype.NewToken{Name: args[0], Scopes: scopes, Clusters: clusters, Days: days})
			if err != nil {
				return err
			}
			return a.show(t, func(w io.Writer) { fmt.Fprintln(w, t.Secret) })
		})}
	add.Flags().StringSliceVar(&scopes, "scope", nil, "what it is good for: metrics, watch, read-data, operate, admin")
	add.Flags().StringSliceVar(&clusters, "cluster", nil, "good for these clusters only (default: all)")
	add.Flags().IntVar(&days, "days", 90, "how long it lasts; 0 is for ever")
	list := &cobra.Command{Use: "list", Short: "List access tokens", Args: exactly(0),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			return a.show(apitype.Tokens{Tokens: all}, func(w io.Writer) {
				t := a.table(w, "token", "good for", "in", "made", "ends", "last used")
				for _, x := range all {
					used := "never"
					if x.LastUsedAt != nil {
						used = x.LastUsedAt.Local().Format(time.DateTime)
					}
					ends := "never"
					if x.ExpiresAt != nil {
						ends = x.ExpiresAt.Local().Format(time.DateOnly)
						if x.ExpiresAt.Before(time.Now()) {
							ends = "ended " + ends
						}
					}
					var scopes []string
					for _, s := range x.Scopes {
						scopes = append(scopes, string(s))
					}
					t.AppendRow(table.Row{x.Name, strings.Join(scopes, ", "), cmp.Or(strings.Join(x.Clusters, ", "), "all clusters"),
						x.CreatedAt.Local().Format(time.DateTime), ends, used})
				}
				t.Render()
			})
		})}
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an access token", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.RemoveToken(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.said("removed", args[0], "token %s removed\n", args[0])
		})}
	return group("token", "Add, list and remove access tokens", add, list, remove)
}
