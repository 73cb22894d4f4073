package accounts

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/address"
	"undersail/internal/core/offer"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Range is a range that networks of an account must not overlap.
type Range struct {
	Range string `json:"range"`
	About string `json:"about"`
	By    string `json:"by"`
}

// Ranges lists the ranges declared for an account: of peers and premises.
func (s *Accounts) Ranges(ctx context.Context, account string) ([]Range, error) {
	if _, err := s.Find(ctx, account); err != nil {
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
func (s *Accounts) DeclareRange(ctx context.Context, u people.User, account, text, about string) ([]Range, error) {
	if err := u.Must(access.Administer, account); err != nil {
		return nil, err
	}
	if _, err := s.Find(ctx, account); err != nil {
		return nil, err
	}
	p, err := parseRange(text)
	if err != nil {
		return nil, err
	}
	if err := s.store.PutRange(ctx, account, store.Range{Range: p, About: about, DeclaredBy: u.Name}); err != nil {
		return nil, fmt.Errorf("keeping a range of account %s: %w", account, err)
	}
	s.ForgetOffers(account)
	s.journal.Done(ctx, u, "declare range", account, map[string]any{"range": p.String(), "about": about})
	return s.Ranges(ctx, account)
}

// RemoveRange takes a declared range back.
func (s *Accounts) RemoveRange(ctx context.Context, u people.User, account, text string) ([]Range, error) {
	if err := u.Must(access.Administer, account); err != nil {
		return nil, err
	}
	p, err := parseRange(text)
	if err != nil {
		return nil, err
	}
	there, err := s.store.RemoveRange(ctx, account, p)
	if err != nil {
		return nil, fmt.Errorf("giving a range back to account %s: %w", account, err)
	}
	if !there {
		return nil, refusal.New(refusal.NotFound, "list them with: undersail accounts ranges "+account,
			"no range %s is declared for account %s", p, account)
	}
	s.ForgetOffers(account)
	s.journal.Done(ctx, u, "remove range", account, map[string]any{"range": p.String()})
	return s.Ranges(ctx, account)
}

func parseRange(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, refusal.New(refusal.Invalid, "write it like 10.20.0.0/16", "%q is not an address range", text)
	}
	if p.Masked() != p {
		return p, refusal.New(refusal.Invalid, fmt.Sprintf("did you mean %s?", p.Masked()),
			"%s is an address within a range, not a range", p)
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
func (s *Accounts) Addresses(ctx context.Context, account, region string, length int) (AddressMap, error) {
	a, err := s.Find(ctx, account)
	if err != nil {
		return AddressMap{}, err
	}
	o, err := s.Offers(ctx, account, region, false)
	if err != nil {
		return AddressMap{}, err
	}
	wanted, err := s.Reserved(ctx, a, region, "")
	if err != nil {
		return AddressMap{}, err
	}
	return AddressMap{account, region, o.At, address.Draw(Taken(&o, wanted), length)}, nil
}

// Taken lists what has ranges in a region.
func Taken(o *offer.Offers, wanted []Reserve) []address.Taken {
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
		add(w.Range, address.Taken{
			Kind: address.Wanted,
			Name: fmt.Sprintf("%s of stack %s (proposal %d)", w.Resource, w.stack, w.proposal),
		})
	}
	return out
}
