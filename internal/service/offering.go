package service

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"undersail/internal/core/expr"
	"undersail/internal/core/offer"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// How old offers may be while runs change what is there, when somebody asks for them
// alone, before they are read again in the background, and before they are read again at
// once.
const (
	offersBusy  = 2 * time.Second
	offersNew   = 5 * time.Second
	offersFresh = time.Minute
	offersStale = 15 * time.Minute
)

// place is a region of an account.
type place struct{ account, region string }

// Offers gives what a region sells an account: as it was told a moment ago, or, with
// refresh, now. Where the cloud does not answer, older ones say how old they are.
func (s *Service) Offers(ctx context.Context, account, region string, refresh bool) (offer.Offers, error) {
	a, err := s.account(ctx, account)
	if err != nil {
		return offer.Offers{}, err
	}
	if err := inRegion(a, region); err != nil {
		return offer.Offers{}, err
	}
	o, err := s.offersOf(ctx, a, region, refresh)
	if err == nil && !refresh && time.Since(o.At) > offersNew {
		if newer, err := s.readOffers(ctx, a, region); err == nil {
			o = newer
		}
	}
	if err != nil {
		return offer.Offers{}, err
	}
	return *o, nil
}

// known says of accounts whether there are such.
type known struct{ *Service }

func (k known) Known(ctx context.Context, account string) error {
	_, err := k.account(ctx, account)
	return err
}

// account finds an account; a misspelt one gets a suggestion.
func (s *Service) account(ctx context.Context, name string) (store.Account, error) {
	a, err := s.store.Account(ctx, name)
	if !errors.Is(err, store.ErrNotFound) {
		return a, err
	}
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return a, err
	}
	return a, refusal.Unknown("account", name, list, func(x store.Account) string { return x.Name }, "list them with: undersail accounts")
}

func inRegion(a store.Account, region string) error {
	switch {
	case region == "":
		return refusal.New(refusal.Invalid, "its regions are "+strings.Join(a.Regions, ", "), "name a region of account %s", a.Name)
	case !slices.Contains(a.Regions, region):
		return refusal.New(refusal.Invalid, expr.Choose(region, a.Regions), "account %s has no region %q", a.Name, region)
	}
	return nil
}

// offersOf gives offers from memory, from the database, or from the cloud: whichever
// is fresh enough. What it gives is shared, and nobody changes it.
func (s *Service) offersOf(ctx context.Context, a store.Account, region string, refresh bool) (*offer.Offers, error) {
	at := place{a.Name, region}
	s.mu.Lock()
	known := s.offers[at]
	s.mu.Unlock()
	if known == nil && !refresh {
		kept, err := s.store.Offers(ctx, a.Name, region)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		if err == nil {
			if known, err = s.remember(ctx, at, kept); err != nil {
				return nil, err
			}
		}
	}
	if known != nil && !refresh {
		age := time.Since(known.At)
		changed := false
		if age >= offersBusy && age < offersStale {
			var err error
			if changed, err = s.store.ChangedSince(ctx, a.Name, known.At); err != nil {
				return nil, err
			}
		}
		switch {
		case changed: // our own runs have made or removed something since
		case age < offersFresh:
			return known, nil
		case age < offersStale:
			s.refreshSoon(a, region)
			return known, nil
		}
	}
	o, err := s.readOffers(ctx, a, region)
	if err != nil && known != nil && !refresh {
		return known, nil // old ones say how old they are
	}
	return o, err
}

// readOffers asks the cloud, and keeps what it says.
func (s *Service) readOffers(ctx context.Context, a store.Account, region string) (*offer.Offers, error) {
	adapter, _, err := s.adapter(ctx, a.Name)
	if err != nil {
		return nil, err
	}
	o, err := adapter.Offers(ctx, region)
	if err != nil {
		return nil, cloudSays(err)
	}
	o.Account = a.Name
	if o.At, err = s.store.PutOffers(ctx, o); err != nil {
		return nil, err
	}
	return s.remember(ctx, place{a.Name, region}, o)
}

// remember keeps offers in memory, with the ranges that are declared for the account.
func (s *Service) remember(ctx context.Context, at place, o offer.Offers) (*offer.Offers, error) {
	ranges, err := s.store.Ranges(ctx, at.account)
	if err != nil {
		return nil, err
	}
	a, err := s.store.Account(ctx, at.account)
	if err != nil {
		return nil, err
	}
	a.Prices.Over(&o)
	o.Reserved = nil
	for _, r := range ranges {
		o.Reserved = append(o.Reserved, offer.Reserved{Range: r.Range.String(), About: r.About})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.offers[at] = &o
	return &o, nil
}

// refreshSoon reads offers again in the background, one reading of a place at a time.
func (s *Service) refreshSoon(a store.Account, region string) {
	at := place{a.Name, region}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refreshing[at] {
		return
	}
	s.refreshing[at] = true
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if _, err := s.readOffers(ctx, a, region); err != nil {
			s.log.Warn("offers could not be read again", "account", a.Name, "region", region, "error", err)
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.refreshing, at)
	}()
}

// forgetOffers lets the offers of an account be put together anew.
func (s *Service) forgetOffers(account string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for at := range s.offers {
		if at.account == account {
			delete(s.offers, at)
		}
	}
}

// everywhere gives the offers of regions of an account, of all when none is named.
func (s *Service) everywhere(ctx context.Context, a store.Account, regions []string) ([]*offer.Offers, error) {
	if len(regions) == 0 {
		regions = a.Regions
	}
	out := make([]*offer.Offers, len(regions))
	group, ctx := errgroup.WithContext(ctx)
	for i, region := range regions {
		if err := inRegion(a, region); err != nil {
			return nil, err
		}
		group.Go(func() (err error) {
			out[i], err = s.offersOf(ctx, a, region, false)
			return err
		})
	}
	return out, group.Wait()
}

// learned gives the durations that were learned in an account.
func (s *Service) learned(ctx context.Context, account string) (map[proposal.Learned]int64, error) {
	list, err := s.store.Expected(ctx, account)
	out := make(map[proposal.Learned]int64, len(list))
	for _, l := range list {
		out[proposal.Learned{Type: l.Type, Region: l.Region, Size: l.Size}] = l.Ms
	}
	return out, err
}

// others gives the offers of the account's other regions that are known by now; those
// that are not are read in the background.
func (s *Service) others(a store.Account, home string) []*offer.Offers {
	var out []*offer.Offers
	for _, region := range a.Regions {
		if region == home {
			continue
		}
		s.mu.Lock()
		o := s.offers[place{a.Name, region}]
		s.mu.Unlock()
		if o != nil {
			out = append(out, o)
		}
		if o == nil || time.Since(o.At) > offersFresh {
			s.refreshSoon(a, region)
		}
	}
	return out
}
