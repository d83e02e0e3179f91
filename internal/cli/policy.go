package cli

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/words"
)

// policyLimits are the numbers of a policy with their flags.
func policyLimits(p *cluster.Policy) []struct {
	flag string
	to   *float64
	help string
} {
	return []struct {
		flag string
		to   *float64
		help string
	}{
		{"behind-seconds", &p.BehindSeconds, "lag from which a replica counts as behind"},
		{"unseen-seconds", &p.UnseenSeconds, "silence after which a server counts as unseen"},
		{"stalled-seconds", &p.StalledSeconds, "time without progress after which a replica counts as stalled"},
		{"full-hours", &p.FullHours, "alert when the disk is full of log in fewer hours; 0: never"},
		{"conflicts-per-hour", &p.ConflictsPerHour, "alert from this many cancelled queries an hour; 0: never"},
		{"clock-seconds", &p.ClockSeconds, "alert when a host's clock is off by more; 0: never"},
		{"gate-limit-seconds", &p.Gates.LimitSeconds,
			"how long gates give transactions at a planned change of the primary before they are told to try again"},
		{"gate-wait-seconds", &p.Gates.WaitSeconds, "how long a client at a gate waits for a server"},
		{"quiet-seconds", &p.Automatic.QuietSeconds, "least time between two failovers that begin by themselves"},
		{"start-seconds", &p.Automatic.StartSeconds,
			"how long a primary whose database crashed may take to be started again before another server takes over; " +
				"0: not tried"},
	}
}

func policySizes(p *cluster.Policy) []struct {
	flag string
	to   *int64
	help string
} {
	return []struct {
		flag string
		to   *int64
		help string
	}{
		{"at-risk-bytes", &p.AtRiskBytes, "alert when more bytes than this are at risk; 0: never"},
		{"slot-bytes", &p.SlotBytes, "alert when a slot that is not read keeps more bytes of log; 0: never"},
		{"loss-bytes", &p.Automatic.LossBytes, "log that a failover may lose that begins by itself"},
		{"loss-transactions", &p.Automatic.LossTransactions, "the same in transactions (MariaDB)"},
	}
}

func policyFlags(f *pflag.FlagSet) {
	p := cluster.DefaultPolicy()
	for _, x := range policyLimits(&p) {
		f.Float64(x.flag, *x.to, x.help)
	}
	for _, x := range policySizes(&p) {
		f.Int64(x.flag, *x.to, x.help)
	}
	f.String("fencing", "off", "on: the primary takes writes only while a permission runs, and is stopped when it ends; "+
		"or off")
	f.String("automatic", "off", "on: a failover begins by itself when the primary is lost; or off")
	f.Int("least-left", p.Automatic.LeastLeft, "a failover begins by itself only if this many servers are left, the new "+
		"primary among them")
	f.StringSlice("sites", nil, "sites whose servers are preferred, the best first, where log and rank are equal; "+
		"none: an empty text")
	f.String("rejoin", string(cluster.RejoinNever), "which servers that crashed or were fenced rejoin by themselves: "+
		`never, "without a tail" or "after saving the tail"`)
	f.String("synchronous", string(synchronous.None), "how many servers each commit has to be on: none (its own), one "+
		"further one, or most of them; shows a plan and asks")
	f.String("away", "wait", "with a synchronous mode: for how long commits wait for replicas that are away until they "+
		"go on without (10s), or wait")
	f.String("gate-primary-reads", "off", "on: gates lead readers to the primary while no replica is fit; or off")
	f.Duration("for", 0, "with --automatic off: for how long; then it is on again")
	f.Duration("maintenance", 0,
		"for how long no alert is raised and no primary is opened again by itself (1h); 0 ends it")
	f.String("why", "", "why there is a maintenance")
	f.StringSlice("mute", nil, "rules that raise no alert (crosstwin cluster show lists them); none: an empty text")
}

