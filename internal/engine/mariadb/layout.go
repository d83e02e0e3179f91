package mariadb

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"crosstwin/internal/engine/host"
)

// A server of Debian's packages reads a tree of configuration files that are its
// administrator's, in the order of their names; the last value counts. The agent writes
// none of them, but one of its own, which comes last. Such a server is started by its
// unit, with no arguments of the agent's: what a start needs stands in that file.

// ownFileIn returns the agent's file in the tree of a configuration file, which stands in
// the directory that is read last; empty for a configuration that is no such tree.
func ownFileIn(configFile string) string {
	dir := filepath.Join(filepath.Dir(configFile), "mariadb.conf.d")
	b, err := os.ReadFile(configFile)
	if err != nil || !strings.Contains(string(b), "!includedir "+dir) {
		return ""
	}
	return filepath.Join(dir, "zz-crosstwin.cnf")
}

// ownFileHead begins it.
const ownFileHead = "# Written by Cross Twin's agent: what this server needs as one of a cluster. Read last.\n"

const (
	wantedBegin = "# crosstwin begin: settings of a server that can be followed and can follow"
	startBegin  = "# crosstwin start begin: until the server answers"
	wantedEnd   = "# crosstwin end"
	startEnd    = "# crosstwin start end"
)

// startBlock stands in the file while the agent starts the server.
const startBlock = startBegin + "\n[mariadbd]\nskip_slave_start = 1\nevent_scheduler = OFF\n" + startEnd + "\n"

// apart reports whether the configuration is the packages', and the agent has a file of
// its own in it.
func (e *Engine) apart() bool { return e.ownFile != "" }

// writtenFile is the file that the agent writes.
func (e *Engine) writtenFile() string {
	if e.apart() {
		return e.ownFile
	}
	return e.cfg.ConfigFile
}

// readConfig reads the file that the agent writes.
func (e *Engine) readConfig() (string, error) {
	b, err := e.ReadTrusted(e.writtenFile())
	if errors.Is(err, fs.ErrNotExist) && e.apart() {
		return ownFileHead, nil
	}
	return string(b), err
}

// rewriteConfig puts another text in its place.
func (e *Engine) rewriteConfig(text string) error {
	if e.apart() {
		if _, err := e.ReadTrusted(e.ownFile); errors.Is(err, fs.ErrNotExist) {
			return e.MakeTrusted(e.ownFile, []byte(text))
		}
	}
	return e.RewriteTrusted(e.writtenFile(), []byte(text))
}

// option is one option as a start would have it; of several of one name the last counts.
type option struct{ name, value string }

// given returns the options that the administrator gives, by name: those of the agent's
// own file, which come last, are not among them.
func (e *Engine) given(ctx context.Context) (map[string]string, error) {
	said, _, err := e.Run(ctx, daemon, "--defaults-file="+e.cfg.ConfigFile, "--print-defaults")
	if err != nil {
		return nil, err
	}
	text := ""
	if e.apart() {
		if text, err = e.readConfig(); err != nil {
			return nil, err
		}
	}
	return withoutOwn(listOptions(said), text), nil
}

// withoutOwn takes the options of the agent's own file, which come last, out of a list.
func withoutOwn(list []option, own string) map[string]string {
	mine := map[string]int{}
	for line := range strings.Lines(own) {
		line = strings.TrimSpace(line)
		if line == "" || strings.ContainsAny(line[:1], "#;[!") {
			continue
		}
		name, _, _ := strings.Cut(line, "=")
		mine[optionName(name)]++
	}
	out := map[string]string{}
	for i, o := range list {
		last := 0
		for _, later := range list[i:] {
			if later.name == o.name {
				last++
			}
		}
		if last > mine[o.name] {
			out[o.name] = o.value
		}
	}
	return out
}

func optionName(s string) string {
	return strings.ReplaceAll(strings.ToLower(strings.TrimSpace(s)), "-", "_")
}

