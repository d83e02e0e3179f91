package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"crosstwin/internal/apitype"
	"crosstwin/internal/client"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/core/words"
)

func group(use, short string, sub ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(sub...)
	return c
}

func (a *app) with(run func(cmd *cobra.Command, c *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return run(cmd, c, args)
	}
}

func (a *app) clusterCommand() *cobra.Command {
	var engine string
	var servers []string
	var drop bool
	add := &cobra.Command{Use: "add NAME", Short: "Add a cluster", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.AddCluster(cmd.Context(), apitype.NewCluster{Name: args[0], Engine: engine})
			if err != nil {
				return err
			}
			var codes []apitype.EnrolmentCode
			for _, name := range servers {
				code, err := c.AddServer(cmd.Context(), args[0], apitype.NewServer{Name: name,
					Placement: cluster.Placement{Rank: 1}})
				if err != nil {
					return fmt.Errorf("cluster %s was added, and server %s was not: %w. Next: crosstwin server add %s %s",
						args[0], name, err, args[0], name)
				}
				codes = append(codes, code)
			}
			return a.show(addedCluster{v, codes}, func(w io.Writer) { printAdded(w, c, args[0], codes) })
		})}
	add.Long = "Add a cluster, with its servers.\n\nPrints for each server the command for its host, which enrolls its " +
		"agent. What runs there is looked at and left alone, until crosstwin adopt takes it over."
	add.Flags().StringSliceVar(&servers, "server", nil, "a server of it (may be given again)")
	add.Flags().StringVar(&engine, "engine", dialect.Default, "database engine: "+strings.Join(dialect.Engines(), " or "))
	list := &cobra.Command{Use: "list", Short: "List clusters, worst first", Args: exactly(0),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Clusters(cmd.Context())
			if err != nil {
				return err
			}
			return a.show(apitype.Clusters{Clusters: all}, func(w io.Writer) {
				t := a.table(w, "cluster", "health", "primary", "servers", "state")
				for _, v := range all {
					t.AppendRow(table.Row{v.Cluster, a.paint(v.Health, glyph(v.Health)+" "+string(v.Health)), dash(v.Primary),
						len(v.Servers), wrap(v.Sentence, 80, "")})
				}
				t.Render()
			})
		})}
	show := &cobra.Command{Use: "show NAME", Short: "One cluster", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(v, func(w io.Writer) {
				a.printView(w, v)
				fmt.Fprintf(w, "\nengine %s, term %d\n", v.Engine, v.Term)
				printPolicy(w, v.Cluster, v.Policy)
			})
		})}
	set := &cobra.Command{Use: "set NAME", Short: "Change a cluster's policy", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			p := v.Policy
			if err := readPolicy(cmd.Flags(), &p); err != nil {
				return err
			}
			mode, asked, others, err := readMode(cmd.Flags(), p.Synchronous)
			if err != nil {
				return err
			}
			if asked && !others {
				return a.act(cmd, args[0], operation.Request{Kind: operation.Synchronize, Synchronous: &mode})
			}
			if asked {
				return exitWith(exitUsage, "a synchronous mode is changed by itself: it shows its plan first")
			}
			if v, err = c.SetCluster(cmd.Context(), args[0], apitype.ClusterChange{Policy: &p}); err != nil {
				return err
			}
			return a.show(v, func(w io.Writer) { fmt.Fprintf(w, "cluster %s changed\n", args[0]) })
		})}
	policyFlags(set.Flags())
	planFlags(set)
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a cluster from Cross Twin; its databases keep running",
		Args: exactly(1), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			plan, err := c.Leaving(cmd.Context(), args[0], "", drop)
			if err != nil {
				return err
			}
			what := "remove cluster " + args[0] + leaving(plan)
			if !drop {
				what += "\nWith --drop, what nothing uses is dropped as well."
			}
			if err := a.confirmed(cmd, what); err != nil {
				return err
			}
			r, err := c.RemoveCluster(cmd.Context(), args[0], drop)
			if err != nil {
				return err
			}
			return a.show(r, func(w io.Writer) { fmt.Fprintf(w, "cluster %s removed.\n%s", args[0], leftovers(r, "Undone")) })
		})}
	remove.Flags().BoolP("yes", "y", false, "do not ask")
	remove.Flags().BoolVar(&drop, "drop", false, "also drop what Cross Twin made on the servers, where nothing uses it")
	return group("cluster", "Add, list, show, set and remove clusters", add, list, show, set, remove)
}

