package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/operation"
)

// examples are shown by --help, for each command by its path below crosstwin,
// and stand in the commands' documentation.
var examples = map[string]string{
	"serve": "crosstwin serve\ncrosstwin serve --listen 0.0.0.0:7710 --tls --tls-host " +
		"harbour.skerry.example\ncrosstwin serve --config /etc/crosstwin/serve.yaml --alert-command " +
		"/usr/local/bin/page-the-dba",
	"agent":   "crosstwin agent --dir /var/lib/crosstwin-agent",
	"deadman": "crosstwin deadman --dir /var/lib/crosstwin-agent",
	"referee": "crosstwin referee",
	"referee enroll": "crosstwin referee enroll --service https://harbour.skerry.example:7710 --code CODE --host " +
		"10.0.0.9",
	"gate": "crosstwin gate",
	"gate enroll": "crosstwin gate enroll --service https://harbour.skerry.example:7710 --code CODE --host 10.0.0.9 \\\n" +
		"  --writer 10.0.0.9:6432 --reader 10.0.0.9:6433",
	"gate add":      "crosstwin gate add bookings quay",
	"gate list":     "crosstwin gate list bookings",
	"gate show":     "crosstwin gate show bookings quay",
	"gate drain":    "crosstwin gate drain\ncrosstwin gate drain --limit 5m",
	"gate sessions": "crosstwin gate sessions bookings quay",
	"agent enroll": "crosstwin agent enroll --service https://harbour.skerry.example:7710 --code CODE " +
		"--host 10.0.0.2\ncrosstwin agent enroll --service https://harbour.skerry.example:7710 --code CODE " +
		"--host 10.0.0.2 \\\n  --data-dir /var/lib/postgresql/15/main",
	"demo": "crosstwin demo\ncrosstwin demo --cluster cargo --dir /var/tmp/skerry",
	"tour": "crosstwin tour\ncrosstwin tour --cluster bookings",
	"login": "crosstwin login --service http://127.0.0.1:7710 --token-file first-token\ncrosstwin " +
		"login --link",
	"version": "crosstwin version\ncrosstwin version -o json",
	"cluster add": "crosstwin cluster add bookings --server gull --server tern\n" +
		"crosstwin cluster add cargo --engine mariadb --server wren",
	"cluster list": "crosstwin cluster list\ncrosstwin cluster list -o json",
	"cluster show": "crosstwin cluster show bookings",
	"cluster set": "crosstwin cluster set bookings --behind-seconds 10\n" +
		"crosstwin cluster set bookings --maintenance 1h --why 'new disks on gull'\n" +
		"crosstwin cluster set bookings --synchronous one\n" +
		"crosstwin cluster set cargo --mute " +
		"'behind,clock'",
	"cluster remove": "crosstwin cluster remove cargo",
	"server add": "crosstwin server add bookings gull --primary\ncrosstwin server add bookings heron " +
		"--rank never --site island\ncrosstwin server add bookings cairn --referee",
	"server code":   "crosstwin server code bookings tern",
	"server list":   "crosstwin server list bookings",
	"server show":   "crosstwin server show bookings tern",
	"server set":    "crosstwin server set bookings tern --rank 1\ncrosstwin server set bookings heron --hidden",
	"server remove": "crosstwin server remove bookings heron",
	"check": "crosstwin check bookings --for switchover\ncrosstwin check bookings --for rejoin " +
		"--server gull",
	"status": "crosstwin status\ncrosstwin status bookings\ncrosstwin status bookings -o json",
	"watch":  "crosstwin watch bookings",
	"connect": "crosstwin connect bookings --user skerry --database bookings\n" +
		"crosstwin connect bookings --reader --format env > connection.env\n" +
		"crosstwin connect cargo --format jdbc --database cargo",
	"lag":                  "crosstwin lag bookings --since 15m\ncrosstwin lag bookings --since 6h --csv lag.csv",
	"log list":             "crosstwin log list cargo\ncrosstwin log list bookings --server tern",
	"log read":             "crosstwin log read cargo --limit 5\ncrosstwin log read cargo --table movements --since 10m",
	"log trim":             "crosstwin log trim cargo --older 72h --preview\ncrosstwin log trim cargo --keep 2GB",
	"conflicts":            "crosstwin conflicts bookings",
	"drift":                "crosstwin drift cargo",
	"tail":                 "crosstwin tail bookings gull\ncrosstwin tail bookings gull --save tail.sql",
	"operation list":       "crosstwin operation list\ncrosstwin operation list --cluster bookings --state 'needs you'",
	"operation show":       "crosstwin operation show 7",
	"operation follow":     "crosstwin operation follow 7",
	"operation cancel":     "crosstwin operation cancel 7",
	"alert list":           "crosstwin alert list\ncrosstwin alert list --open",
	"alert acknowledge":    "crosstwin alert acknowledge 12 --note 'new disk ordered'",
	"alert channel add":    "crosstwin alert channel add duty https://alerts.skerry.example/hook",
	"alert channel list":   "crosstwin alert channel list",
	"alert channel remove": "crosstwin alert channel remove duty",
	"alert channel test":   "crosstwin alert channel test duty",
	"records":              "crosstwin records",
	"records show":         "crosstwin records show",
	"records backup":       "crosstwin records backup /var/backups/crosstwin-2027-01-01.db",
	"records restore":      "crosstwin records restore /var/backups/crosstwin-2027-01-01.db --dir /var/lib/crosstwin",
	"authority show":       "crosstwin authority show\ncrosstwin authority show --certificates > authority.crt",
	"authority rotate":     "crosstwin authority rotate",
	"audit list":           "crosstwin audit list --limit 200",
	"audit export":         "crosstwin audit export > audit.jsonl",
	"token add": "crosstwin token add dashboard --scope metrics\n" +
		"crosstwin token add ada --scope operate,read-data --days 365\n" +
		"crosstwin token add ferry-team --scope watch --cluster bookings",
	"token list":   "crosstwin token list",
	"token remove": "crosstwin token remove dashboard",
	"seed": "crosstwin seed bookings tern --preview\ncrosstwin seed bookings tern\ncrosstwin seed " +
		"bookings heron --replace --yes --accept-loss heron",
	"switchover": "crosstwin switchover bookings --preview\ncrosstwin switchover bookings\ncrosstwin " +
		"switchover bookings --to tern --yes",
	"failover": "crosstwin failover bookings --preview\ncrosstwin failover bookings --confirm-stopped " +
		"gull\ncrosstwin failover bookings --yes --accept-loss bookings",
	"rejoin": "crosstwin rejoin bookings gull --preview\ncrosstwin rejoin bookings gull\ncrosstwin " +
		"rejoin bookings gull --way rebuild",
	"compare": "crosstwin compare bookings\ncrosstwin compare cargo --yes -o json",
	"tune": "crosstwin tune bookings heron delay 3600\ncrosstwin tune bookings heron " +
		"max_standby_streaming_delay 5min",
	"follow":  "crosstwin follow bookings heron tern",
	"adopt":   "crosstwin adopt bookings --preview\ncrosstwin adopt cargo --primary wren",
	"encrypt": "crosstwin encrypt bookings --preview\ncrosstwin encrypt cargo",
	"restart": "crosstwin restart bookings heron\ncrosstwin restart bookings gull --preview",
}

