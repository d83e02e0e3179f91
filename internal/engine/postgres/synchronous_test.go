package postgres

import (
	"path/filepath"
	"testing"

	"crosstwin/internal/core/synchronous"
	"crosstwin/internal/core/verb"
)

// A primary that is told its list again keeps from where on its commits wait. A replica that is
// told the list of its last time as primary begins anew: what was acknowledged in between is no
// part of what was proven then.
func TestToldAgain(t *testing.T) {
	p := primary(t)
	list := verb.Synchronize{List: synchronous.List{Need: 1, Names: []string{"tern"}}, Standbys: []string{"tern"}}
	if err := p.Synchronize(p.ctx(), list); err != nil {
		t.Fatal(err)
	}
	first := p.told()
	if !first.Proven || first.At == "" {
		t.Fatalf("told once: %+v", first)
	}
	if err := p.Synchronize(p.ctx(), list); err != nil {
		t.Fatal(err)
	}
	if again := p.told(); again.At != first.At {
		t.Errorf("proven from %s on, and when told again from %s on", first.At, again.At)
	}
	off := verb.Synchronize{}
	if err := p.Synchronize(p.ctx(), off); err != nil {
		t.Fatal(err)
	}

	r := replicaOf(t, p)
	if err := r.keepTold(first); err != nil {
		t.Fatal(err)
	}
	if err := r.Synchronize(r.ctx(), list); err != nil {
		t.Fatal(err)
	}
	if got := r.told(); !got.Proven || got.At != "" {
		t.Errorf("a replica that was primary before: %+v", got)
	}
}

// The one trace of a commit that no replica had is read in the language in which the server
// writes it, and what a client sends is not taken for it.
func TestAloneInAnyLanguage(t *testing.T) {
	w := readLogWords(primary(t).cfg.BinDir)
	const german = "storniere Warten auf synchrone Replikation wegen Benutzeraufforderung"
	if catalogs, _ := filepath.Glob("/usr/share/locale/de/LC_MESSAGES/postgres-*.mo"); len(catalogs) == 0 {
		w.alone, w.statement = append(w.alone, german), append(w.statement, "ANWEISUNG:  ") // installed without them
	}
	for line, want := range map[string]bool{
		"2027-01-01 06:00:00.000 UTC [77] ferry@skerry WARNING:  " + cancelledWait + "\n":   true,
		"2027-01-01 06:00:00.000 UTC [77] ferry@skerry WARNUNG:  " + german + "\n":          true,
		"[77] STATEMENT:  select 'WARNING:  " + cancelledWait + "\n":                        false,
		"[77] ANWEISUNG:  select 'WARNUNG:  " + german + "\n":                               false,
		"\tWARNING:  " + cancelledWait + "\n":                                               false,
		"[77] ERROR:  relation \"" + cancelledWait + "\" does not exist\n":                  false,
		"[77] FATAL:  canceling the wait for synchronous replication and terminating\n":     false,
		"[77] LOG:  parameter \"cluster_name\" changed to \"" + cancelledWait + "\"\n":      false,
		"[77] DETAIL:  The transaction has already committed locally, but might not have\n": false,
	} {
		if got := w.tellsAlone(line); got != want {
			t.Errorf("%q is taken for one: %t", line, got)
		}
	}
}
