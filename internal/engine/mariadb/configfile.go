package mariadb

import (
	"fmt"
	"slices"
	"strings"
)

// serverGroups are the groups of a configuration file that the server reads.
var serverGroups = []string{"mysqld", "mariadbd", "server", "mariadb", "mysqld-10.11", "mariadb-10.11",
	"mariadbd-10.11"}

// closedBlock ends the configuration file of a server that is closed by default.
const closedBlock = "\n[mariadbd]\n# Whoever starts this server gets it read-only: Cross Twin's agent opens the " +
	"primary.\n" +
	"read_only = 1\n"

// acknowledgingBlock has a replica acknowledge what it received, whoever starts it: one that
// does so only once its agent has said so leaves commits waiting that wait for replicas, and
// passes over its own server's transactions (handbook, MariaDB, 4). On a primary it does nothing.
const acknowledgingBlock = "\n[mariadbd]\n# Whoever starts this server as a replica gets one that acknowledges: " +
	"commits may wait for it.\n" +
	acknowledges + " = 1\n"

const acknowledges = "rpl_semi_sync_slave_enabled"

// Close implements engine.Engine: the configuration file says that a start is
// read-only, and that a replica acknowledges, unless somebody has said something else of that.
func (e *Engine) Close() error {
	text, err := e.readConfig()
	if err != nil {
		return err
	}
	wanted := strings.TrimRight(text, "\n") + "\n"
	if !closedByFile(text) {
		wanted += closedBlock
	}
	if _, said := lastWord(text, acknowledges); !said {
		wanted += acknowledgingBlock
	}
	if strings.TrimRight(wanted, "\n") == strings.TrimRight(text, "\n") {
		return nil
	}
	if err := e.rewriteConfig(wanted); err != nil {
		return fmt.Errorf("close %s by default: %w", e.cfg.Name, err)
	}
	return nil
}

// Closed implements engine.Engine. A file that cannot be read is for Close to
// complain of.
func (e *Engine) Closed() bool {
	text, err := e.readConfig()
	if err != nil {
		return false
	}
	_, said := lastWord(text, acknowledges)
	return closedByFile(text) && said
}

// setMark stands above a setting that an operation wrote.
const setMark = "# set by an operation of Cross Twin: "

// setInFile returns a configuration file's text with one setting changed: as its
// last word, because the last one holds. An earlier one of ours is replaced.
func setInFile(text, name, value string) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i := 0; i+1 < len(lines); i++ {
		if lines[i] == setMark+name {
			lines[i+1] = name + " = " + value
			return strings.Join(lines, "\n") + "\n"
		}
	}
	return strings.Join(append(lines, "", "[mariadbd]", setMark+name, name+" = "+value), "\n") + "\n"
}

// closedByFile reports whether the last word of a configuration file on
// read_only is yes.
func closedByFile(text string) bool {
	value, said := lastWord(text, "read_only")
	return said && (value == "" || value == "1" || value == "on" || value == "true")
}

// lastWord returns what a configuration file says last of a setting, in small letters; empty
// where it names it alone. Included files are not followed: the file itself must say it.
func lastWord(text, name string) (value string, said bool) {
	ours := false
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			ours = slices.Contains(serverGroups, strings.ToLower(strings.Trim(line, "[]")))
			continue
		}
		if !ours || line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		key, v, _ := strings.Cut(line, "=")
		key = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(key)), "-", "_")
		if strings.TrimPrefix(key, "loose_") == name {
			value, said = strings.ToLower(strings.TrimSpace(v)), true
		}
	}
	return value, said
}