// withHelp returns each command its examples and the completion of its arguments
// and of its flags with few values.
func (a *app) withHelp(root *cobra.Command) {
	var visit func(c *cobra.Command)
	visit = func(c *cobra.Command) {
		path := strings.TrimPrefix(c.CommandPath(), "crosstwin ")
		if text, ok := examples[path]; ok {
			c.Example = "  " + strings.ReplaceAll(text, "\n", "\n  ")
		}
		if words := strings.Fields(c.Use); len(words) > 1 && c.ValidArgsFunction == nil {
			c.ValidArgsFunction = a.completeArgs(words[1:])
		}
		for flag, values := range flagValues {
			if f := c.Flags().Lookup(flag); f != nil && (flag != "way" && flag != "for" || c.Name() != "lag") {
				c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(values(c.Name()), cobra.ShellCompDirectiveNoFileComp))
			}
		}
		for _, flag := range []string{"to", "server", "confirm-stopped"} {
			if c.Flags().Lookup(flag) != nil {
				c.RegisterFlagCompletionFunc(flag, a.completeServers)
			}
		}
		if c.Flags().Lookup("cluster") != nil {
			c.RegisterFlagCompletionFunc("cluster",
				func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
					return a.names(cmd, "CLUSTER", nil), cobra.ShellCompDirectiveNoFileComp
				})
		}
		for _, sub := range c.Commands() {
			visit(sub)
		}
	}
	visit(root)
	root.RegisterFlagCompletionFunc("output",
		cobra.FixedCompletions([]string{"table", "json", "yaml"}, cobra.ShellCompDirectiveNoFileComp))
}

