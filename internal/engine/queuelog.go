package engine

import (
	"context"
	"log/slog"
)

// queueLog lets what the job queue warns of into the log; what it counts every few seconds only
// where everything is wanted.
type queueLog struct{ slog.Handler }

func (q queueLog) Enabled(ctx context.Context, level slog.Level) bool {
	return q.Handler.Enabled(ctx, level) && (level >= slog.LevelWarn || q.Handler.Enabled(ctx, slog.LevelDebug))
}

func (q queueLog) WithAttrs(attrs []slog.Attr) slog.Handler {
	return queueLog{q.Handler.WithAttrs(attrs)}
}

func (q queueLog) WithGroup(name string) slog.Handler { return queueLog{q.Handler.WithGroup(name)} }
