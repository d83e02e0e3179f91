package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/agent"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/words"
	"crosstwin/internal/engine"
)

func (a *app) agentCommand() *cobra.Command {
	var dir, level string
	c := &cobra.Command{Use: "agent", Short: "Run the agent beside a database server", Args: exactly(0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := logger(level, false)
			if err != nil {
				return err
			}
			ag, err := agent.Open(dir, log)
			if err != nil {
				return err
			}
			ag.Version = Version
			return ag.Run(cmd.Context())
		}}
	c.PersistentFlags().StringVar(&dir, "dir", agent.DefaultDir, "the agent's directory")
	c.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	c.AddCommand(a.enrollCommand(&dir))
	return c
}

func (a *app) deadmanCommand() *cobra.Command {
	var dir string
	c := &cobra.Command{Use: "deadman", Short: "Stop the database beside an agent when its permission runs out",
		Long: "Run the process beside an agent that stops the database when its permission to take writes has run out, " +
			"whether or not the agent lives. Fencing cannot be switched on without it.",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := logger("info", false)
			if err != nil {
				return err
			}
			return agent.RunDeadman(cmd.Context(), dir, log)
		}}
	c.Flags().StringVar(&dir, "dir", agent.DefaultDir, "the agent's directory")
	return c
}

func (a *app) enrollCommand(dir *string) *cobra.Command {
	var given agent.Config
	var code string
	enroll := &cobra.Command{Use: "enroll", Short: "Exchange a one-time code for the agent's certificate",
		Long: "Exchange a one-time code for the agent's certificate.\n\nThe database server is looked for on this host " +
			"and tried as the agent will use it, before the code is spent; what is wrong then changes nothing. Enrolling " +
			"again, with a new code, changes what is given and keeps the rest.",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			if code == "" {
				return exitWith(exitUsage, "an enrolment needs --code: crosstwin server add prints one")
			}
			cfg, err := a.prepareAgent(*dir, given)
			if err != nil {
				return err
			}
			if err := a.tryServer(cmd.Context(), *dir, cfg); err != nil {
				return err
			}
			got, err := agent.Enroll(cmd.Context(), *dir, a.v.GetString("service"), code, cfg)
			if err != nil {
				return err
			}
			started, err := agent.StartOwn(cmd.Context(), *dir)
			switch {
			case err != nil:
				return fmt.Errorf("enrolled as %s of cluster %s, but its agent could not be started: %w", got.Server,
					got.Cluster, err)
			case started:
				return a.said("enrolled", got.Server, "enrolled as %s of cluster %s; its agent runs (crosstwin-agent.service)\n",
					got.Server, got.Cluster)
			}
			return a.said("enrolled", got.Server, "enrolled as %s of cluster %s. Start the agent: crosstwin agent --dir %s\n",
				got.Server, got.Cluster, *dir)
		}}
	f := enroll.Flags()
	f.StringVar(&code, "code", "", "one-time code from crosstwin server add")
	f.StringVar(&given.Listen, "listen", "",
		"address the agent listens on, by mutual TLS (default: "+agent.DefaultListen+")")
	f.StringVar(&given.Advertise, "advertise", "",
		"address at which service and peers reach the agent (default: --host with the port of --listen)")
	f.StringVar(&given.Health, "health", "",
		"address on which the agent answers load balancers, by plain HTTP and without a token (default: none)")
	f.StringVar(&given.Watchdog, "watchdog", "",
		"the kernel's watchdog, such as /dev/watchdog: it resets the host when nothing else can stop the database (default: "+
			"none)")
	f.StringVar(&given.DataDir, "data-dir", "", "data directory of the database (default: found)")
	f.StringVar(&given.BinDir, "bin-dir", "", "directory of the server's programs (default: found)")
	f.StringVar(&given.ConfigFile, "config-file", "",
		"configuration file of the server, where that is not in the data directory (default: found)")
	f.StringVar(&given.Unit, "unit", "", "service manager's unit that runs the server, or none (default: found)")
	f.StringVar(&given.StartCommand, "start-command", "",
		"command that starts the server, where no unit does (default: found); it runs as the agent's user")
	f.StringVar(&given.StopCommand, "stop-command", "",
		"command that stops it: it is run when the agent has stopped the server, so that nothing starts it again")
	f.StringVar(&given.StatusCommand, "status-command", "",
		"command that ends with 0 while the server runs, and with 3 when it does not")
	f.StringVar(&given.SocketDir, "socket-dir", "", "directory of the server's socket (default: found)")
	f.StringVar(&given.Host, "host", "", "host name or address at which peers reach the database")
	f.IntVar(&given.Port, "port", 0, "port of the database (default: found)")
	f.StringVar(&given.ListenAddresses, "listen-addresses", "", "addresses the database listens on (default: --host)")
	f.StringVar(&given.LogFile, "log-file", "",
		"log file of the server (default: that of Debian's packages, or beside the data directory)")
	f.StringVar(&given.Owner, "owner", "",
		"user of the database's files, while there are none (default: postgres or mysql, or the agent's own user)")
	f.StringToStringVar(&given.TablespaceMap, "tablespace-map", nil,
		"where a tablespace of another server goes here, such as /srv/fast=/data/fast (PostgreSQL; may be given again)")
	f.StringVar(&given.Superuser, "superuser", "",
		"database superuser for the local socket (default: postgres; for MariaDB the agent's own user)")
	return enroll
}