// readPolicy takes the flags that were given into a policy.
func readPolicy(f *pflag.FlagSet, p *cluster.Policy) error {
	for _, x := range policyLimits(p) {
		if f.Changed(x.flag) {
			*x.to, _ = f.GetFloat64(x.flag)
		}
	}
	for _, x := range policySizes(p) {
		if f.Changed(x.flag) {
			*x.to, _ = f.GetInt64(x.flag)
		}
	}
	if err := readSwitch(f, "fencing", &p.Fencing); err != nil {
		return err
	}
	p.FencingOpen = p.FencingOpen && !f.Changed("fencing")
	if err := readSwitch(f, "gate-primary-reads", &p.Gates.PrimaryReads); err != nil {
		return err
	}
	if err := readAutomatic(f, &p.Automatic); err != nil {
		return err
	}
	if f.Changed("maintenance") {
		d, _ := f.GetDuration("maintenance")
		if p.Maintenance = (cluster.Maintenance{}); d != 0 {
			p.Maintenance.Until = time.Now().UTC().Add(d).Truncate(time.Second)
			p.Maintenance.Why, _ = f.GetString("why")
		}
	} else if f.Changed("why") {
		return exitWith(exitUsage, "--why goes with --maintenance")
	}
	if f.Changed("mute") {
		names, _ := f.GetStringSlice("mute")
		p.Muted = []cluster.Rule{}
		for _, n := range names {
			if n = strings.TrimSpace(n); n == "" {
				continue
			}
			if !slices.Contains(cluster.Rules, cluster.Rule(n)) {
				return exitWith(exitUsage, "there is no rule %q: there are %s", n, joined(cluster.Rules))
			}
			p.Muted = append(p.Muted, cluster.Rule(n))
		}
	}
	return nil
}

// readSwitch takes over a flag that is on or off.
func readSwitch(f *pflag.FlagSet, name string, to *bool) error {
	if !f.Changed(name) {
		return nil
	}
	text, _ := f.GetString(name)
	if text != "on" && text != "off" {
		return exitWith(exitUsage, "--%s is on or off, not %q", name, text)
	}
	*to = text == "on"
	return nil
}

// readAutomatic takes over whether a failover begins by itself.
func readAutomatic(f *pflag.FlagSet, a *cluster.Automatic) error {
	if text, _ := f.GetString("rejoin"); f.Changed("rejoin") {
		a.Rejoin = cluster.Rejoin(strings.ReplaceAll(text, "-", " "))
	}
	if f.Changed("least-left") {
		a.LeastLeft, _ = f.GetInt("least-left")
	}
	if f.Changed("sites") {
		a.Sites, _ = f.GetStringSlice("sites")
	}
	span, _ := f.GetDuration("for")
	text, _ := f.GetString("automatic")
	switch {
	case f.Changed("for") && (text != "off" || !f.Changed("automatic") || span <= 0):
		return exitWith(exitUsage, "--for goes with --automatic off: crosstwin cluster set NAME --automatic off --for 1h")
	case !f.Changed("automatic"):
	case f.Changed("for") && !a.On:
		return exitWith(exitUsage, "automatic failover is off already: with --for it would be switched on afterwards")
	case f.Changed("for"):
		a.OffUntil = time.Now().UTC().Add(span).Truncate(time.Second)
	case text == "on" || text == "off":
		a.On, a.OffUntil = text == "on", time.Time{}
	default:
		return exitWith(exitUsage, "--automatic is on or off, not %q", text)
	}
	return nil
}

func automaticWords(a cluster.Automatic, now time.Time) string {
	limits := fmt.Sprintf("with a loss of at most %s or %s, and %s between two", words.Size(a.LossBytes),
		words.Count(a.LossTransactions, "transaction"), words.Span(a.QuietSeconds))
	switch {
	case !a.On:
		return "off: a person begins every failover"
	case now.Before(a.OffUntil):
		return fmt.Sprintf("off for %s more; then on, %s", words.Span(a.OffUntil.Sub(now).Seconds()), limits)
	}
	return "on, " + limits
}

// startWords says what is tried before another server takes over, and which ones may.
func startWords(a cluster.Automatic) string {
	out := "a crashed primary is not started again first"
	if a.StartSeconds > 0 {
		out = "a crashed primary is started again first, and given " + words.Span(a.StartSeconds)
	}
	out += fmt.Sprintf("; servers that have to be left: %d", a.LeastLeft)
	if len(a.Sites) > 0 {
		out += "; sites preferred: " + strings.Join(a.Sites, ", ")
	}
	return out
}

func gateWords(g cluster.Gates) string {
	out := fmt.Sprintf("a planned change of the primary gives transactions %s; clients wait for a server for %s; readers ",
		words.Span(g.LimitSeconds), words.Span(g.WaitSeconds))
	if g.PrimaryReads {
		return out + "go to the primary while no replica is fit"
	}
	return out + "never go to the primary"
}