// confirmed asks before a small act.
func (a *app) confirmed(cmd *cobra.Command, what string) error {
	if yes, _ := cmd.Flags().GetBool("yes"); yes {
		return nil
	}
	if !isTerminal(os.Stdin) {
		return exitWith(exitUsage,
			"this would %s\nThere is no terminal to ask at, and nothing was done: to go on, add --yes", what)
	}
	fmt.Fprintf(a.out, "This will %s\n", what)
	return a.ask(&operation.Plan{})
}

func parseRank(s string) (int, error) {
	if s == "never" {
		return 0, nil
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 {
		return 0, exitWith(exitUsage, "invalid rank %q: use 1, 2, 3 … or never", s)
	}
	return n, nil
}

func (a *app) serverCommand() *cobra.Command {
	var rankText, site, clients string
	var primary, hidden, referee bool
	add := &cobra.Command{Use: "add CLUSTER NAME", Short: "Add a server; prints the command for its host",
		Args: exactly(2), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n, err := parseRank(rankText)
			if err != nil {
				return err
			}
			if referee && cmd.Flags().Changed("rank") {
				return exitWith(exitUsage, "a referee has no rank: it has no database")
			}
			code, err := c.AddServer(cmd.Context(), args[0],
				apitype.NewServer{Name: args[1], Placement: cluster.Placement{Rank: n, Site: site, Hidden: hidden,
					Clients: clients}, Primary: primary, Referee: referee})
			if err != nil {
				return err
			}
			return a.showCode(c, code)
		})}
	add.Flags().StringVar(&rankText, "rank", "1", "place in the choice of the next primary: 1, 2, 3 …, or never")
	add.Flags().StringVar(&site, "site", "", "where the server stands")
	add.Flags().BoolVar(&hidden, "hidden", false,
		"keep it out of what readers are sent to: for maintenance and heavy queries")
	add.Flags().StringVar(&clients, "client-address", "",
		"HOST:PORT at which applications reach its database, where that is not the address for its peers")
	add.Flags().BoolVar(&referee, "referee", false,
		"an agent without a database, on any small host: it counts towards the majority that fencing needs")
	add.Flags().BoolVar(&primary, "primary", false, "this server runs as the primary now")
	list := &cobra.Command{Use: "list CLUSTER", Short: "List the servers of a cluster", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			v, err := c.Cluster(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.show(v.Servers, func(w io.Writer) {
				t := a.table(w, "server", "role", "health", "rank", "site", "database", "agent", "seen")
				for _, s := range v.Servers {
					t.AppendRow(table.Row{s.Name, s.Role, a.paint(s.Health, glyph(s.Health)+" "+string(s.Health)),
						rank(s.Rank) + hiddenWords(s), dash(s.Site), dash(s.Address), dash(s.Agent), seen(s.LastContactSeconds)})
				}
				for _, r := range v.Referees {
					t.AppendRow(table.Row{r.Name, "referee", a.refereeHealth(r), "-", "-", "-", dash(r.Agent),
						seen(r.LastContactSeconds)})
				}
				t.Render()
			})
		})}
	show := &cobra.Command{Use: "show CLUSTER NAME", Short: "Show one server with all that its agent reports",
		Args: exactly(2), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.Server(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(s, func(w io.Writer) { a.printServer(w, s) })
		})}
	set := &cobra.Command{Use: "set CLUSTER NAME", Short: "Change rank, site or the address for clients, hide or show",
		Args: exactly(2),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var ch apitype.ServerChange
			if cmd.Flags().Changed("rank") {
				s, _ := cmd.Flags().GetString("rank")
				n, err := parseRank(s)
				if err != nil {
					return err
				}
				ch.Rank = &n
			}
			if cmd.Flags().Changed("site") {
				s, _ := cmd.Flags().GetString("site")
				ch.Site = &s
			}
			if cmd.Flags().Changed("hidden") {
				on, _ := cmd.Flags().GetBool("hidden")
				ch.Hidden = &on
			}
			if cmd.Flags().Changed("client-address") {
				s, _ := cmd.Flags().GetString("client-address")
				ch.Clients = &s
			}
			s, err := c.SetServer(cmd.Context(), args[0], args[1], ch)
			if err != nil {
				return err
			}
			return a.show(s, func(w io.Writer) {
				fmt.Fprintf(w, "server %s: rank %s, site %s%s\n", s.Name, rank(s.Rank), dash(s.Site), hiddenWords(s))
				if s.Clients != "" {
					fmt.Fprintf(w, "applications reach it at %s\n", s.Clients)
				}
			})
		})}
	set.Flags().String("rank", "", "1, 2, 3 …, or never")
	set.Flags().String("site", "", "where the server stands")
	set.Flags().String("client-address", "",
		"HOST:PORT at which applications reach its database; empty: the address for its peers")
	set.Flags().Bool("hidden", false, "keep it out of what readers are sent to (--hidden=false shows it again)")
	remove := &cobra.Command{Use: "remove CLUSTER NAME",
		Short: "Remove a server from Cross Twin; its database keeps running", Args: exactly(2),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			plan, err := c.Leaving(cmd.Context(), args[0], args[1], false)
			if err != nil {
				return err
			}
			if err := a.confirmed(cmd, "remove server "+args[1]+leaving(plan)); err != nil {
				return err
			}
			r, err := c.RemoveServer(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(r, func(w io.Writer) {
				fmt.Fprintf(w, "server %s removed from %s.\n%s", args[1], args[0], leftovers(r, "Undone"))
			})
		})}
	remove.Flags().BoolP("yes", "y", false, "do not ask")
	code := &cobra.Command{Use: "code CLUSTER NAME", Short: "Make a new one-time code for a server's agent",
		Args: exactly(2), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			code, err := c.NewCode(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.showCode(c, code)
		})}
	return group("server", "Add, list, show, set and remove servers", add, list, show, set, remove, code)
}

