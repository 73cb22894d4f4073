package service

import (
	"context"
	"strings"
)

// Answered is what a call was answered.
type Answered struct {
	Status int
	Answer []byte
}

// TakeKey reserves a key for a call of a user. When the same call was carried out
// under it before, its answer is given; another call, or one that is still on its
// way, is refused.
func (s *Service) TakeKey(ctx context.Context, u User, key, request string) (*Answered, error) {
	// A body may hold a secret that can be guessed: what is kept of it tells nothing
	// without our key.
	request = s.sealed.Keyed("request", request)
	taken, before, err := s.store.TakeKey(ctx, u.holder(), key, request)
	switch {
	case err != nil || taken:
		return nil, err
	case before.Request != request:
		return nil, refuse(Conflict, "use a new key for a new call", "this Idempotency-Key was used with another call")
	case before.Status == 0:
		return nil, refuse(Conflict, "ask again in a moment", "the call with this Idempotency-Key is still being carried out")
	}
	return &Answered{before.Status, before.Answer}, nil
}

// KeepAnswer keeps what a call was answered; one that was refused gives its key
// back.
func (s *Service) KeepAnswer(ctx context.Context, u User, key string, status int, answer []byte) error {
	if status >= 400 {
		return s.store.GiveKeyBack(ctx, u.holder(), key)
	}
	return s.store.KeepAnswer(ctx, u.holder(), key, status, answer)
}

// holder is whose a key is: of somebody with these grants. An answer that was given to more
// is not given again to less.
func (u User) holder() string {
	return u.Name + " " + strings.Join(u.grants().Strings(), " ")
}