func joined(rules []cluster.Rule) string {
	var out []string
	for _, r := range rules {
		out = append(out, string(r))
	}
	return strings.Join(out, ", ")
}

func printPolicy(w io.Writer, name string, p cluster.Policy) {
	fmt.Fprintf(w, "behind from %g s, unseen after %g s, stalled after %g s\n", p.BehindSeconds, p.UnseenSeconds,
		p.StalledSeconds)
	fencing := "off: a failover needs a person's word that the old primary is off"
	if p.Fencing {
		fencing = "on: the primary takes writes only while its permission runs"
	}
	if p.FencingOpen && !p.Fencing {
		fencing = "off; nobody has decided yet: crosstwin cluster set " + name + " --fencing on, or off"
	}
	fmt.Fprintf(w, "synchronous mode %s\n", modeWords(p.Synchronous))
	fmt.Fprintf(w, "fencing %s\nautomatic failover %s\n", fencing, automaticWords(p.Automatic, time.Now()))
	fmt.Fprintf(w, "%s\nautomatic rejoin: %s\n", startWords(p.Automatic), cmp.Or(p.Automatic.Rejoin, cluster.RejoinNever))
	fmt.Fprintf(w, "gates: %s\n", gateWords(p.Gates))
	limit := func(on bool, text string) string {
		if on {
			return text
		}
		return "never"
	}
	fmt.Fprintf(w,
		"alerts: at risk above %s, unread slot above %s, disk full within %s, conflicts from %s, clock off by %s\n",
		limit(p.AtRiskBytes > 0, words.Size(p.AtRiskBytes)), limit(p.SlotBytes > 0, words.Size(p.SlotBytes)),
		limit(p.FullHours > 0, fmt.Sprintf("%g h", p.FullHours)),
		limit(p.ConflictsPerHour > 0, fmt.Sprintf("%g an hour", p.ConflictsPerHour)),
		limit(p.ClockSeconds > 0, fmt.Sprintf("%g s", p.ClockSeconds)))
	muted := joined(p.Muted)
	if muted == "" {
		muted = "none"
	}
	fmt.Fprintf(w, "muted rules: %s (of %s)\n", muted, joined(cluster.Rules))
}

// readMode takes over the synchronous mode, which an operation changes; asked tells whether
// another one is wanted, and others whether more than that is to be changed.
func readMode(f *pflag.FlagSet, now synchronous.Setting) (set synchronous.Setting, asked, others bool, err error) {
	f.Visit(func(x *pflag.Flag) {
		switch x.Name {
		case "synchronous", "away":
			asked = true
		case "preview", "yes", "detach":
		default:
			others = others || policyFlag(x.Name)
		}
	})
	set = now
	if f.Changed("synchronous") {
		text, _ := f.GetString("synchronous")
		if set.Mode = synchronous.Mode(text); set.Mode == synchronous.None {
			set.AwaySeconds = 0
		}
	}
	if f.Changed("away") {
		text, _ := f.GetString("away")
		if set.AwaySeconds = 0; text != "wait" {
			d, err := time.ParseDuration(text)
			if err != nil {
				return set, asked, others, exitWith(exitUsage, "--away is wait or a time such as 10s, not %q", text)
			}
			set.AwaySeconds = d.Seconds()
		}
	}
	if err := set.Check(); asked && err != nil {
		return set, asked, others, exitWith(exitUsage, "%v", err)
	}
	return set, asked, others, nil
}

// policyFlag reports whether a flag belongs to a policy.
func policyFlag(name string) bool {
	f := pflag.NewFlagSet("", pflag.ContinueOnError)
	policyFlags(f)
	return f.Lookup(name) != nil
}

func modeWords(s synchronous.Setting) string {
	if !s.Wanted() {
		return "none: a commit waits for no replica"
	}
	out := string(s.Mode) + ": each commit is on one further server before it is acknowledged"
	if s.Mode == synchronous.Most {
		out = string(s.Mode) + ": each commit is on most of the servers before it is acknowledged"
	}
	if s.AwaySeconds == 0 {
		return out + "; while replicas are away, commits wait"
	}
	return out + "; when replicas are away for " + words.Span(s.AwaySeconds) + ", commits go on without"
}
