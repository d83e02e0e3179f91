package api

import (
	"context"
	"time"
)

// noteRefusal writes that a token was used for what it is not good for: whoever stole one
// shows by that.
func (a *API) noteRefusal(ctx context.Context, who, from, route, path string, why error) {
	if !a.refused.Write(who, route, time.Now()) {
		return
	}
	a.log.Warn("a token was used for what it is not good for", "token", who, "from", from, "path", path)
	a.service.NoteRefusal(context.WithoutCancel(ctx), who, from, path, why.Error())
}
