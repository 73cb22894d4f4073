package accounts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"undersail/internal/core/offer"
	"undersail/internal/fault"
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

// Offers gives what a region sells an account: as it was told a moment ago, or, with
// refresh, now. Where the cloud does not answer, older ones say how old they are.
func (s *Accounts) Offers(ctx context.Context, account, region string, refresh bool) (offer.Offers, error) {
	a, err := s.Find(ctx, account)
	if err != nil {
		return offer.Offers{}, err
	}
	if err := InRegion(a, region); err != nil {
		return offer.Offers{}, err
	}
	o, err := s.OffersOf(ctx, a, region, refresh)
	if err == nil && !refresh && time.Since(o.At) > offersNew {
		if newer, err := s.ReadOffers(ctx, a, region); err == nil {
			o = newer
		}
	}
	if err != nil {
		return offer.Offers{}, err
	}
	return *o, nil
}

// OffersOf gives offers from memory, from the database, or from the cloud: whichever
// is fresh enough. What it gives is shared, and nobody changes it.
func (s *Accounts) OffersOf(ctx context.Context, a store.Account, region string, refresh bool) (*offer.Offers, error) {
	if refresh {
		return s.ReadOffers(ctx, a, region)
	}
	known, err := s.told(ctx, a, region)
	if err != nil {
		return nil, err
	}
	if known != nil {
		age := time.Since(known.At)
		changed := false
		if age >= offersBusy && age < offersStale {
			if changed, err = s.store.ChangedSince(ctx, a.Name, known.At); err != nil {
				return nil, fmt.Errorf("asking what changed in account %s: %w", a.Name, err)
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
	o, err := s.ReadOffers(ctx, a, region)
	if err != nil && known != nil {
		return known, nil // old ones say how old they are
	}
	return o, err
}

// PricesOf gives offers to who only wants to know what something costs: as they were told, if
// that is not too long ago, whatever was made in the account since.
func (s *Accounts) PricesOf(ctx context.Context, a store.Account, region string) (*offer.Offers, error) {
	known, err := s.told(ctx, a, region)
	if err != nil || known != nil && time.Since(known.At) < offersStale {
		return known, err
	}
	return s.ReadOffers(ctx, a, region)
}

// told gives what a region told last, from memory or from the database; nil when it never did.
func (s *Accounts) told(ctx context.Context, a store.Account, region string) (*offer.Offers, error) {
	at := place{a.Name, region}
	s.mu.Lock()
	known := s.offers[at]
	s.mu.Unlock()
	if known != nil {
		return known, nil
	}
	kept, err := s.store.Offers(ctx, a.Name, region)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what region %s told: %w", region, err)
	}
	return s.remember(ctx, at, kept)
}

// ReadOffers asks the cloud, and keeps what it says.
func (s *Accounts) ReadOffers(ctx context.Context, a store.Account, region string) (*offer.Offers, error) {
	adapter, _, err := s.Adapter(ctx, a.Name)
	if err != nil {
		return nil, err
	}
	o, err := adapter.Offers(ctx, region)
	if err != nil {
		return nil, CloudSays(err)
	}
	o.Account = a.Name
	if o.At, err = s.store.PutOffers(ctx, o); err != nil {
		return nil, fmt.Errorf("keeping what is offered in account: %w", err)
	}
	return s.remember(ctx, place{a.Name, region}, o)
}

// remember keeps offers in memory, with the ranges that are declared for the account.
func (s *Accounts) remember(ctx context.Context, at place, o offer.Offers) (*offer.Offers, error) {
	ranges, err := s.store.Ranges(ctx, at.account)
	if err != nil {
		return nil, fmt.Errorf("reading the ranges of account %s: %w", at.account, err)
	}
	a, err := s.store.Account(ctx, at.account)
	if err != nil {
		return nil, fmt.Errorf("reading account %s: %w", at.account, err)
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
func (s *Accounts) refreshSoon(a store.Account, region string) {
	at := place{a.Name, region}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.refreshing[at] {
		return
	}
	s.refreshing[at] = true
	fault.Go(s.log, "reading offers again", func() {
		defer func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			delete(s.refreshing, at)
		}()
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if _, err := s.ReadOffers(ctx, a, region); err != nil {
			s.log.Warn("offers could not be read again", "account", a.Name, "region", region, "error", err)
		}
	})
}

// ForgetOffers lets the offers of an account be put together anew.
func (s *Accounts) ForgetOffers(account string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for at := range s.offers {
		if at.account == account {
			delete(s.offers, at)
		}
	}
}

// InEveryRegion gives the offers of regions of an account, of all when none is named.
func (s *Accounts) InEveryRegion(ctx context.Context, a store.Account, regions []string) ([]*offer.Offers, error) {
	if len(regions) == 0 {
		regions = a.Regions
	}
	out := make([]*offer.Offers, len(regions))
	group, ctx := fault.WithContext(ctx)
	for i, region := range regions {
		if err := InRegion(a, region); err != nil {
			return nil, err
		}
		group.Go(func() (err error) {
			out[i], err = s.OffersOf(ctx, a, region, false)
			return err
		})
	}
	return out, group.Wait()
}

// OtherRegions gives the offers of the account's other regions that are known by now; those
// that are not are read in the background.
func (s *Accounts) OtherRegions(a store.Account, home string) []*offer.Offers {
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
