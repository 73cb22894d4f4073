// Package budget bounds what is computed by a cost that is counted, and so the same on every
// machine, busy or not: the cost units of the expression language, and one for each resource.
// Who asks may hang up, and whoever runs the program may add a guard of their own, such as a
// clock, far above what the count allows.
package budget

import (
	"context"
	"sync/atomic"
)

// Budget is what is left. It is safe for concurrent use.
type Budget struct {
	ctx   context.Context
	guard func() bool // nil guards nothing
	left  atomic.Int64
	spent atomic.Int64
	bound bool
}

// Boundless is for what runs for its own caller alone, and for what was accepted already.
func Boundless() *Budget { return &Budget{ctx: context.Background()} }

// Of allows so many units, until the context is done or the guard says that it is over.
func Of(ctx context.Context, units int64, guard func() bool) *Budget {
	b := &Budget{ctx: ctx, guard: guard, bound: true}
	b.left.Store(units)
	return b
}

// Spend counts what was computed.
func (b *Budget) Spend(units int64) {
	b.spent.Add(units)
	b.left.Add(-units)
}

// Spent is what was computed so far.
func (b *Budget) Spent() int64 { return b.spent.Load() }

// Over reports whether to give up: nothing is left, nobody waits any more, or the guard says
// so.
func (b *Budget) Over() bool {
	return b.bound && b.left.Load() < 0 || b.ctx.Err() != nil || b.guard != nil && b.guard()
}

// Context ends when nobody waits any more.
func (b *Budget) Context() context.Context { return b.ctx }
