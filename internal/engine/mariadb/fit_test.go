package mariadb

import (
	"os"
	"strings"
	"testing"

	"crosstwin/internal/core/verb"
)

// A server that could not be started with its configuration, or that keeps a part of
// its data elsewhere, is found before anything is stopped or removed.
func TestFit(t *testing.T) {
	t.Parallel()
	_, _, plover := newPair(t)
	good, err := os.ReadFile(plover.cfg.ConfigFile)
	plover.ok(err)
	plover.Observe(plover.ctx(), true)
	for _, c := range []struct {
		line           string
		copied, itself string // what is found; empty: nothing
	}{
		{"", "", ""},
		{"nonsense_variable=1", "unknown variable 'nonsense_variable=1'", "unknown variable 'nonsense_variable=1'"},
		{"max_connections=lots", "'max_connections'", "'max_connections'"},
		{"innodb_undo_directory=/srv/undo", "innodb_undo_directory is /srv/undo on plover, outside of the data " +
			"directory", ""},
		{"log_bin=other-bin", "", "and its configuration says " + plover.Path("other-bin")},
		{"skip_log_bin", "", "its configuration has none any more"},
		{"log_bin=" + plover.Path("d-bin"), "", ""},
		{"datadir=/srv/other", "datadir is /srv/other in plover's configuration", ""},
	} {
		plover.ok(os.WriteFile(plover.cfg.ConfigFile, append([]byte(nil), string(good)+"\n"+c.line+"\n"...), 0o644))
		for _, ask := range []struct {
			verb.Fit
			want string
		}{{verb.Fit{}, c.copied}, {verb.Fit{Itself: true}, c.itself}} {
			f, err := plover.Fit(plover.ctx(), ask.Fit)
			plover.ok(err)
			found := ""
			for _, m := range f.Misfits {
				found += m.What + "\n"
			}
			if (found == "") != (ask.want == "") || !strings.Contains(found, ask.want) {
				t.Errorf("%q, itself %t: %q, want %q", c.line, ask.Itself, found, ask.want)
			}
		}
	}
	plover.ok(os.WriteFile(plover.cfg.ConfigFile, good, 0o644))
	if o := plover.Observe(plover.ctx(), false); !o.Process.Accepting {
		t.Errorf("looking has ended the server: %+v", o.Process)
	}
}
