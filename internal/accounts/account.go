package accounts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/expr"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Account is an account as lists show it.
type Account struct {
	Name      string   `json:"name"`
	Cloud     string   `json:"cloud"`
	Endpoint  string   `json:"endpoint"`
	Regions   []string `json:"regions"`
	ClockRate float64  `json:"clock_rate"`
	Stacks    int      `json:"stacks"`
	// MostMonth is the cost of a month above which proposals ask for a consent.
	MostMonth *float64 `json:"most_month,omitempty"`
	// CredentialsEnd is when the credentials end, as the cloud said last.
	CredentialsEnd *time.Time `json:"credentials_end,omitempty"`
	// EndsAt is when a lab account is over; ClosedAt when it was closed, and why.
	EndsAt    *time.Time `json:"ends_at,omitempty"`
	ClosedAt  *time.Time `json:"closed_at,omitempty"`
	ClosedWhy string     `json:"closed_why,omitempty"`
}

// Identity is whom an account's credentials belong to, as its cloud tells.
type Identity struct {
	Account string     `json:"account"`
	Roles   []string   `json:"roles"`
	Ends    *time.Time `json:"ends,omitempty"`
	// Makes are the types that the rights let it make; nil when the cloud does not tell.
	Makes []string `json:"makes,omitempty"`
	// NameServer is where the cloud's own name server is asked, where it tells of one.
	NameServer string `json:"name_server,omitempty"`
}

// Running is a stack of an account.
type Running struct {
	Name   string  `json:"name"`
	Region string  `json:"region"`
	State  string  `json:"state"`
	Hour   float64 `json:"hour"`
}

// Detail is all that is known of an account but its credentials.
type Detail struct {
	Account
	Identity Identity   `json:"identity"`
	TestedAt *time.Time `json:"tested_at,omitempty"`
	// Problem is why the cloud did not accept the account just now.
	Problem string `json:"problem,omitempty"`
	Remedy  string `json:"remedy,omitempty"`

	AllowedRegions []string          `json:"allowed_regions"`
	Tags           map[string]string `json:"tags"`
	LeaseSeconds   int64             `json:"lease_seconds,omitempty"`
	// Unreached says that no packets from this service reach its machines.
	Unreached bool `json:"unreached,omitempty"`
	// SecondPerson says that somebody else than its author accepts a proposal.
	SecondPerson bool `json:"second_person,omitempty"`
	// Prices are those of its own, before what its cloud tells.
	Prices *offer.PriceList `json:"prices,omitempty"`

	Budget   *float64 `json:"budget,omitempty"`
	Left     *float64 `json:"left,omitempty"`
	Spent    float64  `json:"spent"` // in this month
	Month    float64  `json:"month"` // what a month of what runs costs
	Currency string   `json:"currency,omitempty"`

	Running []Running `json:"running"`
}

// List lists all accounts.
func (s *Accounts) List(ctx context.Context) ([]Account, error) {
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the accounts: %w", err)
	}
	stacks, err := s.store.StacksByAccount(ctx)
	if err != nil {
		return nil, fmt.Errorf("counting the stacks of accounts: %w", err)
	}
	out := make([]Account, len(list))
	for i, a := range list {
		out[i] = accountOf(a, stacks[a.Name])
	}
	return out, nil
}

func accountOf(a store.Account, stacks int) Account {
	return Account{a.Name, a.Cloud, a.Endpoint, a.Regions, a.ClockRate, stacks, a.MostMonth, IdentityOf(a).Ends,
		a.EndsAt, a.ClosedAt, a.ClosedWhy}
}

// IdentityOf is what the cloud said of an account last.
func IdentityOf(a store.Account) Identity {
	out := Identity{Roles: []string{}}
	_ = json.Unmarshal(a.Identity, &out) // an older program kept none
	return out
}

func (s *Accounts) listed(ctx context.Context, name string) (Account, error) {
	a, err := s.Find(ctx, name)
	if err != nil {
		return Account{}, err
	}
	stacks, err := s.store.StacksByAccount(ctx)
	return accountOf(a, stacks[name]), err
}

// Show tells all that is known of an account but its credentials.
func (s *Accounts) Show(ctx context.Context, name string) (Detail, error) {
	a, err := s.Find(ctx, name)
	if err != nil {
		return Detail{}, err
	}
	out := Detail{
		Identity:       IdentityOf(a),
		TestedAt:       a.TestedAt,
		AllowedRegions: append([]string{}, a.AllowedRegions...),
		Tags:           a.Tags,
		LeaseSeconds:   a.LeaseSeconds,
		Unreached:      a.Unreached,
		SecondPerson:   a.SecondPerson,
		Budget:         a.Budget,
		Running:        []Running{},
	}
	if out.Tags == nil {
		out.Tags = map[string]string{}
	}
	if a.Prices.Currency != "" {
		out.Prices = &a.Prices
	}
	summaries, err := s.store.SummariesOf(ctx, name)
	if err != nil {
		return out, fmt.Errorf("reading the stacks of account %s: %w", name, err)
	}
	for _, m := range summaries {
		out.Running = append(out.Running, Running{m.Name, m.Region, m.State(), m.Hour})
		out.Month += m.Hour * resource.HoursPerMonth
		out.Currency = m.Currency
	}
	out.Account = accountOf(a, len(out.Running))
	if out.Spent, err = s.store.SpentThisMonth(ctx, name); err != nil {
		return out, fmt.Errorf("reading what was spent this month in account %s: %w", name, err)
	}
	out.Spent *= max(a.ClockRate, 0.001)
	if a.Budget != nil {
		left := *a.Budget - out.Spent
		out.Left = &left
	}
	return out, nil
}

// isOpen says of a closed account that nothing can be made in it.
func isOpen(a store.Account) error {
	if a.ClosedAt != nil {
		return refusal.New(refusal.Conflict,
			"add it again with its credentials if it is there again: undersail accounts add "+a.Name,
			"account %s was closed on %s: %s", a.Name, a.ClosedAt.Format(time.DateOnly), a.ClosedWhy)
	}
	return nil
}

// Known is an error unless there is an account of the name.
func (s *Accounts) Known(ctx context.Context, name string) error {
	_, err := s.Find(ctx, name)
	return err
}

// Find finds an account; a misspelt one gets a suggestion.
func (s *Accounts) Find(ctx context.Context, name string) (store.Account, error) {
	a, err := s.store.Account(ctx, name)
	if !errors.Is(err, store.ErrNotFound) {
		return a, err
	}
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return a, fmt.Errorf("reading the accounts: %w", err)
	}
	return a, refusal.Unknown("account", name, list, func(x store.Account) string { return x.Name },
		"list them with: undersail accounts")
}

// InRegion refuses what is no region of an account.
func InRegion(a store.Account, region string) error {
	switch {
	case region == "":
		return refusal.New(refusal.Invalid, "its regions are "+strings.Join(a.Regions, ", "),
			"name a region of account %s", a.Name)
	case !slices.Contains(a.Regions, region):
		return refusal.New(refusal.Invalid, expr.Choose(region, a.Regions), "account %s has no region %q", a.Name,
			region)
	}
	return nil
}
