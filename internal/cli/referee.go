package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"crosstwin/internal/agent"
)

func (a *app) refereeCommand() *cobra.Command {
	var dir, level string
	c := &cobra.Command{Use: "referee", Short: "Run the referee of one or more clusters on a host without a database",
		Long: "Run the referee of one or more clusters: an agent without a database, which notes terms and counts towards " +
			"the majority, so that two servers can fail over safely. It serves every cluster that was enrolled in its " +
			"directory, and takes up those that are enrolled later.",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := logger(level, false)
			if err != nil {
				return err
			}
			return agent.RunSeats(cmd.Context(), agent.Referees, dir, Version, log)
		}}
	c.PersistentFlags().StringVar(&dir, "dir", agent.RefereeDir, "the referee's directory")
	c.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	c.AddCommand(a.enrollReferee(&dir))
	return c
}

func (a *app) enrollReferee(dir *string) *cobra.Command {
	var given agent.Config
	var code string
	c := &cobra.Command{Use: "enroll", Short: "Exchange a one-time code for the referee's certificate of one cluster",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			if code == "" {
				return exitWith(exitUsage, "an enrolment needs --code: crosstwin server add --referee prints one")
			}
			given.Referee = true
			got, err := agent.EnrollSeat(cmd.Context(), agent.Referees, *dir, a.v.GetString("service"), code, given)
			var missing agent.MissingError
			if errors.As(err, &missing) {
				return exitError{exitUsage, err}
			}
			if err != nil {
				return err
			}
			started, err := agent.StartSeat(cmd.Context(), agent.Referees, *dir)
			next := "crosstwin-referee.service runs"
			switch {
			case err != nil:
				return err
			case !started:
				next = "Where it does not run yet, start it: crosstwin referee --dir " + *dir
			}
			return a.said("enrolled", got.Server, "enrolled as %s, referee of cluster %s, at %s. %s\n", got.Server, got.Cluster,
				got.Advertise, next)
		}}
	f := c.Flags()
	f.StringVar(&code, "code", "", "one-time code from crosstwin server add --referee")
	f.StringVar(&given.Listen, "listen", "",
		"address it listens on for this cluster, by mutual TLS (default: the first free port from 7730 on)")
	f.StringVar(&given.Advertise, "advertise", "",
		"address at which the service reaches it (default: --host with that port)")
	f.StringVar(&given.Host, "host", "", "host name or address at which the service reaches this host")
	return c
}
