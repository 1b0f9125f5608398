package background

import (
	"context"
	"log/slog"
)

// Quietly passes on what the job queue logs when it is worth a line to us.
func Quietly(log *slog.Logger) *slog.Logger {
	return slog.New(atLeast{log.Handler(), slog.LevelError})
}

type atLeast struct {
	slog.Handler
	level slog.Level
}

// Enabled implements slog.Handler.
func (h atLeast) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= h.level && h.Handler.Enabled(ctx, l)
}

// WithAttrs implements slog.Handler.
func (h atLeast) WithAttrs(a []slog.Attr) slog.Handler {
	return atLeast{h.Handler.WithAttrs(a), h.level}
}

// WithGroup implements slog.Handler.
func (h atLeast) WithGroup(n string) slog.Handler { return atLeast{h.Handler.WithGroup(n), h.level} }
