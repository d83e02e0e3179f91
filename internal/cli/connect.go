package cli

import (
	"cmp"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"crosstwin/internal/client"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

// connection is where an application connects.
type connection struct {
	Cluster string   `json:"cluster"`
	Reader  bool     `json:"reader"`
	Servers []string `json:"servers"` // in the order in which they stand in Text
	Format  string   `json:"format"`
	Text    string   `json:"text"`
	Note    string   `json:"note,omitempty"`
}

func (a *app) connectCommand() *cobra.Command {
	var t dialect.Target
	var direct bool
	format := string(dialect.URI)
	c := &cobra.Command{Use: "connect CLUSTER", Short: "Print where an application connects, ready to paste",
		Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			out, err := connectionOf(v, dialect.Format(format), t, direct)
			if err != nil {
				return exitError{exitUsage, err}
			}
			return a.show(out, func(w io.Writer) {
				fmt.Fprintln(w, out.Text)
				if out.Note != "" && !a.v.GetBool("quiet") {
					fmt.Fprintln(a.err, wrap(out.Note, lineWidth, ""))
				}
			})
		})}
	c.Long = "Print where an application connects, ready to paste: to the server that takes writes, or with --reader to " +
		"one that is kept for readers. There is no password in it.\n\nWhere the cluster has gates it is to these, which " +
		"lead to the right server also after a change of the primary. Otherwise, or with --direct, PostgreSQL's clients " +
		"are given all servers, and look for the right one themselves each time they connect, also after a change of the " +
		"primary. MariaDB's are given the " +
		"one that is the right one now; a balancer that asks the agents leads them to it later as well (docs/balancers.md)."
	c.Flags().BoolVar(&t.Reader, "reader", false, "for reading: a replica that is not hidden, nor delayed")
	c.Flags().BoolVar(&direct, "direct", false, "to the servers themselves, past the gates")
	c.Flags().StringVar(&format, "format", format, "uri, env (for a shell), jdbc, or dsn (of the engine's library)")
	c.Flags().StringVar(&t.User, "user", "", "the application's user")
	c.Flags().StringVar(&t.Database, "database", "", "the application's database")
	return c
}

// connectionOf picks the servers: the primary first for who writes, with those that may take its
// place behind it; for who reads those that are fit for it, the primary last.
func connectionOf(v view.View, f dialect.Format, t dialect.Target, direct bool) (connection, error) {
	out := connection{Cluster: v.Cluster, Reader: t.Reader, Format: string(f)}
	if !direct {
		if through, found, err := throughGates(v, f, t); found || err != nil {
			return through, err
		}
	}
	servers := slices.Clone(v.Servers)
	primary := func(s view.Server) int {
		if (s.Name == v.Primary) == t.Reader {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(servers, func(a, b view.Server) int {
		return cmp.Or(cmp.Compare(primary(a), primary(b)), cmp.Compare(a.Health.Severity(), b.Health.Severity()),
			cmp.Compare(a.Rank, b.Rank))
	})
	for _, s := range servers {
		fit := s.Name == v.Primary || !t.Reader && s.Rank > 0 || t.Reader && !s.Hidden && s.DelaySeconds == 0
		if o := s.Observation; fit && o != nil && o.Host.Address != (observation.Address{}) {
			t.Servers, out.Servers = append(t.Servers, o.Host.Address), append(out.Servers, s.Name)
		}
	}
	d := dialect.Of(v.Engine)
	var err error
	if out.Text, err = d.Connection(f, t); err != nil {
		return out, fmt.Errorf("where to connect to %s: %w", v.Cluster, err)
	}
	if d.ManyHosts {
		return out, nil
	}
	out.Servers = out.Servers[:1]
	out.Note = fmt.Sprintf("This is %s, which %s now. Clients of %s do not look for another server themselves: print it "+
		"again after a change of the primary, or have a balancer ask the agents.", words.List(out.Servers),
		map[bool]string{false: "takes writes", true: "is fit for readers"}[t.Reader], d.Label)
	if p := v.Find(v.Primary); !t.Reader && (p == nil || p.Health != view.TakesWrites) {
		out.Note = strings.Replace(out.Note, "which takes writes now", "which is to take writes and does not now", 1)
	}
	return out, nil
}

// throughGates is where an application connects by way of the cluster's gates; false: there is none
// with such an address.
func throughGates(v view.View, f dialect.Format, t dialect.Target) (out connection, found bool, err error) {
	out = connection{Cluster: v.Cluster, Reader: t.Reader, Format: string(f)}
	t.Gates = true
	for _, g := range v.Gates {
		if g.Shows == nil {
			continue
		}
		addresses := g.Shows.Writer
		if t.Reader {
			addresses = g.Shows.Reader
		}
		for _, a := range addresses {
			if at, ok := gateAddress(a, g.Agent); ok {
				t.Servers, out.Servers = append(t.Servers, at), append(out.Servers, g.Name)
				break
			}
		}
	}
	if len(t.Servers) == 0 {
		return out, false, nil
	}
	d := dialect.Of(v.Engine)
	if out.Text, err = d.Connection(f, t); err != nil {
		return out, true, fmt.Errorf("where to connect to %s: %w", v.Cluster, err)
	}
	if rest := out.Servers[1:]; !d.ManyHosts && f != dialect.JDBC && len(rest) > 0 {
		out.Note = fmt.Sprintf("This is gate %s. Clients of %s are told of one address; the other gates of %s are %s: "+
			"crosstwin gate list %[3]s", out.Servers[0], d.Label, v.Cluster, words.List(rest))
		out.Servers = out.Servers[:1]
	}
	return out, true, nil
}

// gateAddress is a gate's address as an application on another host dials it: one that listens on
// every address of its host is reached where the service reaches it.
func gateAddress(listens, agent string) (a observation.Address, ok bool) {
	host, port, err := net.SplitHostPort(listens)
	if err != nil {
		return a, false
	}
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		if host, _, err = net.SplitHostPort(agent); err != nil {
			return a, false
		}
	}
	a.Host = host
	a.Port, err = strconv.Atoi(port)
	return a, err == nil
}