// hiddenWords marks a hidden server beside its rank.
func hiddenWords(s view.Server) string {
	if s.Hidden {
		return ", hidden"
	}
	return ""
}

// addedCluster is a new cluster, with the codes for the agents of its servers.
type addedCluster struct {
	view.View
	Codes []apitype.EnrolmentCode `json:"codes,omitempty"`
}

// printAdded says what is to be run on the hosts of a new cluster.
func printAdded(w io.Writer, c *client.Client, name string, codes []apitype.EnrolmentCode) {
	if len(codes) == 0 {
		fmt.Fprintf(w, "cluster %s added. Next, for each of its servers: crosstwin server add %s NAME\n", name, name)
		return
	}
	fmt.Fprintf(w, "cluster %s added. On the hosts of its servers, within an hour:\n\n", name)
	for _, x := range codes {
		fmt.Fprintf(w, "  on %s:  crosstwin agent enroll --service %s --code %s --host HOST\n", x.Server, c.Base(), x.Code)
	}
	fmt.Fprintf(w, "\nHOST is the address at which the other servers reach that one. Where the packages are not "+
		"installed,\nstart the agent then: crosstwin agent. When the agents run, take over what runs there: "+
		"crosstwin adopt %s\n", name)
}

// refereeHealth is whether a referee answers, in the colours of servers.
func (a *app) refereeHealth(r view.Referee) string {
	if r.Answers {
		return a.paint(view.InStep, glyph(view.InStep)+" answers")
	}
	return a.paint(view.Unseen, glyph(view.Unseen)+" "+string(view.Unseen))
}

func (a *app) showCode(c *client.Client, code apitype.EnrolmentCode) error {
	return a.show(code, func(w io.Writer) {
		if code.Gate {
			fmt.Fprintf(w, "gate %s of %s. On its host, within an hour:\n\n"+
				"  crosstwin gate enroll --service %s --code %s --host HOST --writer HOST:PORT --reader HOST:PORT\n\n"+
				"HOST is the address at which the service reaches it; the writer and reader addresses are those for "+
				"applications. Where the packages are not installed, start it then: crosstwin gate\n", code.Server, code.Cluster,
				c.Base(), code.Code)
			return
		}
		if code.Referee {
			fmt.Fprintf(w, "referee %s of %s. On its host, which needs no database, within an hour:\n\n"+
				"  crosstwin referee enroll --service %s --code %s --host HOST\n\nHOST is the address at which the service "+
				"reaches it. Where the packages are not installed, start it then: crosstwin referee\n", code.Server, code.Cluster,
				c.Base(), code.Code)
			return
		}
		fmt.Fprintf(w, "server %s of %s. On its host, within an hour:\n\n", code.Server, code.Cluster)
		fmt.Fprintf(w,
			"  crosstwin agent enroll --service %s --code %s --host HOST\n\nHOST is the address at which the other servers "+
				"reach it. Where the packages are not installed, start the agent then: crosstwin agent\n", c.Base(), code.Code)
	})
}

