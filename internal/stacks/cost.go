package stacks

import (
	"context"
	"fmt"
	"time"

	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/store"
)

// Spending is what a stack costs, and has cost.
type Spending struct {
	Stack string `json:"stack"`
	// Cost is by today's prices, with a line for each resource.
	Cost price.Cost `json:"cost"`
	// Tags are what an hour costs by the values of each tag; "" has no such tag.
	Tags map[string]map[string]float64 `json:"tags"`
	// Spent is what it has cost since it was made, by the hours of the account's clock.
	Spent float64   `json:"spent"`
	Since time.Time `json:"since"`
	// History is what it cost in an hour from each moment on, the oldest first.
	History []store.PriceSince `json:"history"`
}

// Cost tells what a stack costs by resource, licence and tag, and what it has cost since
// it was made.
func (s *Stacks) Cost(ctx context.Context, name string) (Spending, error) {
	st, err := s.Living(ctx, name)
	if err != nil {
		return Spending{}, err
	}
	a, err := s.accounts.Find(ctx, st.Account)
	if err != nil {
		return Spending{}, err
	}
	rows, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return Spending{}, fmt.Errorf("reading the resources of stack %s: %w", st.ID, err)
	}
	offers := offer.Everywhere{Elsewhere: map[string]*offer.Offers{}}
	if offers.Home, err = s.accounts.OffersOf(ctx, a, st.Region, false); err != nil {
		return Spending{}, err
	}
	out := Spending{Stack: name, Tags: map[string]map[string]float64{}, Since: st.CreatedAt}
	var list []render.Resource
	for _, row := range rows {
		r := render.Resource{Name: row.Name, Type: row.Type, Want: row.Want}
		if row.Region != st.Region {
			r.Region = row.Region
		}
		if offers.In(r.Region) == nil {
			if offers.Elsewhere[r.Region], err = s.accounts.OffersOf(ctx, a, r.Region, false); err != nil {
				return Spending{}, err
			}
		}
		list = append(list, r)
	}
	out.Cost = price.Of(list, offers)
	for _, l := range out.Cost.Lines {
		for tag := range l.Tags {
			if out.Tags[tag] == nil {
				out.Tags[tag] = out.Cost.ByTag(tag)
			}
		}
	}
	if out.Spent, err = s.store.Spent(ctx, st.ID); err != nil {
		return out, fmt.Errorf("reading what was spent on stack %s: %w", st.ID, err)
	}
	out.Spent *= max(a.ClockRate, 0.001)
	if out.History, err = s.store.PriceHistory(ctx, st.ID); err != nil {
		return out, fmt.Errorf("reading what was paid for stack %s: %w", st.ID, err)
	}
	return out, nil
}
