package cli

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

func contextWithin(cmd *cobra.Command, d time.Duration) (context.Context, context.CancelFunc) {
	ctx := cmd.Context()
	if ctx == nil {
		ctx = context.Background()
	}
	return context.WithTimeout(ctx, d)
}

// docsCommand writes the commands' documentation from the commands themselves.
func (a *app) docsCommand() *cobra.Command {
	var man string
	c := &cobra.Command{Use: "docs", Short: "Print the commands' documentation; with --man write man pages", Hidden: true,
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			root := cmd.Root()
			root.DisableAutoGenTag = true
			if man != "" {
				err := os.MkdirAll(man, 0o755) // #nosec G301 -- manual pages
				if err != nil {
					return err
				}
				return doc.GenManTree(root, &doc.GenManHeader{Title: "CROSSTWIN", Section: "1", Source: "Cross Twin",
					Manual: "Cross Twin", Date: &time.Time{}}, filepath.Clean(man))
			}
			return writeDocs(a.out, root)
		}}
	c.Flags().StringVar(&man, "man", "", "write man pages to this directory instead")
	return c
}

// docsHead opens the document; the rest is generated.
//
//go:embed commands_head.md
var docsHead string

func writeDocs(w io.Writer, root *cobra.Command) error {
	fmt.Fprint(w, docsHead)
	var visit func(c *cobra.Command) error
	visit = func(c *cobra.Command) error {
		if c.Runnable() && c != root && c.Name() != "help" && !c.Hidden {
			var b bytes.Buffer
			if err := doc.GenMarkdownCustom(c, &b, func(string) string { return "" }); err != nil {
				return err
			}
			text, _, _ := strings.Cut(b.String(), "### SEE ALSO")
			text, _, _ = strings.Cut(text, "### Options inherited from parent commands")
			fmt.Fprintln(w, strings.TrimSpace(text)+"\n")
		}
		for _, sub := range c.Commands() {
			if sub.Name() == "completion" {
				continue
			}
			if err := visit(sub); err != nil {
				return err
			}
		}
		return nil
	}
	return visit(root)
}