func sizeOrUnknown(m observation.Maybe[int64]) string {
	if n, known := m.Get(); known {
		return words.Size(n)
	}
	return "not known"
}

func (a *app) printServer(w io.Writer, s view.Server) {
	why := ""
	if s.Why != "" {
		why = " (" + s.Why + ")"
	}
	fmt.Fprintf(w, "%s %s%s. Its role is %s; it reports itself as %s.\n\n", a.bold(s.Name), s.Health, why, s.Role,
		dash(string(s.ReportsAs)))
	o := s.Observation
	if o == nil {
		return
	}
	rows := [][2]string{{"version", o.Process.Version}, {"database", s.Address}, {"address for clients", s.Clients},
		{"agent", s.Agent},
		{"agent's version", o.Agent.Version}, {"position", s.Position}, {"received", s.Received},
		{"history", s.History + " from " + o.Log.Line.Began.String()},
		{"first record", o.Log.Line.Fingerprint}, {"system identifier", o.Data.System}, {"follows", s.Follows},
		{"term noted, accepted", fmt.Sprintf("%d, %d (owner: %t)", o.Guard.Noted, o.Guard.Accepted, o.Guard.Owner)},
		{"closed by default", fmt.Sprint(o.Data.ClosedByDefault)}, {"newest mark found", o.Log.Kin},
		{"disk free", sizeOrUnknown(o.Host.DiskFreeBytes)}, {"data", sizeOrUnknown(o.Data.Bytes)},
		{"connected clients", fmt.Sprint(o.Process.ConnectedClients)}, {"unfinished", o.Data.Unfinished},
		{"problem", o.Process.Problem}}
	if o.Encryption != nil {
		rows = append(rows, [2]string{"connections", words.Taken(o.Encryption.State)})
	}
	if o.Links.Upstream != nil {
		rows = append(rows, [2]string{"link", words.Insisted(o.Links.Upstream.Proof)})
	}
	for _, r := range rows {
		if r[1] != "" {
			fmt.Fprintf(w, "  %-21s %s\n", r[0], r[1])
		}
	}
	if len(o.Links.Downstreams) > 0 {
		fmt.Fprintln(w)
		t := a.table(w, "replica", "state", "sent", "received", "safe", "applied")
		for _, d := range o.Links.Downstreams {
			t.AppendRow(table.Row{d.Name, d.State, dash(d.Sent), dash(d.Received), dash(d.Safe), dash(d.Applied)})
		}
		t.Render()
	}
	if len(o.Links.Slots) > 0 {
		fmt.Fprintln(w)
		t := a.table(w, "slot", "database", "active", "keeps log from", "state", "keeps")
		for _, x := range o.Links.Slots {
			t.AppendRow(table.Row{x.Name, dash(x.Database), x.Active, dash(x.Restart), dash(x.State), words.Size(x.KeptBytes)})
		}
		t.Render()
	}
}

func (a *app) checkCommand() *cobra.Command {
	var purpose, server, to string
	c := &cobra.Command{Use: "check CLUSTER", Short: "Check the prerequisites of an operation", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := c.Check(cmd.Context(), args[0], purpose, server, to)
			if err != nil {
				return err
			}
			if err := a.show(p.Checks, func(w io.Writer) {
				n := map[operation.Result]int{}
				for _, x := range p.Checks {
					n[x.Result]++
				}
				fmt.Fprintln(w, a.bold(fmt.Sprintf("%s of %s: %d pass, %d warn, %d fail.", purpose, args[0], n[operation.Pass],
					n[operation.Warn], n[operation.Fail])))
				a.printChecks(w, p.Checks, true)
			}); err != nil {
				return err
			}
			if why, refused := p.Refused(); refused {
				if purpose == "gate" {
					return exitWith(exitRefused, "applications cannot connect through every gate: %s", why)
				}
				return exitWith(exitRefused, "a %s would be refused: %s", purpose, why)
			}
			return nil
		})}
	c.Flags().StringVar(&purpose, "for", string(operation.Switchover), "seed, switchover, failover, rejoin or gate")
	c.Flags().StringVar(&server, "server", "", "server to seed or to rejoin")
	c.Flags().StringVar(&to, "to", "", "candidate of a role change")
	return c
}

