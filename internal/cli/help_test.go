package cli

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
)

// Every command has a sentence of purpose and examples that it would take: each
// flag of an example exists, and the number of arguments is right.
func TestHelp(t *testing.T) {
	a := &app{v: viper.New(), out: &bytes.Buffer{}, err: &bytes.Buffer{}}
	root := a.root()
	used := map[string]bool{}
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			visit(sub)
		}
		if !c.Runnable() || c.Hidden || c == root || c.HasSubCommands() &&
			examples[strings.TrimPrefix(c.CommandPath(), "crosstwin ")] == "" {
			return
		}
		path := strings.TrimPrefix(c.CommandPath(), "crosstwin ")
		used[path] = true
		if c.Short == "" || strings.HasSuffix(c.Short, ".") || examples[path] == "" {
			t.Errorf("%s: purpose %q, examples %q", path, c.Short, examples[path])
		}
		for _, line := range strings.Split(strings.ReplaceAll(examples[path], "\\\n", ""), "\n") {
			line, _, _ = strings.Cut(line, " > ")
			words := split(line)
			if len(words) < 2 || words[0] != "crosstwin" {
				t.Errorf("%s: example %q", path, line)
				continue
			}
			found, rest, err := root.Find(words[1:])
			if err != nil || found != c {
				t.Errorf("%s: example %q is of %v, %v", path, line, found, err)
				continue
			}
			if err := found.ParseFlags(rest); err != nil {
				t.Errorf("%s: example %q: %v", path, line, err)
			}
			if found.Args != nil {
				if err := found.Args(found, found.Flags().Args()); err != nil {
					t.Errorf("%s: example %q: %v", path, line, err)
				}
			}
		}
	}
	visit(root)
	for path := range examples {
		if !used[path] {
			t.Errorf("there are examples of %q, which is no command", path)
		}
	}
}

// split parts a line at spaces outside single quotes.
func split(line string) (out []string) {
	for i, part := range strings.Split(line, "'") {
		if i%2 == 1 {
			out = append(out, part)
			continue
		}
		out = append(out, strings.Fields(part)...)
	}
	return out
}

// The commands' page is the one that the commands themselves write.
func TestDocumentation(t *testing.T) {
	var b bytes.Buffer
	a := &app{v: viper.New(), out: &b, err: &b}
	if err := writeDocs(&b, a.root()); err != nil {
		t.Fatal(err)
	}
	have, err := os.ReadFile("../../docs/commands.md")
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != b.String() {
		t.Error("docs/commands.md is not current: go run ./cmd/crosstwin docs > docs/commands.md")
	}
}
