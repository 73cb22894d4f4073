package request

import (
	"context"

	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	TakeKey(ctx context.Context, user, key, request string) (taken bool, before store.Answer, err error)
	KeepAnswer(ctx context.Context, user, key string, status int, answer []byte) error
	GiveKeyBack(ctx context.Context, user, key string) error
}
