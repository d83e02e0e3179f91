package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/words"
	"crosstwin/internal/engine/host"
)

// rememberSpaces lists the tablespace directories of a copy that is being made: its
// links are gone while the data directory is cleared.
const rememberSpaces = "tablespace directories"

// spaces lists the data's tablespaces by the links in its directory.
func (e *Engine) spaces() (out []observation.Space) {
	links, _ := e.ReadDir(e.Path("pg_tblspc"))
	for _, l := range links {
		if to, err := e.Readlink(e.Path("pg_tblspc", l.Name())); err == nil {
			out = append(out, observation.Space{Name: l.Name(), Path: filepath.Clean(to), Identity: host.DirIdentity(to)})
		}
	}
	return out
}

// logDir returns where the log is kept when that is not the data directory.
func (e *Engine) logDir() string {
	if to, err := e.Readlink(e.Path("pg_wal")); err == nil {
		return filepath.Clean(to)
	}
	return e.memory.Fingerprint(rememberLogDir)
}

// rememberLogDir is the same of a copy that is being made.
const rememberLogDir = "log directory"

// placeOf returns where one of the source's tablespaces goes here.
func (e *Engine) placeOf(path string) string {
	return cmp.Or(e.cfg.TablespaceMap[path], path)
}

// ownPlaces are the tablespace directories that belong to this data, or to a copy
// of ours that was interrupted.
func (e *Engine) ownPlaces() (out []string) {
	for _, s := range e.spaces() {
		out = append(out, s.Path)
	}
	if left := e.memory.Fingerprint(rememberSpaces); left != "" {
		out = append(out, strings.Split(left, "\n")...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// startMisfits tell why the server, as it is, could not be started. Its program reads
// the configuration as a start does, and nothing else.
func (e *Engine) startMisfits(ctx context.Context) []verb.Misfit {
	out := e.LogMisfit(e.cfg.LogFile)
	if _, said, err := e.Run(ctx, "postgres", e.serverArgs("-C", "data_directory")...); err != nil {
		said = cmp.Or(said, err.Error())
		out = append(out, host.ConfigMisfit(e.cfg.Name, host.Telling(said, append([]string{"unrecognized"}, telling...)...)))
	}
	return out
}

// ownConfigMisfits tell why a copy could not be started with this server's own
// configuration, which stays: a replica's limits may not be lower than its primary's.
func (e *Engine) ownConfigMisfits(ctx context.Context, limits map[string]string) []verb.Misfit {
	if out := e.startMisfits(ctx); len(out) > 0 {
		return out
	}
	var out []verb.Misfit
	for _, name := range slices.Sorted(maps.Keys(limits)) {
		if !limitName.MatchString(name) {
			continue
		}
		said, _, err := e.Run(ctx, "postgres", e.serverArgs("-C", name)...)
		mine, err1 := strconv.Atoi(strings.TrimSpace(said))
		theirs, err2 := strconv.Atoi(limits[name])
		if err == nil && err1 == nil && err2 == nil && mine < theirs {
			out = append(out, verb.Misfit{What: fmt.Sprintf("%s sets %s to %d, and its primary runs with %d", e.cfg.Name, name,
				mine, theirs), Mend: fmt.Sprintf("raise it in %s: a replica with a lower limit does not start", e.configFile())})
		}
	}
	return out
}

// limitName is what a setting's name looks like.
var limitName = regexp.MustCompile(`^[a-z_]+$`)

// Fit implements engine.Fitter.
func (e *Engine) Fit(ctx context.Context, c verb.Fit) (verb.Fitted, error) {
	if c.Itself {
		return verb.Fitted{Misfits: e.startMisfits(ctx)}, nil
	}
	own := e.ownPlaces()
	out := verb.Fitted{Clears: slices.Clone(own), Misfits: e.LogMisfit(e.cfg.LogFile)}
	if _, err := e.Stat(e.configFile()); err != nil && e.keepsOwn(c.Apart) {
		out.Misfits = append(out.Misfits, verb.Misfit{
			What: fmt.Sprintf("%s has no configuration in %s, and a copy brings none along", e.cfg.Name, e.configFile()),
			Mend: "write one, or make a cluster of Debian's (pg_createcluster) and enroll the agent for it"})
	} else if e.keepsOwn(c.Apart) {
		out.Misfits = append(out.Misfits, e.ownConfigMisfits(ctx, c.Limits)...)
	}
	others := slices.Clone(c.Others)
	for _, s := range c.Spaces {
		others = append(others, s.Identity)
	}
	for _, dir := range own {
		if id := host.DirIdentity(dir); id != "" && slices.Contains(others, id) {
			out.Misfits = append(out.Misfits, verb.Misfit{
				What: fmt.Sprintf("%s keeps a tablespace in %s, and another server of the cluster uses that very directory",
					e.cfg.Name, dir),
				Mend: "what is in it would be removed from both: give each server a directory of its own"})
		}
	}
	taken := map[string]string{}
	for _, s := range c.Spaces {
		to := e.placeOf(s.Path)
		out.Places = append(out.Places, verb.Place{From: s.Path, To: to})
		m := e.placeMisfit(ctx, to, s, slices.Contains(own, to))
		if other := taken[to]; other != "" {
			m = &verb.Misfit{What: fmt.Sprintf("%s and %s would both be copied to %s", other, s.Path, to),
				Mend: "give each a place of its own in tablespace_map of the agent's configuration"}
		}
		taken[to] = s.Path
		if m != nil {
			out.Misfits = append(out.Misfits, *m)
		}
	}
	if dir := e.logDir(); dir != "" {
		out.Clears = append(out.Clears, dir)
		if m := e.logDirMisfit(ctx, dir); m != nil {
			out.Misfits = append(out.Misfits, *m)
		}
	}
	return out, nil
}

func (e *Engine) placeMisfit(ctx context.Context, to string, s observation.Space, own bool) *verb.Misfit {
	move := fmt.Sprintf("or give it another place on %s: tablespace_map in the agent's agent.yaml, such as {%s: "+
		"/elsewhere}",
		e.cfg.Name, s.Path)
	list, err := e.ReadDir(to)
	data := filepath.Clean(e.cfg.DataDir)
	switch {
	case to == data || strings.HasPrefix(to+"/", data+"/"):
		return &verb.Misfit{What: fmt.Sprintf("the tablespace %s would lie inside the data directory", to), Mend: move}
	case err == nil && len(list) > 0 && !own:
		return &verb.Misfit{What: fmt.Sprintf("the tablespace goes to %s, which is not empty and not %s's", to, e.cfg.Name),
			Mend: fmt.Sprintf("empty it if nothing needs it, %s", move)}
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return &verb.Misfit{What: fmt.Sprintf("the tablespace goes to %s: %v", to, err), Mend: "mend that, " + move}
	case !e.Writable(ctx, to) && (err == nil || os.Geteuid() != 0):
		return &verb.Misfit{What: fmt.Sprintf("the server's user may not write to %s, where a tablespace goes", to),
			Mend: fmt.Sprintf("give the directory to that user, %s", move)}
	}
	near := to
	for near != "/" {
		if _, err := e.Stat(near); err == nil {
			break
		}
		near = filepath.Dir(near)
	}
	free, known := host.FreeAt(near).Get()
	if own {
		free += e.DirBytes(to)
	}
	if size, sized := s.Bytes.Get(); known && sized && float64(free) < float64(size)*1.05 {
		return &verb.Misfit{What: fmt.Sprintf("%s are free for the tablespace at %s, which takes %s", words.Size(free), to,
			words.Size(size)), Mend: "free space there, " + move}
	}
	return nil
}

// walEntry matches what PostgreSQL keeps in its log directory.
var walEntry = regexp.MustCompile(`^([0-9A-F]{8}([0-9A-F]{16}(\.partial|\.[0-9A-F]{8}\.backup)?|` +
	`\.history)|archive_status|xlogtemp\.\d+)$`)

func (e *Engine) logDirMisfit(ctx context.Context, dir string) *verb.Misfit {
	list, err := e.ReadDir(dir)
	if err != nil {
		return &verb.Misfit{What: fmt.Sprintf("the log directory %s cannot be read: %v", dir, err), Mend: "mend that first"}
	}
	for _, x := range list {
		if !walEntry.MatchString(x.Name()) {
			return &verb.Misfit{What: fmt.Sprintf("the log directory %s holds %s, which is no log", dir, x.Name()),
				Mend: "move it elsewhere: the directory has to be empty before a copy"}
		}
	}
	if !e.Writable(ctx, dir) {
		return &verb.Misfit{What: fmt.Sprintf("the server's user may not write to the log directory %s", dir),
			Mend: "give the directory to that user"}
	}
	return nil
}

// clear removes the data, its tablespaces and its log.
func (e *Engine) clear(ctx context.Context) error {
	log := e.logDir()
	var gone []string
	for _, dir := range e.ownPlaces() {
		found, err := e.Glob(filepath.Join(dir, "PG_*"))
		if err != nil {
			return err
		}
		gone = append(gone, found...)
	}
	if log != "" {
		list, err := e.ReadDir(log)
		if err != nil {
			return err
		}
		for _, x := range list {
			if walEntry.MatchString(x.Name()) {
				gone = append(gone, filepath.Join(log, x.Name()))
			}
		}
	}
	if err := e.Remove(ctx, gone...); err != nil {
		return err
	}
	return e.Clear()
}

func merged(a, b []string) []string {
	out := append(slices.Clone(a), b...)
	slices.Sort(out)
	return slices.Compact(out)
}

// placeArgs are pg_basebackup's arguments for tablespaces and log directory. Missing
// directories are made here: the server's user may not be allowed to.
func (e *Engine) placeArgs(spaces []observation.Space) ([]string, error) {
	var args []string
	for _, s := range spaces {
		to := e.placeOf(s.Path)
		if err := e.MakeDir(to); err != nil {
			return nil, err
		}
		if to != s.Path {
			args = append(args, "-T", strings.ReplaceAll(s.Path, "=", `\=`)+"="+strings.ReplaceAll(to, "=", `\=`))
		}
	}
	if dir := e.memory.Fingerprint(rememberLogDir); dir != "" {
		args = append(args, "--waldir="+dir)
	}
	return args, nil
}
