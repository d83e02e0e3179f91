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

// Close implements engine.Engine: the configuration file says that a start is
// read-only.
func (e *Engine) Close() error {
	text, err := e.readConfig()
	if err != nil {
		return err
	}
	if closedByFile(text) {
		return nil
	}
	if err := e.rewriteConfig(strings.TrimRight(text, "\n") + "\n" + closedBlock); err != nil {
		return fmt.Errorf("close %s by default: %w", e.cfg.Name, err)
	}
	return nil
}

// Closed implements engine.Engine. A file that cannot be read is for Close to
// complain of.
func (e *Engine) Closed() bool {
	text, err := e.readConfig()
	return err == nil && closedByFile(text)
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
// read_only is yes. Included files are not followed: the file itself must say it.
func closedByFile(text string) bool {
	closed, ours := false, false
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			ours = slices.Contains(serverGroups, strings.ToLower(strings.Trim(line, "[]")))
			continue
		}
		if !ours || line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		key, value, has := strings.Cut(line, "=")
		key = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(key)), "-", "_")
		value = strings.ToLower(strings.TrimSpace(value))
		if key == "read_only" {
			closed = !has || value == "1" || value == "on" || value == "true"
		}
	}
	return closed
}
