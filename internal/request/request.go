// Package request is what every call of a user has in common: who asks and what they see, how
// much may be computed for it, and that asking again under the same key does nothing twice.
//
// From the ground up: store, keys; turns, request.
package request

import (
	"context"

	"undersail/internal/access"
	"undersail/internal/people"
)

// As narrows what is read under a context down to what somebody sees, and gives what is
// done for one request of theirs its budget.
func As(ctx context.Context, u people.User) context.Context {
	ctx = context.WithValue(ctx, computingKey{}, &allowance{who: u.Name, left: computeBudget, guard: computeGuard})
	only, everywhere := u.Grants().Accounts()
	if everywhere {
		return ctx
	}
	return access.Within(ctx, only)
}
