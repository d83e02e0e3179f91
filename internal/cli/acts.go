package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/words"
)

// actCommands are the DBA's acts: each shows its plan, asks, and follows its
// operation to the end.
func (a *app) actCommands() []*cobra.Command {
	var req operation.Request
	act := func(kind operation.Kind, use, short string, nargs int, fill func(args []string)) *cobra.Command {
		return a.actCommand(use, short, nargs, func(args []string) (operation.Request, error) {
			req.Kind = kind
			if fill != nil {
				fill(args)
			}
			return req, nil
		})
	}
	second := func(args []string) { req.Server = args[1] }
	seed := act(operation.Seed, "seed CLUSTER SERVER", "Make a replica: copy the primary and follow it", 2, second)
	seed.Flags().BoolVar(&req.Replace, "replace", false, "remove the data that is on the server")
	seed.Flags().StringVar(&req.Way, "way", "", "copy, or dump: load statements into a server of another layout (MariaDB)")
	switchover := act(operation.Switchover, "switchover CLUSTER", "Move the primary role to a replica, without loss",
		1, nil)
	switchover.Flags().StringVar(&req.To, "to", "", "server that becomes primary (default: the best by rank)")
	failover := act(operation.Failover, "failover CLUSTER", "Make a replica primary without the old primary's help",
		1, nil)
	failover.Flags().StringVar(&req.To, "to", "",
		"server that becomes primary (default: the one that holds most); the dead primary's own name starts it again")
	failover.Flags().StringSliceVar(&req.ConfirmStopped, "confirm-stopped", nil,
		"servers that you have verified to be off although their agents do not answer")
	rejoin := act(operation.Rejoin, "rejoin CLUSTER SERVER", "Bring a stopped, fenced or adrift server back as a replica",
		2, second)
	rejoin.Flags().StringVar(&req.Way, "way", "", "follow, rewind or rebuild (default: the first that is possible)")
	compare := act(operation.Compare, "compare CLUSTER", "Compare all tables on all servers at one position", 1, nil)
	for _, c := range []*cobra.Command{seed, switchover, failover, rejoin} {
		c.Flags().BoolVar(&req.Compare, "compare", false, "compare all tables at the end")
	}
	return []*cobra.Command{seed, switchover, failover, rejoin, compare, a.tuneCommand(), a.followCommand(),
		a.restartCommand(), a.encryptCommand(), a.adoptCommand()}
}

// actCommand makes a command whose plan is shown before it is carried out.
func (a *app) actCommand(use, short string, nargs int,
	request func(args []string) (operation.Request, error)) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: exactly(nargs), RunE: func(cmd *cobra.Command, args []string) error {
		req, err := request(args)
		if err != nil {
			return err
		}
		return a.act(cmd, args[0], req)
	}}
	planFlags(c)
	c.Flags().String("accept-loss", "",
		"name of the cluster or server that the plan asks for: accept the loss or removal of data that the plan names")
	return c
}

// planFlags are those of every command that shows a plan.
func planFlags(c *cobra.Command) {
	c.Flags().Bool("preview", false, "show the plan and change nothing")
	c.Flags().BoolP("yes", "y", false, "do not ask; what discards data still needs --accept-loss")
	c.Flags().Bool("detach", false, "return at once with the operation's number")
}

// exactly is cobra.ExactArgs with a message that names what is missing.
func exactly(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != n {
			return exitWith(exitUsage, "%d arguments given, %d needed: %s", len(args), n, usageOf(cmd))
		}
		return nil
	}
}

// actFlags are the flags that every act has.
type actFlags struct {
	preview, yes, detach bool
	acceptLoss           string
}

func flagsOf(cmd *cobra.Command) (f actFlags) {
	f.preview, _ = cmd.Flags().GetBool("preview")
	f.yes, _ = cmd.Flags().GetBool("yes")
	f.detach, _ = cmd.Flags().GetBool("detach")
	f.acceptLoss, _ = cmd.Flags().GetString("accept-loss")
	return f
}

// planChanges bounds how often a plan may change between being shown and being
// started before the command gives up.
const planChanges = 5

// usageOf names the whole command with its arguments.
func usageOf(cmd *cobra.Command) string {
	_, arguments, _ := strings.Cut(cmd.Use, " ")
	return strings.TrimSpace(cmd.CommandPath() + " " + arguments)
}

