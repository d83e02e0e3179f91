package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"sigs.k8s.io/yaml"

	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// show writes v as JSON or YAML when asked for, else calls asTable.
func (a *app) show(v any, asTable func(w io.Writer)) error {
	switch a.v.GetString("output") {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "yaml":
		b, err := yaml.Marshal(v)
		if err != nil {
			return err
		}
		_, err = a.out.Write(b)
		return err
	}
	asTable(a.out)
	return nil
}

// said shows that a small thing was done: as words, or as one field.
func (a *app) said(what, name, format string, args ...any) error {
	return a.show(map[string]string{what: name}, func(w io.Writer) { fmt.Fprintf(w, format, args...) })
}

func (a *app) table(w io.Writer, header ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	t.SetStyle(table.StyleLight)
	s := t.Style()
	s.Options.DrawBorder, s.Options.SeparateColumns, s.Options.SeparateHeader = false, false, false
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "   "
	s.Format.Header = text.FormatDefault
	t.AppendHeader(table.Row(header))
	return t
}

// glyph goes with a health word, so that colour is never the only signal.
func glyph(h view.Health) string {
	switch h {
	case view.TakesWrites, view.InStep:
		return "="
	case view.Behind:
		return "-"
	case view.Seeding:
		return "+"
	case view.Fenced, view.Stopped:
		return "."
	case view.Unseen:
		return "?"
	case view.Adrift:
		return "/"
	}
	return "!"
}

// paint colours a health word.
func (a *app) paint(h view.Health, s string) string {
	if !a.color() {
		return s
	}
	switch h {
	case view.Behind:
		return text.FgYellow.Sprint(s)
	case view.Stalled, view.Unseen, view.TakesNoWrite:
		return text.FgRed.Sprint(s)
	case view.Adrift:
		return text.FgMagenta.Sprint(s)
	case view.Seeding:
		return text.FgBlue.Sprint(s)
	case view.Fenced, view.Stopped:
		return text.FgHiBlack.Sprint(s)
	}
	return s
}

func (a *app) bold(s string) string {
	if !a.color() {
		return s
	}
	return text.Bold.Sprint(s)
}

