package accounts

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Limit sets above which cost of a month proposals of an account ask for a
// consent; nil asks for none.
func (s *Accounts) Limit(ctx context.Context, u people.User, name string, mostMonth *float64) (Account, error) {
	if err := u.Must(access.Administer, name); err != nil {
		return Account{}, err
	}
	if mostMonth != nil && !isMoney(*mostMonth) {
		return Account{}, refusal.New(refusal.Invalid, "give an amount of money, or none", "%g is no limit", *mostMonth)
	}
	if _, err := s.Find(ctx, name); err != nil {
		return Account{}, err
	}
	if err := s.store.SetMostMonth(ctx, name, mostMonth); err != nil {
		return Account{}, fmt.Errorf("setting what a month may cost in account %s: %w", name, err)
	}
	s.journal.Done(ctx, u, "limit account", name, map[string]any{"most_month": mostMonth})
	return s.listed(ctx, name)
}

func isMoney(x float64) bool { return x >= 0 && !math.IsInf(x, 0) && !math.IsNaN(x) }

// Bounds are what an account is held to; nil leaves a bound as it is.
type Bounds struct {
	// AllowedRegions are the only ones for new stacks; an empty list allows all.
	AllowedRegions *[]string `json:"allowed_regions,omitempty"`
	// Budget is what may be spent in a month; a negative one means none.
	Budget *float64 `json:"budget,omitempty"`
	// EndsAt is when a lab account is over; the zero time means never.
	EndsAt *time.Time `json:"ends_at,omitempty"`
	// LeaseSeconds is how long a stack lives unless somebody extends it; 0 is for ever.
	LeaseSeconds *int64 `json:"lease_seconds,omitempty"`
	// Tags are put on every resource.
	Tags *map[string]string `json:"tags,omitempty"`
	// Unreached says that no packets from this service reach the machines of the account:
	// checks that would go there are not asked.
	Unreached *bool `json:"unreached,omitempty"`
	// SecondPerson asks that somebody else than its author accepts a proposal.
	SecondPerson *bool `json:"second_person,omitempty"`
	// Prices are a price list of its own; one without a currency takes it away.
	Prices *offer.PriceList `json:"prices,omitempty"`
}

// Bound sets what an account is held to.
func (s *Accounts) Bound(ctx context.Context, u people.User, name string, b Bounds) (Detail, error) {
	if err := u.Must(access.Administer, name); err != nil {
		return Detail{}, err
	}
	a, err := s.Find(ctx, name)
	if err != nil {
		return Detail{}, err
	}
	set := a.Bounds
	var columns []string
	if b.AllowedRegions != nil {
		columns = append(columns, "allowed_regions")
		for _, region := range *b.AllowedRegions {
			if err := InRegion(a, region); err != nil {
				return Detail{}, err
			}
		}
		set.AllowedRegions = *b.AllowedRegions
	}
	if b.Budget != nil {
		columns = append(columns, "budget")
		switch set.Budget = b.Budget; {
		case *b.Budget < 0:
			set.Budget = nil
		case !isMoney(*b.Budget):
			return Detail{}, refusal.New(refusal.Invalid, "give an amount of money, or none", "%g is no budget",
				*b.Budget)
		}
	}
	if b.EndsAt != nil {
		columns = append(columns, "ends_at")
		if set.EndsAt = b.EndsAt; b.EndsAt.IsZero() {
			set.EndsAt = nil
		}
	}
	if b.LeaseSeconds != nil {
		columns = append(columns, "lease_seconds")
		if set.LeaseSeconds = *b.LeaseSeconds; set.LeaseSeconds < 0 {
			return Detail{}, refusal.New(refusal.Invalid, "give a span of time such as 7d, or none",
				"a lease cannot be negative")
		}
	}
	if b.Tags != nil {
		columns = append(columns, "tags")
		for key := range *b.Tags {
			if strings.HasPrefix(key, cloud.TagPrefix) || key == "" {
				return Detail{}, refusal.New(refusal.Invalid, "choose another name for it",
					"the tag %q is one of our own marks", key)
			}
		}
		set.Tags = *b.Tags
	}
	if b.Unreached != nil {
		columns = append(columns, "unreached")
		set.Unreached = *b.Unreached
	}
	if b.SecondPerson != nil {
		columns = append(columns, "second_person")
		set.SecondPerson = *b.SecondPerson
	}
	if set.Tags == nil {
		set.Tags = map[string]string{}
	}
	if b.Prices != nil {
		columns = append(columns, "prices")
		if set.Prices = *b.Prices; b.Prices.Currency != "" {
			if err := b.Prices.Check(); err != nil {
				return Detail{}, refusal.New(refusal.Invalid, "see: undersail accounts prices --help", "%v", err)
			}
			if name := s.soldNowhere(a, *b.Prices); name != "" {
				return Detail{}, refusal.New(refusal.Invalid,
					"list what is sold with: undersail offers --account "+a.Name, "no region of account %s sells %q",
					a.Name, name)
			}
		}
	}
	if err := s.store.BoundAccount(ctx, name, set, u.Who(), columns...); err != nil {
		return Detail{}, refusal.InTheWay(err, "", u.Name)
	}
	s.Lately.forget("account " + name)
	if b.Prices != nil {
		s.ForgetOffers(name)
	}
	all := map[string]any{
		"prices":          set.Prices.Currency,
		"allowed_regions": set.AllowedRegions,
		"budget":          set.Budget,
		"ends_at":         set.EndsAt,
		"lease_seconds":   set.LeaseSeconds,
		"tags":            set.Tags,
		"unreached":       set.Unreached,
		"second_person":   set.SecondPerson,
	}
	maps.DeleteFunc(all, func(column string, _ any) bool { return !slices.Contains(columns, column) })
	s.journal.Done(ctx, u, "bound account", name, all)
	return s.Show(ctx, name)
}

// soldNowhere gives a name of a price list that no region sells which was read, or nothing.
func (s *Accounts) soldNowhere(a store.Account, l offer.PriceList) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var nowhere []string
	first := true
	for at, o := range s.offers {
		if at.account != a.Name {
			continue
		}
		unknown := l.Unknown(o)
		if first {
			nowhere, first = unknown, false
		}
		nowhere = slices.DeleteFunc(nowhere, func(name string) bool { return !slices.Contains(unknown, name) })
	}
	if len(nowhere) == 0 {
		return ""
	}
	return slices.Min(nowhere)
}