func list(values ...string) func(string) []string { return func(string) []string { return values } }

// flagValues are the values of the flags that have few.
var flagValues = map[string]func(command string) []string{
	"scope":     list("metrics", "watch", "read-data", "operate", "admin"),
	"format":    list("uri", "env", "jdbc", "dsn"),
	"engine":    list(dialect.Engines()...),
	"for":       list("seed", "switchover", "failover", "rejoin"),
	"log-level": list("debug", "info", "warn", "error"),
	"rank":      list("1", "2", "3", "never"),
	"state":     list("running", "finished", "undone", "refused", "needs you"),
	"kind": func(string) (out []string) {
		for _, k := range operation.Kinds() {
			out = append(out, string(k))
		}
		return out
	},
	"way": func(command string) []string {
		if command == "seed" {
			return []string{"copy", "dump"}
		}
		return []string{"follow", "rewind", "rebuild"}
	},
	"mute": func(string) (out []string) {
		for _, r := range cluster.Rules {
			out = append(out, string(r))
		}
		return out
	},
}

// completeArgs completes the arguments that a command's usage names: clusters,
// servers, operations, settings.
func (a *app) completeArgs(words []string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) >= len(words) {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.names(cmd, strings.Trim(words[len(args)], "[]"), args), cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) completeServers(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return a.names(cmd, "SERVER", args), cobra.ShellCompDirectiveNoFileComp
}

// completionTime bounds the question behind a completion.
const completionTime = 2 * time.Second

// names lists what an argument may be; nothing when the service does not answer.
func (a *app) names(cmd *cobra.Command, word string, args []string) (out []string) {
	c, err := a.client()
	if err != nil {
		return nil
	}
	ctx, cancel := contextWithin(cmd, completionTime)
	defer cancel()
	switch word {
	case "CLUSTER":
		views, _ := c.Clusters(ctx)
		for _, v := range views {
			out = append(out, v.Cluster)
		}
	case "SERVER", "UPSTREAM", "NAME":
		if len(args) == 0 {
			return nil
		}
		v, _ := c.Cluster(ctx, args[0])
		for _, s := range v.Servers {
			out = append(out, s.Name)
		}
	case "NUMBER":
		ops, _ := c.Operations(ctx, "", "", "", 50)
		for _, op := range ops {
			out = append(out, strings.TrimSpace(strings.Join([]string{itoa(op.ID), string(op.Kind) + " of " + op.Cluster},
				"\t")))
		}
	case "ID":
		alerts, _ := c.Alerts(ctx, "", true, 50)
		for _, x := range alerts {
			out = append(out, itoa(x.ID)+"\t"+x.Text)
		}
	case "SETTING":
		if len(args) > 0 {
			v, _ := c.Cluster(ctx, args[0])
			for name := range dialect.Of(v.Engine).Tunables {
				out = append(out, name)
			}
		}
	}
	return out
}