func rank(n int) string {
	if n == 0 {
		return "never"
	}
	return fmt.Sprint(n)
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// wrap breaks a text into lines of at most width, each after the first
// indented.
func wrap(s string, width int, indent string) string {
	var lines []string
	line := ""
	for _, w := range strings.Fields(s) {
		if line != "" && len([]rune(line))+1+len([]rune(w)) > width {
			lines = append(lines, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return strings.Join(append(lines, line), "\n"+indent)
}

// lineWidth is the width at which sentences are broken into lines.
const lineWidth = 110

// checkWidth is the width at which evidence is broken into lines.
const checkWidth = 96

func (a *app) resultWord(r operation.Result) string {
	word := map[operation.Result]string{operation.Pass: "pass", operation.Warn: "WARN", operation.Fail: "FAIL"}[r]
	if !a.color() {
		return word
	}
	switch r {
	case operation.Warn:
		return text.FgYellow.Sprint(word)
	case operation.Fail:
		return text.FgRed.Sprint(word)
	}
	return word
}

// printChecks shows checks, worst first; passed ones only in full.
func (a *app) printChecks(w io.Writer, checks []operation.Check, full bool) {
	passed := 0
	for _, r := range []operation.Result{operation.Fail, operation.Warn, operation.Pass} {
		for _, c := range checks {
			if c.Result != r {
				continue
			}
			if r == operation.Pass && !full {
				passed++
				continue
			}
			name := c.Name
			if c.Server != "" {
				name += " (" + c.Server + ")"
			}
			fmt.Fprintf(w, "  %s  %s\n", a.resultWord(r), a.bold(name))
			fmt.Fprintf(w, "        %s\n", wrap(c.Evidence, checkWidth, "        "))
			if r == operation.Pass {
				continue
			}
			if c.Why != "" {
				fmt.Fprintf(w, "        why: %s\n", wrap(c.Why, checkWidth, "        "))
			}
			if c.Mend != "" {
				fmt.Fprintf(w, "        Fix: %s\n", wrap(c.Mend, checkWidth, "        "))
			}
		}
	}
	if passed > 0 {
		more := ""
		if passed < len(checks) {
			more = " more"
		}
		fmt.Fprintf(w, "  %s  %d%s checks (crosstwin check shows them with their evidence)\n", a.resultWord(operation.Pass),
			passed, more)
	}
}

// printDecided says why an operation began without a person, and what was seen.
func printDecided(w io.Writer, d *operation.Decided, moments []operation.Moment) {
	if d == nil {
		return
	}
	fmt.Fprintf(w, "\nIt began by itself: %s\n", wrap(d.Text, checkWidth, "  "))
	for _, e := range d.Evidence {
		at := ""
		if e.Position != "" {
			at = ", and holds up to " + e.Position
		}
		of := ""
		if !strings.HasSuffix(e.By, "agent") {
			of = ", of " + e.Of
		}
		text := fmt.Sprintf("%s  %s%s: %s%s", e.At.Local().Format("15:04:05"), e.By, of, e.Text, at)
		fmt.Fprintf(w, "  %s\n", wrap(text, checkWidth, "    "))
	}
	for i, m := range moments {
		after := ""
		if i > 0 {
			after = fmt.Sprintf("  %s later", words.Span(m.At.Sub(moments[i-1].At).Seconds()))
		}
		fmt.Fprintf(w, "  %s  %s%s\n", m.At.Local().Format("15:04:05.00"), m.What, after)
	}
}

// printPlan shows a plan: what it does, its checks, its steps.
func (a *app) printPlan(w io.Writer, p *operation.Plan, full bool) {
	fmt.Fprintln(w, a.bold(wrap(p.Summary, checkWidth, "")))
	for _, e := range p.Effects {
		fmt.Fprintf(w, "  - %s\n", wrap(e, checkWidth, "    "))
	}
	if p.Destroys != "" {
		fmt.Fprintf(w, "  ! This discards %s.\n", wrap(p.Destroys, checkWidth, "    "))
	}
	if len(p.Choices) > 0 {
		fmt.Fprintln(w, "\nCandidates")
		for _, c := range p.Choices {
			mark := "   "
			if c.Chosen {
				mark = "-> "
			}
			fmt.Fprintf(w, "  %s%s: %s\n", mark, c.Server, c.Why)
		}
	}
	if len(p.Ways) > 0 {
		fmt.Fprintln(w, "\nWays")
		for _, x := range p.Ways {
			mark, word := "   ", "not possible"
			if x.Possible {
				word = "possible"
			}
			if x.Chosen {
				mark, word = "-> ", "chosen"
			}
			fmt.Fprintf(w, "  %s%s (%s): %s\n", mark, x.Name, word, wrap(x.Why, checkWidth-10, "       "))
		}
	}
	fmt.Fprintln(w, "\nChecks")
	a.printChecks(w, p.Checks, full)
	if len(p.Steps) == 0 {
		return
	}
	fmt.Fprintln(w, "\nSteps")
	for i, s := range p.Steps {
		if i == p.NoReturnStep() {
			fmt.Fprintln(w, "  ──── point of no return: a failure above undoes itself, from here on it goes "+
				"forward only ────")
		}
		pause := "  "
		if s.InPause {
			pause = "│ "
		}
		fmt.Fprintf(w, "  %s%2d  %s\n", pause, i+1, wrap(s.Title, checkWidth, "        "))
		fmt.Fprintf(w, "  %s    if it fails: %s\n", pause, wrap(s.IfFails, checkWidth, "        "))
	}
	for _, s := range p.Steps {
		if s.InPause {
			fmt.Fprintln(w, "  │ writes pause during these steps")
			break
		}
	}
}
