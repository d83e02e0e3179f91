package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"
	"golang.org/x/term"
	"sigs.k8s.io/yaml"

	"crosstwin/internal/api"
	"crosstwin/internal/client"
	"crosstwin/internal/core/history"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/daemon"
	"crosstwin/internal/pki"
)

// readFact reads a result that an operation kept.
func readFact(op operation.Operation, kind verb.FactKind, into any) error {
	kept, err := op.ReadFact(verb.Fact{Kind: kind}, into)
	if err == nil && !kept {
		return fmt.Errorf("operation %d kept no %s", op.ID, kind)
	}
	return err
}

func logger(level string, asJSON bool) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, exitWith(exitUsage, "there is no log level %q: the levels are debug, info, warn and error", level)
	}
	o := &slog.HandlerOptions{Level: l}
	if asJSON {
		return slog.New(slog.NewJSONHandler(os.Stderr, o)), nil
	}
	return slog.New(slog.NewTextHandler(os.Stderr, o)), nil
}

// dataHome is the default directory for a service's records.
func dataHome() string {
	if os.Geteuid() == 0 {
		return "/var/lib/crosstwin"
	}
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, "crosstwin")
	}
	home, _ := os.UserHomeDir()
	return filepath.Join(home, ".local", "share", "crosstwin")
}

func (a *app) serveCommand() *cobra.Command {
	v := viper.New()
	c := &cobra.Command{Use: "serve", Short: "Run the service", Args: exactly(0),
		Long: "Run the service: API, records, watching, operations.\n\nEvery flag can also be set in the environment " +
			"(CROSSTWIN_SERVE_LISTEN) and in the YAML file given with --config.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			v.SetEnvPrefix("crosstwin_serve")
			v.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
			v.AutomaticEnv()
			v.BindPFlags(cmd.Flags())
			if f := v.GetString("config"); f != "" {
				v.SetConfigFile(f)
				v.SetConfigType("yaml")
				if err := v.ReadInConfig(); err != nil {
					return exitWith(exitUsage, "configuration %s: %v", f, err)
				}
				if err := knownKeys(v, cmd); err != nil {
					return err
				}
			}
			return serve(cmd.Context(), v)
		}}
	f := c.Flags()
	f.String("dir", dataHome(), "directory of the records")
	f.String("listen", "127.0.0.1:7710", "address to listen on")
	f.Bool("tls", false, "serve HTTPS with a certificate of the service's own authority")
	f.String("tls-cert", "", "certificate file for HTTPS")
	f.String("tls-key", "", "key file for HTTPS")
	f.StringSlice("tls-host", nil, "names and addresses for the certificate that --tls makes")
	f.String("alert-command", "", "program that gets each alert as JSON on its standard input")
	f.StringSlice("deliver-to", nil, "networks (such as 127.0.0.0/8) that alert channels may lead to although they are "+
		"of this machine or its link")
	f.Duration("keep-seconds", time.Hour, "how long a sample of each second is kept")
	f.Duration("keep-tens", 24*time.Hour, "how long a sample of each ten seconds is kept")
	f.Duration("keep-minutes", 30*24*time.Hour, "how long a sample of each minute is kept")
	f.Duration("keep-audit", 400*24*time.Hour, "how long the audit trail is kept")
	f.Duration("keep-rows", 90*24*time.Hour,
		"how long ended operations keep what they hold of rows: values in tails, differences")
	f.Duration("keep-tails", 0,
		"how long saved tails stay on their hosts; 0: until somebody removes them, because one may be the only copy")
	f.String("config", "", "YAML file with any of these settings")
	f.String("log-level", "info", "debug, info, warn or error")
	f.Bool("log-json", false, "log as JSON")
	return c
}

func knownKeys(v *viper.Viper, cmd *cobra.Command) error {
	for _, k := range v.AllKeys() {
		if cmd.Flags().Lookup(k) == nil {
			return exitWith(exitUsage, "configuration %s: there is no setting %q", v.ConfigFileUsed(), k)
		}
	}
	return nil
}

// serve runs the service until ctx ends.
func serve(ctx context.Context, v *viper.Viper) error {
	log, err := logger(v.GetString("log-level"), v.GetBool("log-json"))
	if err != nil {
		return err
	}
	o := daemon.Options{Dir: v.GetString("dir"), Listen: v.GetString("listen"), TLS: v.GetBool("tls"),
		TLSHosts: v.GetStringSlice("tls-host"), Cert: v.GetString("tls-cert"), Key: v.GetString("tls-key"),
		AlertCommand: v.GetString("alert-command"), Version: Version, Killpoint: killpoint()}
	if o.Keep, err = keepOf(v); err != nil {
		return err
	}
	if o.KeepAudit = v.GetDuration("keep-audit"); o.KeepAudit < 24*time.Hour {
		return exitWith(exitUsage, "keep-audit is %s: it is at least a day", o.KeepAudit)
	}
	if o.KeepRows = v.GetDuration("keep-rows"); o.KeepRows < 24*time.Hour {
		return exitWith(exitUsage, "keep-rows is %s: it is at least a day", o.KeepRows)
	}
	if o.KeepTails = v.GetDuration("keep-tails"); o.KeepTails != 0 && o.KeepTails < 24*time.Hour {
		return exitWith(exitUsage, "keep-tails is %s: it is at least a day, or 0 for ever", o.KeepTails)
	}
	for _, text := range v.GetStringSlice("deliver-to") {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			return exitWith(exitUsage, "--deliver-to %s is no network: it is like 127.0.0.0/8", text)
		}
		o.DeliverTo = append(o.DeliverTo, network)
	}
	err = daemon.Serve(ctx, o, log)
	var usage daemon.UsageError
	if errors.As(err, &usage) {
		return exitError{exitUsage, err}
	}
	return err
}

