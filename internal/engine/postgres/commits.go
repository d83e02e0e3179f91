package postgres

import "context"

// Commits implements engine.Engine. The message goes into the log and nowhere else (an
// empty transaction would write nothing); with synchronous_commit = local its commit waits
// for the own disk alone.
func (e *Engine) Commits(ctx context.Context) error {
	return e.exec(ctx, "begin; set local synchronous_commit = local; "+
		"select pg_logical_emit_message(true, 'crosstwin', ''); commit")
}
