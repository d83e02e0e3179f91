// Package compare judges the sums of all tables on all servers of a cluster. It
// only compares: the sums are made by the agents, in views of the data that
// stand at one position.
package compare

import (
	"fmt"
	"maps"
	"slices"

	"crosstwin/internal/core/verb"
)

// Judge compares the sums of the servers with those of the first one, the
// primary, table by table: tables that differ come first, then by name.
func Judge(servers []string, sums map[string][]verb.TableSum) verb.Comparison {
	byTable := map[string]map[string]verb.TableSum{}
	names := map[string]bool{}
	for _, n := range servers {
		byTable[n] = map[string]verb.TableSum{}
		for _, t := range sums[n] {
			byTable[n][t.Table] = t
			names[t.Table] = true
		}
	}
	c := verb.Comparison{Servers: servers, Tables: []verb.TableMatch{}}
	primary := servers[0]
	var differ, same []verb.TableMatch
	for _, t := range slices.Sorted(maps.Keys(names)) {
		if why := leftOut(t, servers, byTable); why != "" {
			c.Left = append(c.Left, fmt.Sprintf("%s (%s)", t, why))
			continue
		}
		m := verb.TableMatch{Table: t, Rows: map[string]int64{}, Same: true}
		ref, has := byTable[primary][t]
		for _, n := range servers {
			x, ok := byTable[n][t]
			m.Sequence = m.Sequence || x.Sequence
			m.Rows[n] = x.Rows
			if !ok {
				m.Rows[n] = -1
			}
			if ok == has && x.Sum == ref.Sum && x.Rows == ref.Rows {
				continue
			}
			m.Same = false
			if m.Differs == nil {
				m.Differs = map[string]string{}
			}
			m.Differs[n] = difference(primary, ref, x, ok && has)
		}
		c.Rows += max(0, m.Rows[primary])
		if m.Same {
			same = append(same, m)
		} else {
			differ = append(differ, m)
		}
	}
	c.Differ, c.Tables = len(differ), append(append(c.Tables, differ...), same...)
	return c
}

// leftOut returns why a table was not summed on one of the servers.
func leftOut(table string, servers []string, byTable map[string]map[string]verb.TableSum) string {
	for _, n := range servers {
		if why := byTable[n][table].Left; why != "" {
			return why
		}
	}
	return ""
}

func difference(primary string, ref, x verb.TableSum, both bool) string {
	switch {
	case !both:
		return "it exists on one of the two only"
	case x.Sequence:
		return fmt.Sprintf("the sequence is at %s, at %s on %s", x.Sum, ref.Sum, primary)
	case ref.Rows == x.Rows:
		return fmt.Sprintf("%d rows on both, contents differ", ref.Rows)
	}
	return fmt.Sprintf("%d rows, %d on %s", x.Rows, ref.Rows, primary)
}

// Buckets lists the buckets of rows whose sums differ, in order.
func Buckets(a, b map[int]string) []int {
	var out []int
	for k := range union(a, b) {
		if a[k] != b[k] {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

// Rows names the rows that differ between the primary and another server, in
// order of their keys.
func Rows(primary, other map[string]string, name string) []string {
	var out []string
	for k := range union(primary, other) {
		x, on1 := primary[k]
		y, on2 := other[k]
		switch {
		case on1 && !on2:
			out = append(out, k+" missing on "+name)
		case !on1 && on2:
			out = append(out, k+" only on "+name)
		case x != y:
			out = append(out, k+" changed")
		}
	}
	slices.Sort(out)
	return out
}

func union[K comparable](a, b map[K]string) map[K]bool {
	out := map[K]bool{}
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}
