package enginetest

import (
	"context"
	"io"
	"net/url"

	"crosstwin/internal/core/verb"
	"crosstwin/internal/engine"
)

// Peers reaches the engines of other servers without agents between.
type Peers map[string]engine.Sharer

// Fetch implements engine.Peers.
func (p Peers) Fetch(ctx context.Context, from verb.Peer, what string, q url.Values) (io.ReadCloser, error) {
	r, w := io.Pipe()
	go func() { w.CloseWithError(p[from.Name].Share(ctx, what, q, w)) }()
	return r, nil
}
