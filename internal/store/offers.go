package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"undersail/internal/core/offer"
)

// Offers gives what a region sold an account when it was asked last.
func (s *Store) Offers(ctx context.Context, account, region string) (offer.Offers, error) {
	row, err := one[struct {
		Body []byte
		At   time.Time
	}](ctx, s.Pool, "SELECT body, at FROM offers WHERE account = $1 AND region = $2", account, region)
	if err != nil {
		return offer.Offers{}, err
	}
	var o offer.Offers
	if err := json.Unmarshal(row.Body, &o); err != nil {
		return o, fmt.Errorf("reading what is offered in account %s: %w", account, err)
	}
	o.At = row.At
	return o, nil
}

// PutOffers keeps what a region sells, and gives the moment that is recorded.
func (s *Store) PutOffers(ctx context.Context, o offer.Offers) (time.Time, error) {
	raw, err := json.Marshal(o)
	if err != nil {
		return time.Time{}, fmt.Errorf("keeping what is offered in account: %w", err)
	}
	var at time.Time
	err = s.Pool.QueryRow(ctx, `INSERT INTO offers (account, region, body) VALUES ($1, $2, $3)
		ON CONFLICT (account, region) DO UPDATE SET body = $3, at = clock_timestamp()
		RETURNING at`, o.Account, o.Region, raw).Scan(&at)
	return at, classify(err)
}
