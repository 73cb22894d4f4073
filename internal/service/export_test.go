package service

import (
	"context"
	"time"
)

// LeftToCompute is what is left of the budget of the request of a context.
func LeftToCompute(ctx context.Context) time.Duration {
	return ctx.Value(computingKey{}).(*budget).rest()
}

// ComputeBudget is the whole of it.
const ComputeBudget = computeBudget
