package mariadb

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine/host"
)

// ownDirectories are settings that put a part of the data elsewhere. A copy goes
// to the data directory, so what lies there would stay and be taken for its part.
var ownDirectories = []string{"innodb_data_home_dir", "innodb_log_group_home_dir", "innodb_undo_directory",
	"aria_log_dir_path"}

// options reads the configuration that a start would use, as the server's own program
// does, with all files that it includes.
func (e *Engine) options(ctx context.Context) (map[string]string, error) {
	said, _, err := e.Run(ctx, daemon, "--defaults-file="+e.cfg.ConfigFile, "--print-defaults")
	if err != nil {
		return nil, err
	}
	return parseOptions(said), nil
}

// parseOptions reads the last line of --print-defaults; the last value counts.
func parseOptions(said string) map[string]string {
	out := map[string]string{}
	for _, o := range listOptions(said) {
		out[o.name] = o.value
	}
	return out
}

// listOptions is the same in the order in which they count.
func listOptions(said string) (out []option) {
	lines := strings.Split(strings.TrimSpace(said), "\n")
	for _, o := range strings.Split(" "+strings.TrimSpace(lines[len(lines)-1]), " --")[1:] {
		name, value, _ := strings.Cut(strings.TrimSpace(o), "=")
		out = append(out, option{optionName(name), value})
	}
	return out
}

// startMisfits tell why the server, as it is, could not be started. Its program reads
// the configuration as a start does, prints its help and ends.
func (e *Engine) startMisfits(ctx context.Context) []verb.Misfit {
	var out []verb.Misfit
	if !e.ByHost() {
		out = e.LogMisfit(e.cfg.LogFile)
	} else if socket := host.SocketOf(ctx, e.cfg.Unit); socket != "" {
		out = append(out, verb.Misfit{What: SocketProblem(e.cfg.Name, socket), Mend: "systemctl disable --now " + socket})
	}
	if _, said, err := e.Run(ctx, daemon, "--defaults-file="+e.cfg.ConfigFile, "--verbose", "--help"); err != nil {
		out = append(out, host.ConfigMisfit(e.cfg.Name, host.Telling(cmp.Or(said, err.Error()), telling...)))
	}
	return out
}

// Fit implements engine.Fitter. A copy brings no configuration along: the server's
// own has to be right.
func (e *Engine) Fit(ctx context.Context, c verb.Fit) (verb.Fitted, error) {
	out := verb.Fitted{Misfits: e.startMisfits(ctx)}
	if len(out.Misfits) > 0 {
		return out, nil
	}
	options, err := e.options(ctx)
	if err != nil {
		return out, err
	}
	if c.Itself {
		out.Misfits = e.logMisfit(options)
		return out, nil
	}
	data := filepath.Clean(e.cfg.DataDir)
	for _, name := range ownDirectories {
		dir := options[name]
		if !filepath.IsAbs(dir) || strings.HasPrefix(filepath.Clean(dir)+"/", data+"/") {
			continue
		}
		out.Misfits = append(out.Misfits, verb.Misfit{
			What: fmt.Sprintf("%s is %s on %s, outside of the data directory", name, dir, e.cfg.Name),
			Mend: fmt.Sprintf("take %s out of %s's configuration", name, e.cfg.Name)})
	}
	if dir := options["datadir"]; dir != "" && filepath.Clean(dir) != data {
		out.Misfits = append(out.Misfits, verb.Misfit{
			What: fmt.Sprintf("datadir is %s in %s's configuration, and its agent was given %s", dir, e.cfg.Name, data),
			Mend: "correct the configuration, or enrol the agent with the right --data-dir"})
	}
	return out, nil
}

// logMisfit tells of a start that would not find the log that the server writes now.
func (e *Engine) logMisfit(options map[string]string) []verb.Misfit {
	is := e.memory.Fingerprint(rememberLogs)
	name, set := options["log_bin"]
	next := e.inData(name)
	next = strings.TrimSuffix(next, filepath.Ext(next))
	_, without := options["skip_log_bin"]
	if is == "" || set && !without && (name == "" || // by default it has the host's name
		filepath.Base(next) == filepath.Base(is) && sameDir(filepath.Dir(next), filepath.Dir(is))) {
		return nil
	}
	m := verb.Misfit{
		What: fmt.Sprintf("%s writes its binary log to %s, and its configuration says %s", e.cfg.Name, is, next),
		Mend: "set log_bin = " + is + " in " + e.cfg.Name + "'s configuration",
		Why:  "it would begin a new log, forget what it holds, and use numbers of transactions again"}
	if !set || without {
		m.What = fmt.Sprintf("%s writes its binary log to %s, and its configuration has none any more", e.cfg.Name, is)
		m.Why = "without a log nobody could follow it"
	}
	return []verb.Misfit{m}
}