func (a *app) act(cmd *cobra.Command, cluster string, req operation.Request) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	f := flagsOf(cmd)
	p, err := c.Preview(cmd.Context(), cluster, req)
	if err != nil {
		return err
	}
	if f.preview {
		return a.preview(&p)
	}
	if _, refused := p.Refused(); refused {
		return a.refusedAct(cmd, c, cluster, req, &p)
	}
	if !f.yes && !isTerminal(os.Stdin) {
		return exitWith(exitUsage, "no terminal for confirmation: check the plan with --preview, then add --yes")
	}
	a.showForAct(&p, f.yes)
	for range planChanges {
		if err := a.confirm(&p, f); err != nil {
			return err
		}
		req.ConfirmName = p.ConfirmName
		op, err := c.Begin(cmd.Context(), cluster, req, p.Digest)
		var problem apitype.Problem
		switch {
		case err == nil && f.detach:
			return a.show(op, func(w io.Writer) {
				fmt.Fprintf(w, "operation %d began: crosstwin operation follow %d\n", op.ID,
					op.ID)
			})
		case err == nil:
			return a.follow(cmd, op.ID)
		case errors.As(err, &problem) && problem.Code == apitype.CodeChanged && problem.Plan != nil:
			a.showChanges(&p, problem.Plan)
			p = *problem.Plan
		default:
			return err
		}
	}
	return exitWith(exitRefused, "the plan keeps changing: nothing was changed; look at the cluster: crosstwin status %s",
		cluster)
}

func (a *app) preview(p *apitype.Plan) error {
	if err := a.show(p, func(w io.Writer) { a.printPlan(w, &p.Plan, true) }); err != nil {
		return err
	}
	if _, refused := p.Refused(); refused {
		return exitWith(exitRefused, "as things are it would be refused")
	}
	return nil
}

// refusedAct sends a request whose plan is refused all the same: the refusal
// belongs into the records.
func (a *app) refusedAct(cmd *cobra.Command, c *client.Client, cluster string, req operation.Request,
	p *apitype.Plan) error {
	_, err := c.Begin(cmd.Context(), cluster, req, p.Digest)
	var problem apitype.Problem
	switch {
	case errors.As(err, &problem) && problem.Code == apitype.CodeRefused:
		if problem.Plan != nil && a.v.GetString("output") == "table" {
			a.printPlan(a.err, &operation.Plan{Summary: problem.Plan.Summary, Checks: problem.Plan.Checks,
				Choices: problem.Plan.Choices, Ways: problem.Plan.Ways}, false)
			fmt.Fprintln(a.err)
		}
		return exitWith(exitRefused, "refused, nothing was changed: %s", problem.Detail)
	case errors.As(err, &problem) && problem.Code == apitype.CodeChanged:
		reason, _ := p.Refused()
		return exitWith(exitRefused, "refused, nothing was changed: %s; the cluster has changed meanwhile, so ask again",
			reason)
	case err == nil:
		return exitWith(exitNeedsYou, "the cluster changed between the plan and its start: see crosstwin operation list")
	}
	return err
}

func (a *app) showForAct(p *apitype.Plan, yes bool) {
	if a.v.GetString("output") != "table" || a.v.GetBool("quiet") {
		return
	}
	shown := p.Plan
	if yes {
		shown.Steps = nil // they are shown as they happen
	}
	a.printPlan(a.out, &shown, false)
	fmt.Fprintln(a.out)
}

// showChanges says what differs between the plan that was shown and the one
// that stands now.
func (a *app) showChanges(shown, now *apitype.Plan) {
	fmt.Fprintln(a.err, "The plan has changed since it was shown; nothing was changed yet:")
	for _, c := range operation.Changes(&shown.Plan, &now.Plan) {
		fmt.Fprintf(a.err, "  - %s\n", wrap(c, checkWidth, "    "))
	}
}

// confirm asks before an act. One that discards data takes the typed name, or
// --accept-loss with that name: --yes alone never accepts a loss.
func (a *app) confirm(p *apitype.Plan, f actFlags) error {
	switch {
	case p.ConfirmName != "" && f.acceptLoss == p.ConfirmName:
		return nil
	case p.ConfirmName != "" && f.acceptLoss != "":
		return exitWith(exitRefused,
			"--accept-loss %s does not name what this plan discards: it takes --accept-loss %s; nothing was changed",
			f.acceptLoss, p.ConfirmName)
	case p.ConfirmName != "" && (f.yes || !isTerminal(os.Stdin)):
		return exitWith(exitRefused,
			"this discards %s: --yes does not accept that; to accept it add --accept-loss %s; nothing was changed", p.Destroys,
			p.ConfirmName)
	case p.ConfirmName == "" && f.yes:
		return nil
	}
	return a.ask(&p.Plan)
}

