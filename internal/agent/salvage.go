package agent

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"crosstwin/internal/agentapi"
	"crosstwin/internal/core/tail"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// handleTail serves what a tail's listing needs.
func (a *Agent) handleTail(m *http.ServeMux, x engine.TailReader) {
	m.HandleFunc("POST /agent/v1/names", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var files []string
		if err := decode(r.Body, &files); err != nil {
			return err
		}
		names, err := x.Names(r.Context(), files)
		if err != nil {
			return err
		}
		return answer(w, names)
	}))
	m.HandleFunc("POST /agent/v1/rows-at", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		var req tail.RowsAtArgs
		if err := decode(r.Body, &req); err != nil {
			return err
		}
		rows, err := x.RowsAt(r.Context(), req)
		if err != nil {
			return err
		}
		return answer(w, rows)
	}))
}

// handleSalvage serves saved tails.
func (a *Agent) handleSalvage(m *http.ServeMux) {
	m.HandleFunc("GET /agent/v1/salvage/{file}", a.fromService(func(w http.ResponseWriter, r *http.Request) error {
		name := filepath.Base(r.PathValue("file"))
		f, err := os.Open(filepath.Join(a.salvageDir(), name))
		if err != nil {
			return agentapi.Problem{Title: "No such salvage", Detail: a.cfg.Server + " holds no salvage " + name, Status: 404,
				Code: agentapi.CodeNotFound}
		}
		defer f.Close()
		w.Header().Set("Content-Type", "application/sql")
		io.Copy(w, f)
		return nil
	}))
}

func (a *Agent) salvageDir() string { return filepath.Join(a.dir, "salvage") }

// salvage saves the tail, and beside it the listing with its values, so that
// they are shown from then on without opening the data again.
func (a *Agent) salvage(ctx context.Context, x engine.Salvager, v verb.Salvage, p engine.Progress) (tail.Tail, error) {
	t, err := x.Salvage(ctx, v, a.salvageDir(), p)
	if err != nil {
		return tail.Tail{}, err
	}
	if t.Digest, err = digestOf(t.Saved); err != nil {
		return tail.Tail{}, fmt.Errorf("could not read the saved tail back: %w", err)
	}
	b, err := json.Marshal(t)
	if err != nil {
		return tail.Tail{}, err
	}
	return *t, writeSynced(t.Saved+listingSuffix, b, 0o600)
}

const listingSuffix = ".listing.json"

// recallTail puts the listing of a saved tail in the place of one without
// values, if it is of the same tail and the saved file is still there. A listing
// that cannot be read is no loss: the tail can be saved again.
func (a *Agent) recallTail(t *tail.Tail) {
	if t == nil {
		return
	}
	lists, _ := filepath.Glob(filepath.Join(a.salvageDir(), "*"+listingSuffix))
	for _, file := range lists {
		var saved tail.Tail
		b, err := os.ReadFile(file)
		if err != nil || json.Unmarshal(b, &saved) != nil || !saved.SameAs(t) {
			continue
		}
		if _, err := os.Stat(saved.Saved); err == nil {
			*t = saved
		}
	}
}

// forgetEvery is how often saved tails are looked through.
const forgetEvery = time.Hour

// forgetTails removes saved tails that are older than the service keeps them; 0 keeps them
// all. While a rewind or a copy is unfinished nothing is removed: it may need its tail.
func (a *Agent) forgetTails(now time.Time, keep time.Duration) {
	a.lastMu.Lock()
	soon := now.Sub(a.tailsAt) < forgetEvery
	if !soon {
		a.tailsAt = now
	}
	a.lastMu.Unlock()
	if keep <= 0 || soon || a.memory.get().Unfinished != "" {
		return
	}
	files, err := os.ReadDir(a.salvageDir())
	if err != nil {
		return // there are none
	}
	for _, f := range files {
		info, err := f.Info()
		if err != nil || !info.Mode().IsRegular() || now.Sub(info.ModTime()) < keep {
			continue
		}
		if err := os.Remove(filepath.Join(a.salvageDir(), f.Name())); err != nil {
			a.log.Error("an old saved tail could not be removed", "file", f.Name(), "error", err)
			continue
		}
		a.log.Info("a saved tail was removed: it is older than the service keeps them", "file", f.Name(), "keep", keep)
	}
}

// digestOf sums a file's content.
func digestOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
