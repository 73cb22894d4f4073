package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Heard is a query that is about to be made, and the number of the server's process that
// will make it.
type Heard struct {
	SQL     string
	Backend uint32
}

// Watched lets somebody hear of every query before it is made, and change its context: what
// holds queries up, counts them or lets them fail.
func Watched(hear func(ctx context.Context, query Heard) context.Context) Option {
	return func(o *Opening) { o.ConnConfig.Tracer = watched(hear) }
}

type watched func(ctx context.Context, query Heard) context.Context

// TraceQueryStart hears of a query.
func (w watched) TraceQueryStart(ctx context.Context, c *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	return w(ctx, Heard{q.SQL, c.PgConn().PID()})
}

// TraceQueryEnd is there for the interface.
func (watched) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}
