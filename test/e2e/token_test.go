package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
)

// holder asks the service with a token of its own.
type holder struct {
	w     *world
	token string
}

// token makes one that is good for some scopes.
func (w *world) token(scopes string) holder {
	w.t.Helper()
	name := "holder-of-" + strings.ReplaceAll(scopes, ",", "-")
	out, problems, code := w.run("token", "add", name, "--scope", scopes, "-o", "json")
	var made struct{ Token string }
	if err := json.Unmarshal([]byte(out), &made); code != 0 || err != nil || made.Token == "" {
		w.t.Fatalf("no token: %v %s%s", err, out, problems)
	}
	return holder{w, made.Token}
}

// get returns the body of a good answer below /api/v1.
func (h holder) get(method, path, body string) string {
	h.w.t.Helper()
	return h.ask(method, path, body, true)
}

// refused returns the body of a refusal.
func (h holder) refused(method, path, body string) string {
	h.w.t.Helper()
	return h.ask(method, path, body, false)
}

func (h holder) ask(method, path, body string, good bool) string {
	h.w.t.Helper()
	req, err := http.NewRequestWithContext(h.w.ctx, method, h.w.URL+"/api/v1"+path, strings.NewReader(body))
	if err != nil {
		h.w.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+h.token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		h.w.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil || (res.StatusCode < 300) != good {
		h.w.t.Fatalf("%s %s: %s %v %s", method, path, res.Status, err, b)
	}
	return string(b)
}