// wanted returns the settings that a server lacks to be one of a cluster, given what its
// administrator says. A setting that is given is left as it is: whether it will do, the
// checks say.
func (e *Engine) wanted(given map[string]string) map[string]string {
	out := map[string]string{"report_host": e.cfg.Name}
	for name, value := range map[string]string{"server_id": serverID(e.cfg.Name, e.cfg.Host, e.cfg.Port),
		"log_bin": "mariadb-bin", "relay_log": "mariadb-relay", "log_slave_updates": "1", "binlog_format": "ROW",
		"binlog_row_metadata": "FULL", "gtid_strict_mode": "1", "sync_binlog": "1"} {
		if _, ok := given[name]; !ok {
			out[name] = value
		}
	}
	if listen := given["bind_address"]; host.HasAddress(e.cfg.Host) && listen != "" && !listensAt(listen, e.cfg.Listen) {
		out["bind_address"] = listen + "," + e.cfg.Listen
	}
	return out
}

// serverID makes a server's number from where it is: two of one cluster would throw each
// other off the primary.
func serverID(name, host string, port int) string {
	h := fnv.New32a()
	fmt.Fprintf(h, "%s %s %d", name, host, port)
	return fmt.Sprint(max(2, h.Sum32()))
}

// listensAt reports whether bind_address covers all addresses of another such list.
func listensAt(now, wanted string) bool { return host.Listens(now, wanted, "*", "::") }

// claimWanted writes what the server lacks into the agent's file, and for the start that
// follows what every start of the agent's has.
func (e *Engine) claimWanted(ctx context.Context) error {
	given, err := e.given(ctx)
	if err != nil {
		return err
	}
	text, err := e.readConfig()
	if err != nil {
		return err
	}
	set := e.wanted(given)
	block := wantedBegin + "\n[mariadbd]\n"
	for _, name := range slices.Sorted(maps.Keys(set)) {
		block += name + " = " + set[name] + "\n"
	}
	text = host.WithoutBlock(host.WithoutBlock(text, wantedBegin, wantedEnd), startBegin, startEnd)
	return e.rewriteConfig(strings.TrimRight(text, "\n") + "\n" + block + wantedEnd + "\n" + startBlock)
}

// startsByFile reports whether a start of the agent's gets its options from a file, and not
// from the command line.
func (e *Engine) startsByFile() bool { return e.apart() || e.ByHost() }

// claimStart writes into the server's own file what every start of the agent's has.
func (e *Engine) claimStart(context.Context) error {
	text, err := e.readConfig()
	if err != nil {
		return err
	}
	text = host.WithoutBlock(text, startBegin, startEnd)
	return e.rewriteConfig(strings.TrimRight(text, "\n") + "\n" + startBlock)
}

// endStart takes out of the agent's file what only the start needed: a start of the host's
// own, of a server that follows, goes on following.
func (e *Engine) endStart() error {
	text, err := e.readConfig()
	if err != nil {
		return err
	}
	if kept := host.WithoutBlock(text, startBegin, startEnd); kept != text {
		return e.rewriteConfig(kept)
	}
	return nil
}

// atNextStart returns what the agent will have set at the next start and the running
// server lacks, as the server will show it.
func (e *Engine) atNextStart(ctx context.Context) (map[string]string, error) {
	given, err := e.given(ctx)
	if err != nil {
		return nil, err
	}
	set := e.wanted(given)
	rows, err := e.query(ctx, "show global variables where variable_name in ('"+
		strings.Join(slices.Sorted(maps.Keys(set)), "','")+"')")
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		name, value := r["Variable_name"], r["Value"]
		switch now := shownAs(set[name], value); {
		case strings.EqualFold(now, value):
			delete(set, name)
		default:
			set[name] = now
		}
	}
	return set, nil
}

// shownAs returns how a server that shows a setting as it does now will show what is
// written: a switch is ON or OFF, and on where a name is given for what it switches on.
func shownAs(written, now string) string {
	switch {
	case now != "ON" && now != "OFF":
		return written
	case written == "0" || strings.EqualFold(written, "off"):
		return "OFF"
	}
	return "ON"
}

// SocketProblem says what is wrong with a service manager that listens for a server.
func SocketProblem(server, socket string) string {
	return fmt.Sprintf("%s listens for %s, at boot or now, and starts it whenever somebody connects, a stopped or fenced "+
		"one too", socket, server)
}
