package agentapi

import "context"

// PermitHeader carries the service's permit: from the service to the agent that it
// calls, and from there to the peers that the agent asks.
const PermitHeader = "Crosstwin-Permit"

type permitKey struct{}

// WithPermit has calls made with the context show a permit.
func WithPermit(ctx context.Context, permit string) context.Context {
	return context.WithValue(ctx, permitKey{}, permit)
}

// PermitOf returns the permit of a context, empty for none.
func PermitOf(ctx context.Context) string {
	permit, _ := ctx.Value(permitKey{}).(string)
	return permit
}
