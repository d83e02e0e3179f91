// Package cli is the command line. It talks to the service through package
// client only, shows the same words as every other face, and never decides
// anything. Exit codes: 0 done, 2 wrong usage, 3 refused and nothing changed,
// 4 failed and undone, 5 needs you, 6 the service cannot be reached or did not
// let you in.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"golang.org/x/term"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/operation"
)

// Version of this build, set by the linker.
var Version = "dev"

// The exit codes.
const (
	exitDone        = 0
	exitUsage       = 2
	exitRefused     = 3
	exitUndone      = 4
	exitNeedsYou    = 5
	exitUnreachable = 6
)

// exitError carries an exit code.
type exitError struct {
	code int
	err  error
}

func (e exitError) Error() string { return e.err.Error() }
func (e exitError) Unwrap() error { return e.err }

func exitWith(code int, format string, args ...any) error {
	return exitError{code, fmt.Errorf(format, args...)}
}

// defaultService is where a service listens unless told otherwise.
const defaultService = "http://127.0.0.1:7710"

// app is what every command needs.
type app struct {
	v   *viper.Viper
	out io.Writer
	err io.Writer
}

// Main runs the command line and gives the exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{v: viper.New(), out: os.Stdout, err: os.Stderr}
	root := a.root()
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	code := exitCode(err)
	if text := explain(err); text != "" {
		fmt.Fprintln(a.err, "crosstwin: "+text)
	}
	return code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use: "crosstwin", Short: "Keep a database primary and its replicas identical", SilenceUsage: true,
		SilenceErrors: true, Version: Version,
		Long: "Cross Twin keeps a PostgreSQL or MariaDB primary and its replicas identical: it seeds\nreplicas, watches " +
			"them, moves the primary role, and brings an old primary back without\nlosing or forking data.",
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			switch o := a.v.GetString("output"); o {
			case "table", "json", "yaml":
				return nil
			default:
				return exitWith(exitUsage, "there is no output form %q: the forms are table, json and yaml", o)
			}
		},
	}
	f := root.PersistentFlags()
	f.StringP("output", "o", "table", "form of the answer: table, json or yaml")
	f.String("service", defaultService, "address of the service")
	f.String("token", "", "access token")
	f.String("ca", "", "file with the authority of an https service")
	f.BoolP("quiet", "q", false, "print only results and errors")
	f.Bool("no-color", false, "no colours")
	a.v.SetEnvPrefix("crosstwin")
	a.v.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	a.v.AutomaticEnv()
	a.v.BindPFlags(f)
	a.v.SetConfigFile(loginFile())
	a.v.SetConfigType("yaml")
	a.v.ReadInConfig() // absent before the first login
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return exitError{exitUsage, err} })
	root.AddCommand(a.serveCommand(), a.agentCommand(), a.deadmanCommand(), a.refereeCommand(), a.gateCommand(),
		a.demoCommand(), a.tourCommand(), a.simulateCommand(), a.loginCommand(), a.versionCommand(), a.openapiCommand(),
		a.clusterCommand(), a.serverCommand(), a.checkCommand(), a.statusCommand(), a.watchCommand(), a.lagCommand(),
		a.connectCommand(),
		a.logCommand(), a.conflictsCommand(), a.driftCommand(), a.tailCommand(), a.operationCommand(), a.alertCommand(),
		a.recordsCommand(), a.authorityCommand(), a.tokenCommand(), a.auditCommand())
	root.AddCommand(a.actCommands()...)
	root.AddCommand(a.docsCommand())
	a.withHelp(root)
	return root
}

// loginFile is where login keeps address and token.
func loginFile() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		dir = "."
	}
	return filepath.Join(dir, "crosstwin", "login.yaml")
}

func (a *app) client() (*client.Client, error) {
	c, err := client.New(a.v.GetString("service"), a.v.GetString("token"), a.v.GetString("ca"))
	if err != nil {
		return nil, exitError{exitUsage, err}
	}
	return c, nil
}

// exitCode returns the exit code for an error.
func exitCode(err error) int {
	var e exitError
	var p apitype.Problem
	switch {
	case errors.As(err, &e):
		return e.code
	case errors.Is(err, client.ErrUnreachable):
		return exitUnreachable
	case errors.As(err, &p):
		switch p.Code {
		case apitype.CodeUnauthorized, apitype.CodeForbidden:
			return exitUnreachable
		case apitype.CodeRefused, apitype.CodeConfirm, apitype.CodeTaken:
			return exitRefused
		case apitype.CodeBadInput, apitype.CodeNotFound:
			return exitUsage
		}
		return exitRefused
	case strings.HasPrefix(err.Error(), "unknown command"), strings.Contains(err.Error(), "arg(s)"),
		strings.Contains(err.Error(), "required flag"):
		return exitUsage
	}
	return 1
}

// explain adds to an error what to do next.
func explain(err error) string {
	text := err.Error()
	if errors.Is(err, client.ErrUnreachable) {
		return text +
			"\nStart it with: crosstwin serve (or: systemctl start crosstwin); give another address with --service or " +
			"CROSSTWIN_SERVICE"
	}
	if exitCode(err) == exitUsage && strings.HasPrefix(text, "unknown command") {
		return text + "\nSee: crosstwin --help"
	}
	return text
}

// outcomeError turns an ended operation into the command's end.
func outcomeError(op operation.Operation) error {
	switch op.Outcome {
	case operation.OutcomeFinished:
		return nil
	case operation.OutcomeRefused:
		return exitWith(exitRefused, "refused, nothing was changed: %s", op.Message)
	case operation.OutcomeUndone:
		return exitWith(exitUndone, "failed and undone: %s", op.Message)
	}
	return exitWith(exitNeedsYou, "needs you: %s", op.Message)
}

// isTerminal reports whether f is a terminal.
func isTerminal(f any) bool {
	x, ok := f.(*os.File)
	return ok && term.IsTerminal(int(x.Fd()))
}

// color reports whether colours may be used on the output.
func (a *app) color() bool {
	return !a.v.GetBool("no-color") && os.Getenv("NO_COLOR") == "" && isTerminal(a.out)
}
