package mariadb

import "context"

// Commits implements engine.Engine. A transaction of its own would go to the replicas and
// count; so InnoDB is told to put its log on disk, which every commit waits for.
func (e *Engine) Commits(ctx context.Context) error {
	return e.exec(ctx, "flush no_write_to_binlog engine logs")
}