// ask asks before an act; for one that discards data the name is typed.
func (a *app) ask(p *operation.Plan, question ...string) error {
	in := bufio.NewReader(os.Stdin)
	if p.ConfirmName != "" {
		fmt.Fprintf(a.out, "Type %s to do this: ", p.ConfirmName)
	} else {
		fmt.Fprint(a.out, cmp.Or(strings.Join(question, " "), "Do this? (yes/no): "))
	}
	line, err := in.ReadString('\n')
	line = strings.TrimSpace(line)
	if p.ConfirmName != "" && line == p.ConfirmName || p.ConfirmName == "" && (line == "yes" || line == "y") {
		return nil
	}
	if err != nil && line == "" {
		return exitWith(exitRefused, "no answer: nothing was changed")
	}
	return exitWith(exitRefused, "not confirmed: nothing was changed")
}

// servicePatience is how long a follower waits for a service that went away.
const servicePatience = 60 * time.Second

// follow shows an operation's steps as they happen and ends with its outcome.
func (a *app) follow(cmd *cobra.Command, id int64) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	f := follower{a: a, quiet: a.v.GetBool("quiet") || a.v.GetString("output") != "table", live: isTerminal(a.out)}
	op, err := c.Follow(cmd.Context(), id, servicePatience, f.report)
	if err != nil {
		if cmd.Context().Err() != nil {
			return exitWith(exitNeedsYou, "not followed any longer; operation %d goes on: crosstwin operation follow %d", id, id)
		}
		return err
	}
	f.clear()
	if err := a.show(op, func(w io.Writer) {
		if op.Outcome == operation.OutcomeFinished {
			fmt.Fprintf(w, "%s: %s\n", op.Outcome, op.Message)
		}
	}); err != nil {
		return err
	}
	return outcomeError(op)
}

// follower prints each step once it has ended, and on a terminal keeps a live
// line for the one under way.
type follower struct {
	a       *app
	quiet   bool
	live    bool
	printed int
	undone  map[int]bool
	onLine  bool
}

func (f *follower) clear() {
	if f.onLine {
		fmt.Fprint(f.a.out, "\r\x1b[K")
		f.onLine = false
	}
}

func (f *follower) report(op operation.Operation) {
	if f.quiet {
		return
	}
	if f.undone == nil {
		f.undone = map[int]bool{}
		fmt.Fprintf(f.a.out, "operation %d, term %d\n", op.ID, op.Term)
	}
	for f.printed < len(op.Steps) {
		s := op.Steps[f.printed]
		if s.State == operation.StepWaiting || s.State == operation.StepRunning || s.EndedAt == nil {
			break
		}
		f.clear()
		f.line(op, s)
		f.printed++
	}
	for i, s := range op.Steps {
		if s.State != operation.StepUndone || f.undone[i] {
			continue
		}
		f.undone[i] = true
		f.clear()
		for _, u := range op.Plan.Steps[i].Undo {
			fmt.Fprintf(f.a.out, "     undone: %s\n", u.Title)
		}
	}
	if f.live && op.State != operation.Ended {
		f.clear()
		fmt.Fprint(f.a.out, liveLine(op))
		f.onLine = true
	}
}

func (f *follower) line(op operation.Operation, s operation.StepRecord) {
	p := op.Plan.Steps[s.Seq]
	took := ""
	if s.StartedAt != nil && s.EndedAt != nil {
		took = words.Span(s.EndedAt.Sub(*s.StartedAt).Seconds())
	}
	if s.Seq == op.Plan.NoReturnStep() {
		fmt.Fprintln(f.a.out, "  ──── point of no return ────")
	}
	bar := "  "
	if p.InPause {
		bar = "│ "
	}
	fmt.Fprintf(f.a.out, "%s%2d  %-11s %9s  %s\n", bar, s.Seq+1, s.State, took, p.Title)
	if s.Error != "" {
		fmt.Fprintf(f.a.out, "       %s\n", wrap(s.Error, checkWidth, "       "))
	}
}

func liveLine(op operation.Operation) string {
	for i, s := range op.Steps {
		if s.State != operation.StepRunning {
			continue
		}
		text := fmt.Sprintf("  %2d  %s", i+1, op.Plan.Steps[i].Title)
		if p := s.Progress; p != nil {
			if p.TotalBytes > 0 {
				text += fmt.Sprintf(": %s of %s (%d %%), %s/s", words.Size(p.DoneBytes), words.Size(p.TotalBytes),
					100*p.DoneBytes/p.TotalBytes, words.Size(int64(p.BytesPerSec)))
				if p.SecondsLeft >= 0 {
					text += ", " + words.Span(p.SecondsLeft) + " left"
				}
			} else if p.Note != "" {
				text += ": " + p.Note
			}
		}
		return text
	}
	return ""
}
