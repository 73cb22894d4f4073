package service

import (
	"context"
)

// LeftToCompute is what is left of the budget of the request of a context.
func LeftToCompute(ctx context.Context) int64 {
	left, _ := ctx.Value(computingKey{}).(*allowance).rest()
	return left
}

// ComputeBudget is the whole of it.
const ComputeBudget = computeBudget
