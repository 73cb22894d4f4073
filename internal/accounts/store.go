package accounts

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"undersail/internal/core/offer"
	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	PutAccount(ctx context.Context, a store.Account, was int64, who store.Who) error
	TestedAccount(ctx context.Context, name string, identity json.RawMessage, regions []string, clockRate float64) error
	BoundAccount(ctx context.Context, name string, h store.Bounds, who store.Who, columns ...string) error
	Account(ctx context.Context, name string) (store.Account, error)
	Accounts(ctx context.Context) ([]store.Account, error)
	SpentThisMonth(ctx context.Context, account string) (hours float64, err error)
	CloseAccount(ctx context.Context, name, why string, all bool, who store.Who) error
	Ranges(ctx context.Context, account string) ([]store.Range, error)
	PutRange(ctx context.Context, account string, r store.Range) error
	RemoveRange(ctx context.Context, account string, r netip.Prefix) (bool, error)
	SetMostMonth(ctx context.Context, account string, most *float64) error

	Unpark(ctx context.Context, account, what string, grace time.Duration, enqueue store.Enqueue) (int, error)

	AllKept(ctx context.Context) ([]store.Kept, error)

	Offers(ctx context.Context, account, region string) (offer.Offers, error)
	PutOffers(ctx context.Context, o offer.Offers) (time.Time, error)

	Reserves(ctx context.Context, account, exceptStack string) ([]store.Reserved, error)
	ChangedSince(ctx context.Context, account string, at time.Time) (changed bool, err error)

	Resources(ctx context.Context, stackID string) ([]store.Resource, error)

	SummariesOf(ctx context.Context, account string) ([]store.Summary, error)
	StacksByAccount(ctx context.Context) (map[string]int, error)
}
