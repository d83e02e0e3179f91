package view

import (
	"fmt"
	"strings"
)

// sentence is the answer in words: what state the cluster is in, who is what,
// how many more servers it can lose and what is at risk.
func sentence(in Input, v *View) string {
	var parts []string
	for _, s := range []string{opening(in, v), others(v), tolerance(v), risk(v)} {
		if s != "" {
			parts = append(parts, s)
		}
	}
	return strings.Join(parts, " ")
}

func opening(in Input, v *View) string {
	p := v.Find(v.Primary)
	switch {
	case len(v.Servers) == 0:
		return in.Cluster + " has no servers yet."
	case p == nil:
		return in.Cluster + " takes no writes: it has no primary yet."
	case p.Health != TakesWrites:
		why := "primary " + p.Name + " " + p.Health.said()
		if p.Health == TakesNoWrite {
			why = "primary " + p.Name + " takes none"
		}
		return in.Cluster + " takes no writes: " + why + ifNot(" (", p.Why) + closing(p.Why) + "."
	}
	n, worst := 0, TakesWrites
	for _, s := range v.Servers {
		if s.Name != v.Primary && Worse(s.Health, worst) && s.Health != InStep {
			worst = s.Health
		}
	}
	for _, s := range v.Servers {
		if s.Name != v.Primary && s.Health == worst {
			n++
		}
	}
	if worst == TakesWrites {
		return in.Cluster + " takes writes on " + p.Name + "."
	}
	return fmt.Sprintf("%s is %s on %s. %s takes writes.", in.Cluster, worst, count(n, "replica"), p.Name)
}

func closing(s string) string {
	if s == "" {
		return ""
	}
	return ")"
}

func others(v *View) string {
	var steady, rest []string
	for _, s := range v.Servers {
		switch {
		case s.Name == v.Primary:
		case s.Health == InStep && s.Why == "":
			steady = append(steady, s.Name)
		case s.Health == Behind && s.Lag.AtLeast:
			rest = append(rest, fmt.Sprintf("%s is at least %s behind", s.Name, Span(s.Lag.Seconds)))
		case s.Health == Behind:
			rest = append(rest, fmt.Sprintf("%s is %s behind", s.Name, Span(s.Lag.Seconds)))
		default:
			rest = append(rest, s.Name+" "+s.Health.said())
		}
	}
	var parts []string
	if len(steady) == 1 {
		parts = append(parts, steady[0]+" is in step")
	} else if len(steady) > 1 {
		parts = append(parts, List(steady)+" are in step")
	}
	parts = append(parts, rest...)
	if len(parts) == 0 {
		return "It has no replica."
	}
	text := strings.Join(parts, ", ")
	return text + "."
}

func tolerance(v *View) string {
	if v.Primary == "" {
		return ""
	}
	if v.CanLose == 0 {
		return "It cannot lose another server."
	}
	return fmt.Sprintf("It can lose %s.", count2(v.CanLose))
}

func count2(n int) string {
	if n == 1 {
		return "1 more server"
	}
	return fmt.Sprintf("%d more servers", n)
}

func risk(v *View) string {
	switch {
	case !v.AtRisk.Known:
		return ""
	case v.AtRisk.Everything:
		return "At risk: every write, because no replica may take over."
	case v.AtRisk.Bytes == 0:
		return "Nothing at risk."
	}
	return fmt.Sprintf("At risk: %s, the writes of the last %s.", Size(v.AtRisk.Bytes), Span(v.AtRisk.Seconds))
}

func count(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func List(names []string) string {
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return strings.Join(names, "")
}
