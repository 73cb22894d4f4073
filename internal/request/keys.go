package request

import (
	"context"
	"strings"

	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
)

// Keys are those under which programs ask for the same thing again without it being done twice.
type Keys struct {
	store  Store
	sealed *sealed.Sealed
}

// NewKeys keeps keys in a store.
func NewKeys(st Store, box *sealed.Sealed) *Keys { return &Keys{st, box} }

// Answered is what a call was answered.
type Answered struct {
	Status int
	Answer []byte
}

// Take reserves a key for a call of a user. When the same call was carried out
// under it before, its answer is given; another call, or one that is still on its
// way, is refused.
func (s *Keys) Take(ctx context.Context, u people.User, key, request string) (*Answered, error) {
	// A body may hold a secret that can be guessed: what is kept of it tells nothing
	// without our key.
	request = s.sealed.Keyed("request", request)
	taken, before, err := s.store.TakeKey(ctx, holderOf(u), key, request)
	switch {
	case err != nil || taken:
		return nil, err
	case before.Request != request:
		return nil, refusal.New(refusal.Conflict, "use a new key for a new call",
			"this Idempotency-Key was used with another call")
	case before.Status == 0:
		return nil, refusal.New(refusal.Conflict, "ask again in a moment",
			"the call with this Idempotency-Key is still being carried out")
	}
	return &Answered{before.Status, before.Answer}, nil
}

// Keep keeps what a call was answered; one that was refused gives its key
// back.
func (s *Keys) Remember(ctx context.Context, u people.User, key string, status int, answer []byte) error {
	if status >= 400 {
		return s.store.GiveKeyBack(ctx, holderOf(u), key)
	}
	return s.store.KeepAnswer(ctx, holderOf(u), key, status, answer)
}

// holderOf is whose a key is: of somebody with these grants. An answer that was given to more
// is not given again to less.
func holderOf(u people.User) string {
	return u.Name + " " + strings.Join(u.Grants().Strings(), " ")
}
