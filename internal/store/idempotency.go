package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
)

// Answer is what a creating call with a key was answered. A status of 0 says that
// the call is still being carried out.
type Answer struct {
	Request string
	Status  int
	Answer  []byte
}

// TakeKey reserves a key of a user for a request. When it is taken already, the
// answer of the first request is given instead. One that was taken a minute ago and
// never answered belonged to a process that is gone.
func (s *Store) TakeKey(ctx context.Context, user, key, request string) (taken bool, before Answer, err error) {
	tag, err := s.Pool.Exec(ctx, `INSERT INTO idempotency AS i (user_name, key, request) VALUES ($1, $2, $3)
		ON CONFLICT (user_name, key) DO UPDATE SET request = $3, created_at = now()
		WHERE i.status = 0 AND i.created_at < now() - interval '1 minute'`, user, key, request)
	if err != nil || tag.RowsAffected() == 1 {
		return err == nil, before, classify(err)
	}
	before, err = one[Answer](ctx, s.Pool,
		"SELECT request, status, answer FROM idempotency WHERE user_name = $1 AND key = $2", user, key)
	if errors.Is(err, pgx.ErrNoRows) || errors.Is(err, ErrNotFound) {
		return s.TakeKey(ctx, user, key, request) // it was given back meanwhile
	}
	return false, before, err
}

// KeepAnswer keeps the answer to the request that took a key.
func (s *Store) KeepAnswer(ctx context.Context, user, key string, status int, answer []byte) error {
	return exec(ctx, s, "UPDATE idempotency SET status = $3, answer = $4 WHERE user_name = $1 AND key = $2", user, key,
		status, answer)
}

// GiveKeyBack lets the same key be used again: nothing came of its request.
func (s *Store) GiveKeyBack(ctx context.Context, user, key string) error {
	return exec(ctx, s, "DELETE FROM idempotency WHERE user_name = $1 AND key = $2 AND status = 0", user, key)
}