// keepOf reads for how long samples are kept; each step longer than the finer.
func keepOf(v *viper.Viper) (history.Keep, error) {
	k := history.Keep{}
	last := time.Duration(0)
	for i, name := range []string{"keep-seconds", "keep-tens", "keep-minutes"} {
		d := v.GetDuration(name)
		if d < time.Minute || d < last {
			return nil, exitWith(exitUsage, "%s is %s: it is at least a minute, and at least as long as the finer ones", name, d)
		}
		k[history.Steps[i]] = int64(d.Seconds())
		last = d
	}
	return k, nil
}

// killpoint ends the process at a boundary that a test names, as a crash
// would: CROSSTWIN_TEST_KILL=KIND/STEP/before or …/after.
func killpoint() func(kind operation.Kind, step, where string) {
	want := os.Getenv("CROSSTWIN_TEST_KILL")
	if want == "" {
		return nil
	}
	return func(kind operation.Kind, step, where string) {
		if string(kind)+"/"+step+"/"+where == want {
			syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
	}
}

// openapiCommand prints the description of the API, which the console's client
// is generated from.
func (a *app) openapiCommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the OpenAPI document of the service's API", Hidden: true,
		Args: exactly(0), RunE: func(*cobra.Command, []string) error {
			b, err := api.Document(Version)
			if err == nil {
				fmt.Fprintf(a.out, "%s\n", b)
			}
			return err
		}}
}

// printLink prints an address that opens the console once.
func (a *app) printLink(ctx context.Context) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	link, err := c.SessionLink(ctx)
	if err != nil {
		return err
	}
	return a.said("link", link, "%s\n(it opens the console once, within ten minutes)\n", link)
}

func (a *app) loginCommand() *cobra.Command {
	var file string
	var link bool
	c := &cobra.Command{Use: "login", Short: "Keep the service's address and an access token for later commands",
		Args: exactly(0), RunE: func(cmd *cobra.Command, _ []string) error {
			if link {
				return a.printLink(cmd.Context())
			}
			token := a.v.GetString("token")
			if !cmd.Flags().Changed("token") && file == "" {
				file = a.ownService()
			}
			switch {
			case file != "":
				b, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				token = strings.TrimSpace(string(b))
			case !cmd.Flags().Changed("token") && isTerminal(os.Stdin):
				fmt.Fprint(a.out, "Access token: ")
				b, err := term.ReadPassword(int(os.Stdin.Fd()))
				fmt.Fprintln(a.out)
				if err != nil {
					return err
				}
				token = strings.TrimSpace(string(b))
			case !cmd.Flags().Changed("token"):
				line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
				token = strings.TrimSpace(line)
			}
			base, ca := a.v.GetString("service"), a.v.GetString("ca")
			cl, err := client.New(base, token, ca)
			if err != nil {
				return exitError{exitUsage, err}
			}
			v, err := cl.Version(cmd.Context())
			for end := time.Now().Add(startingLimit); errors.Is(err, syscall.ECONNREFUSED) && time.Now().Before(end); {
				time.Sleep(200 * time.Millisecond)
				v, err = cl.Version(cmd.Context())
			}
			if err != nil {
				return err
			}
			b, err := yaml.Marshal(map[string]string{"service": base, "token": token, "ca": ca})
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(loginFile()), 0o700); err != nil {
				return err
			}
			if err := os.WriteFile(loginFile(), b, 0o600); err != nil {
				return err
			}
			// Told last: the service removes the file of its first token once that is kept.
			as, err := cl.Login(cmd.Context())
			if err != nil {
				return err
			}
			return a.said("logged_in_at", base, "logged in at %s (version %s) as %s\n", base, v.Version, as.Name)
		}}
	c.Flags().StringVar(&file, "token-file", "", "file that holds the token")
	c.Flags().BoolVar(&link, "link", false, "print an address that opens the console once, with the token kept before")
	return c
}

// startingLimit is how long a login waits for a service that is being started.
const startingLimit = 3 * time.Second

// ownService returns the file of the first token of this host's service, where that can be
// read, and has its authority alone trusted: nobody else gets the token.
func (a *app) ownService() string {
	token := filepath.Join(dataHome(), daemon.TokenFile)
	if a.v.GetString("ca") != "" || !strings.HasPrefix(a.v.GetString("service"), "https://") {
		return ""
	}
	f, err := os.Open(token) // #nosec G304 -- its name is fixed
	if err != nil {
		return ""
	}
	f.Close()
	a.v.Set("ca", pki.CertificateIn(dataHome()))
	return token
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Show the version of this program, and of the service if it answers",
		Args: exactly(0), RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			out := map[string]string{"program": Version}
			ctx, cancel := context.WithTimeout(cmd.Context(), 2*time.Second)
			defer cancel()
			if v, err := c.Version(ctx); err == nil {
				out["service"] = v.Version
			}
			return a.show(out, func(w io.Writer) {
				fmt.Fprintf(w, "crosstwin %s", Version)
				if s := out["service"]; s != "" {
					fmt.Fprintf(w, ", service %s", s)
				}
				fmt.Fprintln(w)
			})
		})}
}
