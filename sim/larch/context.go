package larch

import (
	"context"

	"undersail/sim/world"
)

type callKey struct{}

// withCall carries the ledger line of a call to whoever learns more about it.
func withCall(ctx context.Context, c *world.Call) context.Context {
	return context.WithValue(ctx, callKey{}, c)
}

func callOf(ctx context.Context) *world.Call {
	c, _ := ctx.Value(callKey{}).(*world.Call)
	return c
}
