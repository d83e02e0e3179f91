package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/words"
	"crosstwin/internal/daemon"
)

func (a *app) recordsCommand() *cobra.Command {
	show := a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		s, err := c.Records(cmd.Context())
		if err != nil {
			return err
		}
		return a.show(s, func(w io.Writer) {
			fmt.Fprintf(w, "The records take %s (%s).\n\n", a.bold(words.Size(s.FileBytes)), s.Path)
			fmt.Fprintf(w, "  samples of %d servers  %s, and %s once the oldest are as old as they are kept for\n", s.Servers,
				words.Size(s.SampleBytes), words.Size(s.SampleBytesAtAge))
			fmt.Fprintf(w, "  growth                 %s a day until then\n", words.Size(s.GrowthPerDay))
			fmt.Fprintf(w, "  operations             %d\n  audit trail            %d events\n", s.Operations, s.Events)
		})
	})
	records := &cobra.Command{Use: "records", Short: "Show, back up and restore the service's records", Args: exactly(0),
		RunE: show}
	backup := &cobra.Command{Use: "backup FILE", Short: "Write a copy of the running service's records to a new file",
		Args: exactly(1), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return fmt.Errorf("could not make %s: %w", args[0], err)
			}
			if err := errors.Join(c.CopyRecords(cmd.Context(), f), f.Sync(), f.Close()); err != nil {
				os.Remove(args[0])
				return err
			}
			return a.said("backup", args[0], "the records were copied to %s. Keep authority.crt and authority.key of the "+
				"service's directory with it, at a safe place: they are not in it\n", args[0])
		})}
	var dir string
	restore := &cobra.Command{Use: "restore FILE",
		Short: "Put a copy in the place of the records, while the service is stopped",
		Args:  exactly(1), RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.confirmed(cmd, fmt.Sprintf("replace the records in %s by %s. What came since that copy is forgotten by "+
				"the service, tokens and servers too, and tokens "+
				"that were removed since are good again. Newer terms it learns from the agents.", dir, args[0])); err != nil {
				return err
			}
			kept, err := daemon.RestoreRecords(cmd.Context(), dir, args[0])
			if err != nil {
				return err
			}
			return a.said("restored", args[0], "the records of %s are in place; those of before are in %s. Start the service\n",
				args[0], filepath.Base(kept))
		}}
	restore.Flags().BoolP("yes", "y", false, "do not ask")
	restore.Flags().StringVar(&dir, "dir", dataHome(), "directory of the records")
	records.AddCommand(&cobra.Command{Use: "show", Short: "Show the size of the service's records and how they grow",
		Args: exactly(0), RunE: show}, backup, restore)
	return records
}

// eventsAtOnce is how many events are read at a time.
const eventsAtOnce = 1000

func (a *app) auditCommand() *cobra.Command {
	var limit int
	list := &cobra.Command{Use: "list", Short: "List who asked for what, newest first", Args: exactly(0),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			events, err := c.Audit(cmd.Context(), 0, min(max(limit, 1), eventsAtOnce))
			if err != nil {
				return err
			}
			return a.show(apitype.Events{Events: events}, func(w io.Writer) {
				t := a.table(w, "time", "who", "from", "what", "on", "detail")
				for _, e := range events {
					t.AppendRow(table.Row{e.At.Local().Format(time.DateTime), dash(e.Who), dash(e.From), e.Action, dash(e.Target),
						e.Detail})
				}
				t.Render()
			})
		})}
	list.Flags().IntVar(&limit, "limit", 50, "how many")
	export := &cobra.Command{Use: "export",
		Short: "Print the whole audit trail as lines of JSON, newest first", Args: exactly(0),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			out := json.NewEncoder(a.out)
			for before := int64(0); ; {
				events, err := c.Audit(cmd.Context(), before, eventsAtOnce)
				if err != nil || len(events) == 0 {
					return err
				}
				for _, e := range events {
					if err := out.Encode(e); err != nil {
						return err
					}
					before = e.ID
				}
			}
		})}
	return group("audit", "List and export who asked for what", list, export)
}