func (a *app) tailCommand() *cobra.Command {
	var save string
	c := &cobra.Command{Use: "tail CLUSTER SERVER", Short: "Show what only this server has: the writes after the fork",
		Args: exactly(2), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if save != "" {
				// Saved first: from then on the listing has the values too.
				if err := a.saveTail(cmd, c, args[0], args[1], save); err != nil {
					return err
				}
			}
			x, err := c.Tail(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(x, func(w io.Writer) { a.printTail(w, args[1], x) })
		})}
	c.Flags().StringVar(&save, "save", "", "save it to this file: SQL that fills tables of its own")
	return c
}

func (a *app) printTail(w io.Writer, name string, x verb.Examination) {
	switch {
	case x.Unfinished != "":
		fmt.Fprintf(w, "A %s was interrupted on %s: its files are inconsistent, and no tail can be read from them.\n",
			x.Unfinished, name)
		return
	case x.Tail == nil:
		fmt.Fprintf(w, "%s has no tail: its log ends at %s, and the primary's history continues from there (kinship: %s).\n",
			name, dash(x.End), dash(x.Kinship))
		return
	}
	t := x.Tail
	n, i, u, d := t.Counts()
	fmt.Fprintln(w,
		a.bold(fmt.Sprintf(
			"%s holds %s of log after the fork at %s that the cluster lacks: %d committed transactions with %d inserts, %d "+
				"updates, %d deletes.", name, words.Size(t.Bytes), t.From, n, i, u, d)))
	if len(t.Transactions) == 0 {
		return
	}
	fmt.Fprintln(w)
	tb := a.table(w, "transaction", "time", "outcome", "table", "inserts", "updates", "deletes")
	for _, tx := range t.Transactions {
		at := "-"
		if !tx.At.IsZero() {
			at = tx.At.Format("2006-01-02 15:04:05.000") + " UTC"
		}
		outcome := tx.Outcome
		if tx.Partial {
			outcome += ", its beginning is not in the log"
		}
		if tx.Schema {
			tb.AppendRow(table.Row{tx.Name(), at, outcome, "(definitions)", "", "", ""})
		}
		for _, ch := range tx.Changes {
			tb.AppendRow(table.Row{tx.Name(), at, outcome, ch.Table, ch.Inserts, ch.Updates, ch.Deletes})
		}
	}
	tb.Render()
	printTailRows(w, t)
	if x.WhyNot != "" {
		fmt.Fprintf(w, "\n%s\n", x.WhyNot)
	}
}

// tailRows is how many rows a terminal shows with their values.
const tailRows = 40

// printTailRows shows rows before and after, where the log holds them.
func printTailRows(w io.Writer, t *tail.Tail) {
	shown, all := 0, 0
	for _, tx := range t.Transactions {
		for _, c := range tx.Changes {
			all += c.Inserts + c.Updates + c.Deletes
		}
		for _, r := range tx.Rows {
			if r.Words() == "" {
				continue // neither side is known yet
			}
			if shown == 0 && t.Lacks() {
				fmt.Fprintln(w, "\nRow by row, as it was at the fork; what the tail left is listed once it is saved (--save FILE):")
			} else if shown == 0 {
				fmt.Fprintln(w, "\nRow by row, at the fork -> as the tail left it:")
			}
			if shown++; shown <= tailRows {
				fmt.Fprintf(w, "  %-14s %-6s %s: %s\n", tx.Name(), r.Kind, r.Table, r.Words())
			}
		}
		for _, s := range tx.Statements {
			fmt.Fprintf(w, "  %-14s statement: %s\n", tx.Name(), s)
		}
	}
	if shown > 0 && t.Saved != "" && all > min(shown, tailRows) {
		fmt.Fprintf(w, "  and %d more rows: the saved file has all of them\n", all-min(shown, tailRows))
	} else if shown > 0 && all > min(shown, tailRows) {
		fmt.Fprintf(w, "  and %d more rows: --save FILE writes all of them\n", all-min(shown, tailRows))
	}
}

// saveTail has the agent save the tail and copies the file.
func (a *app) saveTail(cmd *cobra.Command, c *client.Client, cluster, server, file string) error {
	if _, err := os.Stat(file); err == nil {
		return exitWith(exitUsage, "%s exists already: name another file", file)
	}
	op, err := c.BeginUnseen(cmd.Context(), cluster, operation.Request{Kind: operation.Salvage, Server: server})
	if err != nil {
		return err
	}
	op, err = c.Follow(cmd.Context(), op.ID, servicePatience, func(operation.Operation) {})
	if err != nil {
		return err
	}
	if err := outcomeError(op); err != nil {
		return err
	}
	var t tail.Tail
	if err := readFact(op, verb.FactTail, &t); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = c.Salvage(cmd.Context(), cluster, server, filepath.Base(t.Saved), f)
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(file)
		return err
	}
	fmt.Fprintf(a.err, "saved to %s\n", file)
	return nil
}