// prepareAgent completes what was given by what is found; of several servers a person
// chooses one.
func (a *app) prepareAgent(dir string, given agent.Config) (agent.Config, error) {
	cfg, err := agent.Prepare(dir, given)
	var many agent.SeveralError
	if errors.As(err, &many) {
		if given.DataDir, err = a.chooseServer(many.Found); err != nil {
			return cfg, err
		}
		cfg, err = agent.Prepare(dir, given)
	}
	var missing agent.MissingError
	if errors.As(err, &missing) {
		err = exitError{exitUsage, err}
	}
	return cfg, err
}

// chooseServer lists the servers of this host and asks for one of them.
func (a *app) chooseServer(found []engine.Found) (dataDir string, err error) {
	t := a.table(a.out, "", "server", "data directory", "port", "now", "data")
	for i, f := range found {
		now := "stopped"
		if f.Running {
			now = "running"
		}
		t.AppendRow(table.Row{i + 1, dialect.Of(f.Engine).Label + " " + f.Version, f.DataDir, f.Port, now,
			words.Size(f.Bytes)})
	}
	t.Render()
	if !isTerminal(os.Stdin) {
		return "", exitWith(exitUsage, "this host has %d database servers: say which one with --data-dir", len(found))
	}
	fmt.Fprintf(a.out, "Which one? (1-%d): ", len(found))
	line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	n, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || n < 1 || n > len(found) {
		return "", exitWith(exitUsage, "none of them was chosen: nothing was changed")
	}
	return found[n-1].DataDir, nil
}

// tryServer looks at the server as its agent will, and says what it sees.
func (a *app) tryServer(ctx context.Context, dir string, cfg agent.Config) error {
	o, err := agent.Try(ctx, dir, cfg)
	if err != nil {
		return fmt.Errorf("%w. The code is not used up; nothing was changed", err)
	}
	if o == nil || a.v.GetString("output") == "json" {
		return nil
	}
	now := "not running"
	switch {
	case o.Process.Accepting:
		now = "running as " + string(o.Process.Role)
	case o.Data.Empty:
		now = "no data yet"
	}
	fmt.Fprintf(a.out, "%s %s in %s: %s, port %d\n", dialect.Of(cfg.Engine).Label, o.Process.Version, cfg.DataDir, now,
		cfg.Port)
	if cfg.ConfigFile != "" {
		fmt.Fprintf(a.out, "  configuration  %s\n", cfg.ConfigFile)
	}
	fmt.Fprintf(a.out, "  started by     %s\n", cfg.StartedBy())
	fmt.Fprintf(a.out, "  data           %s\n", sizeOrUnknown(o.Data.Bytes))
	fmt.Fprintf(a.out, "  agent          %s\n", cfg.Advertise)
	return nil
}
