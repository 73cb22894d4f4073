package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"undersail/internal/core/address"
	"undersail/internal/core/expr"
	"undersail/internal/core/fit"
	"undersail/internal/core/offer"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// How old offers may be when somebody asks for them alone, before they are read again
// in the background, and before they are read again at once.
const (
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
	var names []string
	for _, x := range list {
		names = append(names, x.Name)
	}
	return a, refuse(NotFound, expr.Suggest(name, names, "list them with: undersail accounts"), "there is no account %q", name)
}

func inRegion(a store.Account, region string) error {
	switch {
	case region == "":
		return refuse(Invalid, "its regions are "+strings.Join(a.Regions, ", "), "name a region of account %s", a.Name)
	case !slices.Contains(a.Regions, region):
		return refuse(Invalid, expr.Choose(region, a.Regions), "account %s has no region %q", a.Name, region)
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
		switch age := time.Since(known.At); {
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

// Search is a need, with the account in which it is looked for.
type Search struct {
	Account string   `json:"account"`
	Need    fit.Need `json:"need"`
	// Most is how many answers that fit are given, and how many that do not.
	Most int `json:"most,omitempty"`
}

// Found is what fits a need, best first, and what does not, nearest first.
type Found struct {
	Fits     []fit.Answer `json:"fits"`
	Rejected []fit.Answer `json:"rejected"`
	// Fitting and Others count all of them.
	Fitting int `json:"fitting"`
	Others  int `json:"others"`
	// At is when the oldest of the offers was told.
	At time.Time `json:"at"`
}

// Fit ranks what an account can have against a need.
func (s *Service) Fit(ctx context.Context, q Search) (Found, error) {
	a, err := s.account(ctx, q.Account)
	if err != nil {
		return Found{}, err
	}
	for _, region := range q.Need.Regions {
		if err := inRegion(a, region); err != nil {
			return Found{}, err
		}
	}
	offers, err := s.everywhere(ctx, a, nil)
	if err != nil {
		return Found{}, err
	}
	reserves, err := s.reserved(ctx, a, "", "")
	if err != nil {
		return Found{}, err
	}
	for i, o := range offers {
		offers[i] = counting(o, reserves)
	}
	answers, err := fit.Search(q.Need, offers)
	if err != nil {
		return Found{}, refuse(Invalid, "see: undersail fit --help", "%v", err)
	}
	found := Found{Fits: []fit.Answer{}, Rejected: []fit.Answer{}, At: oldest(offers)}
	for _, x := range answers {
		list, count := &found.Fits, &found.Fitting
		if len(x.WhyNot) > 0 {
			list, count = &found.Rejected, &found.Others
		}
		if *count++; q.Most == 0 || *count <= q.Most {
			*list = append(*list, x)
		}
	}
	return found, nil
}

func oldest(offers []*offer.Offers) time.Time {
	var at time.Time
	for _, o := range offers {
		if at.IsZero() || o.At.Before(at) {
			at = o.At
		}
	}
	return at
}

// Range is a range that networks of an account must not overlap.
type Range struct {
	Range string `json:"range"`
	About string `json:"about"`
	By    string `json:"by"`
}

// Ranges lists the ranges declared for an account: of peers and premises.
func (s *Service) Ranges(ctx context.Context, account string) ([]Range, error) {
	if _, err := s.account(ctx, account); err != nil {
		return nil, err
	}
	list, err := s.store.Ranges(ctx, account)
	out := []Range{}
	for _, r := range list {
		out = append(out, Range{r.Range.String(), r.About, r.DeclaredBy})
	}
	return out, err
}

// DeclareRange says that networks of an account must not overlap a range.
func (s *Service) DeclareRange(ctx context.Context, u User, account, text, about string) ([]Range, error) {
	if err := u.must("administer"); err != nil {
		return nil, err
	}
	if _, err := s.account(ctx, account); err != nil {
		return nil, err
	}
	p, err := parseRange(text)
	if err != nil {
		return nil, err
	}
	if err := s.store.PutRange(ctx, account, store.Range{Range: p, About: about, DeclaredBy: u.Name}); err != nil {
		return nil, err
	}
	s.forgetOffers(account)
	return s.Ranges(ctx, account)
}

// RemoveRange takes a declared range back.
func (s *Service) RemoveRange(ctx context.Context, u User, account, text string) ([]Range, error) {
	if err := u.must("administer"); err != nil {
		return nil, err
	}
	p, err := parseRange(text)
	if err != nil {
		return nil, err
	}
	there, err := s.store.RemoveRange(ctx, account, p)
	if err != nil {
		return nil, err
	}
	if !there {
		return nil, refuse(NotFound, "list them with: undersail accounts ranges "+account, "no range %s is declared for account %s", p, account)
	}
	s.forgetOffers(account)
	return s.Ranges(ctx, account)
}

func parseRange(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, refuse(Invalid, "write it like 10.20.0.0/16", "%q is not an address range", text)
	}
	if p.Masked() != p {
		return p, refuse(Invalid, fmt.Sprintf("did you mean %s?", p.Masked()), "%s is an address within a range, not a range", p)
	}
	return p, nil
}

// AddressMap tells what is taken of an account's addresses in a region.
type AddressMap struct {
	Account string       `json:"account"`
	Region  string       `json:"region"`
	At      time.Time    `json:"at"`
	Map     *address.Map `json:"map"`
}

// Addresses tells what is taken of an account's addresses in a region: networks and
// their subnets, declared ranges, and what open proposals will take. Length asks for
// the ranges of that many bits that are free.
func (s *Service) Addresses(ctx context.Context, account, region string, length int) (AddressMap, error) {
	a, err := s.account(ctx, account)
	if err != nil {
		return AddressMap{}, err
	}
	o, err := s.Offers(ctx, account, region, false)
	if err != nil {
		return AddressMap{}, err
	}
	wanted, err := s.reserved(ctx, a, region, "")
	if err != nil {
		return AddressMap{}, err
	}
	return AddressMap{account, region, o.At, address.Draw(taken(&o, wanted), length)}, nil
}

// reserve is what a proposal of another stack takes, with whose it is.
type reserve struct {
	proposal.Reserve
	stack    string
	proposal int64
	running  bool
}

// reserved lists what proposals of other stacks will take in a region of an account,
// or in all of them.
func (s *Service) reserved(ctx context.Context, a store.Account, region, exceptStack string) ([]reserve, error) {
	rows, err := s.store.Reserves(ctx, a.Name, exceptStack)
	if err != nil {
		return nil, err
	}
	var out []reserve
	for _, row := range rows {
		var list []proposal.Reserve
		if err := json.Unmarshal(row.Reserves, &list); err != nil {
			return nil, fmt.Errorf("read what proposal %d reserves: %w", row.Proposal, err)
		}
		for _, r := range list {
			if region == "" || r.Region == region {
				out = append(out, reserve{r, row.Stack, row.Proposal, row.Running})
			}
		}
	}
	return out, nil
}

// taken lists what has ranges in a region.
func taken(o *offer.Offers, wanted []reserve) []address.Taken {
	var out []address.Taken
	add := func(text string, t address.Taken) {
		if p, err := netip.ParsePrefix(text); err == nil {
			t.Range = p
			out = append(out, t)
		}
	}
	for _, n := range o.Networks {
		add(n.Range, address.Taken{Kind: address.Network, ID: n.ID, Name: n.Name})
	}
	for _, n := range o.Subnets {
		add(n.Range, address.Taken{Kind: address.Subnet, ID: n.ID, Name: n.Name, Network: n.Network, Used: n.Used})
	}
	for _, r := range o.Reserved {
		add(r.Range, address.Taken{Kind: address.Reserved, Name: r.About})
	}
	for _, w := range wanted {
		add(w.Range, address.Taken{Kind: address.Wanted, Name: fmt.Sprintf("%s of stack %s (proposal %d)", w.Resource, w.stack, w.proposal)})
	}
	return out
}

// counting gives offers in which what other stacks will take is counted: by runs that
// go on, and by proposals that may still be accepted.
func counting(o *offer.Offers, list []reserve) *offer.Offers {
	if len(list) == 0 {
		return o
	}
	out := *o
	out.Quotas, out.Reserved = maps.Clone(o.Quotas), slices.Clone(o.Reserved)
	for _, r := range list {
		if r.Region != o.Region {
			continue
		}
		for name, n := range r.Quotas {
			q, told := out.Quotas[name]
			if !told {
				continue
			}
			if r.running {
				q.Running += n
			} else {
				q.Wanted += n
			}
			out.Quotas[name] = q
		}
		if r.Range != "" {
			out.Reserved = append(out.Reserved, offer.Reserved{Range: r.Range, About: fmt.Sprintf("proposal %d of stack %s", r.proposal, r.stack), Wanted: !r.running})
		}
	}
	return &out
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