func (a *app) operationCommand() *cobra.Command {
	var cluster, state, kind string
	var limit int
	list := &cobra.Command{Use: "list", Short: "List operations, newest first", Args: exactly(0),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			ops, err := c.Operations(cmd.Context(), cluster, state, kind, limit)
			if err != nil {
				return err
			}
			return a.show(apitype.Operations{Operations: ops}, func(w io.Writer) {
				t := a.table(w, "operation", "began", "cluster", "kind", "outcome", "took", "asked by", "what came of it")
				for _, op := range ops {
					took, out := "-", string(op.Outcome)
					if op.EndedAt != nil {
						took = words.Span(max(0, op.EndedAt.Sub(op.CreatedAt).Seconds()))
					} else {
						out = string(op.State)
					}
					t.AppendRow(table.Row{op.ID, op.CreatedAt.Local().Format("2006-01-02 15:04:05"), op.Cluster, op.Kind, out, took,
						op.AskedBy, wrap(dash(op.Message), 70, "")})
				}
				t.Render()
			})
		})}
	list.Flags().StringVar(&cluster, "cluster", "", "only this cluster's")
	list.Flags().StringVar(&state, "state", "", "only those in this state or with this outcome")
	list.Flags().StringVar(&kind, "kind", "", "only this kind")
	list.Flags().IntVar(&limit, "limit", 20, "how many at most")
	show := &cobra.Command{Use: "show NUMBER", Short: "Show one operation with its steps and journal", Args: exactly(1),
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := operationNumber(args[0])
			if err != nil {
				return err
			}
			op, err := c.Operation(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.show(op, func(w io.Writer) { a.printOperation(w, op) })
		})}
	follow := &cobra.Command{Use: "follow NUMBER", Short: "Show an operation's steps until it ends", Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := operationNumber(args[0])
			if err != nil {
				return err
			}
			return a.follow(cmd, id)
		}}
	cancel := &cobra.Command{Use: "cancel NUMBER", Short: "Cancel an operation before its point of no return",
		Args: exactly(1), RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := operationNumber(args[0])
			if err != nil {
				return err
			}
			if err := c.Cancel(cmd.Context(), id); err != nil {
				return err
			}
			return a.said("cancelling", args[0], "operation %d is being cancelled: crosstwin operation follow %d\n", id, id)
		})}
	return group("operation", "List, show, follow and cancel operations", list, show, follow, cancel)
}

func operationNumber(s string) (int64, error) {
	id, err := strconv.ParseInt(s, 10, 64)
	if err != nil || id < 1 {
		return 0, exitWith(exitUsage, "invalid operation number %q: crosstwin operation list shows them", s)
	}
	return id, nil
}

func (a *app) printOperation(w io.Writer, op operation.Operation) {
	fmt.Fprintln(w, a.bold(fmt.Sprintf("operation %d: %s of %s, %s", op.ID, op.Kind, op.Cluster,
		dash(string(op.Outcome)))))
	if op.Message != "" {
		fmt.Fprintln(w, wrap(op.Message, lineWidth, ""))
	}
	from := ""
	if op.AskedFrom != "" {
		from = " from " + op.AskedFrom
	}
	fmt.Fprintf(w, "asked by %s%s at %s, term %d\n", op.AskedBy, from, op.CreatedAt.Local().Format(time.DateTime), op.Term)
	printDecided(w, op.Plan.Decided, op.Moments)
	fmt.Fprintln(w)
	f := follower{a: a}
	for _, s := range op.Steps {
		f.line(op, s)
		if s.Seen != "" {
			fmt.Fprintf(w, "       seen: %s\n", wrap(s.Seen, checkWidth, "       "))
		}
	}
	fmt.Fprintln(w, "\nJournal")
	for _, e := range op.Journal {
		fmt.Fprintf(w, "  %s  %-5s %s\n", e.At.Local().Format("15:04:05.000"), e.Level,
			wrap(e.Text, checkWidth, "                       "))
	}
}
