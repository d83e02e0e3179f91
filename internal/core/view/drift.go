package view

import (
	"fmt"
	"sort"

	"crosstwin/internal/core/dialect"
	"crosstwin/internal/core/words"
)

// Drift lists settings in which the servers of a cluster differ.
type Drift struct {
	Cluster  string   `json:"cluster"`
	Sentence string   `json:"sentence"`
	Checked  int      `json:"checked_settings"` // how many were looked at
	Settings []Differ `json:"settings"`
	// Unasked are the servers whose settings could not be read.
	Unasked []string `json:"unasked,omitempty"`
}

// Differ is one setting with its value on each server.
type Differ struct {
	Name   string            `json:"name"`
	Why    string            `json:"why"` // why it matters at a role change
	Values map[string]string `json:"values"`
}

// DriftOf compares the settings that were last seen of all servers.
func DriftOf(v *View, members []Member) Drift {
	d := Drift{Cluster: v.Cluster, Checked: len(dialect.Of(v.Engine).Reasons), Settings: []Differ{}}
	var asked []Member
	for _, m := range members {
		if m.Last == nil || m.Last.Config.Settings == nil || m.Problem != "" || !m.Last.Process.Accepting {
			d.Unasked = append(d.Unasked, m.Name)
		} else {
			asked = append(asked, m)
		}
	}
	for name, why := range dialect.Of(v.Engine).Reasons {
		x := Differ{Name: name, Why: why, Values: map[string]string{}}
		seen := map[string]bool{}
		for _, m := range asked {
			if value, known := m.Last.Config.Settings[name]; known {
				x.Values[m.Name] = value
				seen[value] = true
			}
		}
		if len(seen) > 1 {
			d.Settings = append(d.Settings, x)
		}
	}
	sort.Slice(d.Settings, func(i, j int) bool { return d.Settings[i].Name < d.Settings[j].Name })
	d.Sentence = d.sentence(asked)
	return d
}

func (d *Drift) sentence(asked []Member) string {
	var names []string
	for _, m := range asked {
		names = append(names, m.Name)
	}
	var text string
	switch {
	case len(asked) == 0:
		return "No server's settings could be read: nothing is compared."
	case len(asked) == 1:
		return "Only the settings of " + names[0] + " could be read: nothing is compared."
	case len(d.Settings) == 0:
		text = fmt.Sprintf("%s agree in all %d settings that matter at a role change.", words.List(names), d.Checked)
	default:
		text = fmt.Sprintf("%s differ in %d of %d settings that matter at a role change.", words.List(names), len(d.Settings),
			d.Checked)
	}
	if len(d.Unasked) > 0 {
		text += " The settings of " + words.List(d.Unasked) + " could not be read."
	}
	return text
}
