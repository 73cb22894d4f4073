package service

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"regexp"
	"time"

	"undersail/internal/access"
	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
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

// AccountStack is a stack of an account.
type AccountStack struct {
	Name   string  `json:"name"`
	Region string  `json:"region"`
	State  string  `json:"state"`
	Hour   float64 `json:"hour"`
}

// AccountDetail is all that is known of an account but its credentials.
type AccountDetail struct {
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

	Running []AccountStack `json:"running"`
}

// Accounts lists all accounts.
func (s *Service) Accounts(ctx context.Context) ([]Account, error) {
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	stacks, err := s.store.StacksByAccount(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Account, len(list))
	for i, a := range list {
		out[i] = accountOf(a, stacks[a.Name])
	}
	return out, nil
}

func accountOf(a store.Account, stacks int) Account {
	return Account{a.Name, a.Cloud, a.Endpoint, a.Regions, a.ClockRate, stacks, a.MostMonth, identityOf(a).Ends, a.EndsAt, a.ClosedAt, a.ClosedWhy}
}

// identityOf is what the cloud said of an account last.
func identityOf(a store.Account) Identity {
	out := Identity{Roles: []string{}}
	json.Unmarshal(a.Identity, &out) // an older program kept none
	return out
}

// NewAccount is what an account is added with.
type NewAccount struct {
	Name         string `json:"name"`
	Cloud        string `json:"cloud"`
	Endpoint     string `json:"endpoint"`
	ClientID     string `json:"client_id,omitempty"`
	ClientSecret string `json:"client_secret,omitempty"`
	// Credentials are the fields that other clouds ask for, by name.
	Credentials map[string]string `json:"credentials,omitempty"`
}

// fields are all credentials of an account, by name.
func (n NewAccount) fields() map[string]string {
	out := maps.Clone(n.Credentials)
	if out == nil {
		out = map[string]string{}
	}
	for name, v := range map[string]string{"client_id": n.ClientID, "client_secret": n.ClientSecret} {
		if v != "" {
			out[name] = v
		}
	}
	return out
}

// accountName is what accounts are named like.
var accountName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// AddAccount signs in to a cloud and keeps the account, its credentials sealed
// together with cloud and endpoint. One that is there already gets the new
// credentials, and runs that were parked because the old ones ended go on.
func (s *Service) AddAccount(ctx context.Context, u people.User, n NewAccount) (Account, error) {
	if err := u.Must(access.Administer, ""); err != nil {
		return Account{}, err
	}
	if !accountName.MatchString(n.Name) {
		return Account{}, refusal.New(refusal.Invalid, "use small letters, digits and hyphens, beginning with a letter", "%q is no name for an account", n.Name)
	}
	before, err := s.store.Account(ctx, n.Name)
	isNew := err != nil
	if err := s.keepCredentials(ctx, u, n, 0); err != nil {
		return Account{}, err
	}
	detail := map[string]any{"cloud": n.Cloud, "endpoint": n.Endpoint}
	switch {
	case isNew:
		s.done(ctx, u, "add account", n.Name, detail)
	case before.Endpoint != n.Endpoint || before.Cloud != n.Cloud:
		detail["endpoint before"] = before.Endpoint
		s.done(ctx, u, "move account", n.Name, detail)
	default:
		s.done(ctx, u, "renew account", n.Name, detail)
	}
	return s.listed(ctx, n.Name)
}

// RenewAccount gives an account new credentials for the cloud and endpoint that it has.
// Fields that are not given stay as they are.
func (s *Service) RenewAccount(ctx context.Context, u people.User, name string, fields map[string]string) (AccountDetail, error) {
	if err := u.Must(access.Administer, name); err != nil {
		return AccountDetail{}, err
	}
	a, err := s.account(ctx, name)
	if err != nil {
		return AccountDetail{}, err
	}
	all, unread := map[string]string(nil), isOpen(a) // of a closed account nothing is kept that could stay
	if unread == nil {
		all, unread = s.credentials(a)
	}
	if unread != nil {
		all = map[string]string{} // every field has to be given
	}
	maps.Copy(all, fields)
	err = s.keepCredentials(ctx, u, NewAccount{Name: a.Name, Cloud: a.Cloud, Endpoint: a.Endpoint, Credentials: all}, a.Revision)
	var refused *refusal.Error
	if unread != nil && errors.As(err, &refused) && refused.Kind == refusal.Invalid {
		return AccountDetail{}, unread // what is missing cannot be read
	}
	if err != nil {
		return AccountDetail{}, err
	}
	s.done(ctx, u, "renew account", name, nil)
	return s.Account(ctx, name)
}

// keepCredentials tests credentials and keeps them, and lets runs go on that waited for
// them. Was is the revision of an account that is renewed, as it was looked at.
func (s *Service) keepCredentials(ctx context.Context, u people.User, n NewAccount, was int64) error {
	a := store.Account{Name: n.Name, Cloud: n.Cloud, Endpoint: n.Endpoint}
	if err := s.sealed.Account(&a, n.fields()); err != nil {
		return err
	}
	adapter, err := s.connect(a)
	if err != nil {
		return err
	}
	me, err := adapter.WhoAmI(ctx)
	if err != nil {
		return cloudSays(err)
	}
	a.ClockRate, a.GuestRange, a.Regions = me.ClockRate, me.GuestRange, me.Regions
	if a.Identity, err = json.Marshal(told(me)); err != nil {
		return err
	}
	err = s.store.PutAccount(ctx, a, was, u.Who())
	if errors.Is(err, store.ErrMoved) {
		return refusal.New(refusal.Conflict, "look at it, and ask again: undersail accounts show "+a.Name, "account %s was closed, or is held to something else, since it was looked at", a.Name)
	}
	if err != nil {
		return refusal.InTheWay(err, "", u.Name)
	}
	s.forgetOffers(a.Name)
	s.lately.forget("account " + a.Name)
	_, err = s.store.Unpark(ctx, a.Name, state.ForCredentials, engine.Grace, s.engine.Enqueue(ctx))
	return err
}

// told is what a cloud told of whom credentials belong to.
func told(me cloud.Identity) Identity {
	out := Identity{Account: me.Account, Roles: append([]string{}, me.Roles...), Makes: me.Makes, NameServer: me.NameServer}
	if !me.Ends.IsZero() {
		out.Ends = &me.Ends
	}
	return out
}

func (s *Service) listed(ctx context.Context, name string) (Account, error) {
	a, err := s.account(ctx, name)
	if err != nil {
		return Account{}, err
	}
	stacks, err := s.store.StacksByAccount(ctx)
	return accountOf(a, stacks[name]), err
}

// Account tells all that is known of an account but its credentials.
func (s *Service) Account(ctx context.Context, name string) (AccountDetail, error) {
	a, err := s.account(ctx, name)
	if err != nil {
		return AccountDetail{}, err
	}
	out := AccountDetail{Identity: identityOf(a), TestedAt: a.TestedAt, AllowedRegions: append([]string{}, a.AllowedRegions...), Tags: a.Tags, LeaseSeconds: a.LeaseSeconds, Unreached: a.Unreached, SecondPerson: a.SecondPerson,
		Budget: a.Budget, Running: []AccountStack{}}
	if out.Tags == nil {
		out.Tags = map[string]string{}
	}
	if a.Prices.Currency != "" {
		out.Prices = &a.Prices
	}
	summaries, err := s.store.SummariesOf(ctx, name)
	if err != nil {
		return out, err
	}
	for _, m := range summaries {
		out.Running = append(out.Running, AccountStack{m.Name, m.Region, m.State(), m.Hour})
		out.Month += m.Hour * resource.HoursPerMonth
		out.Currency = m.Currency
	}
	out.Account = accountOf(a, len(out.Running))
	if out.Spent, err = s.store.SpentThisMonth(ctx, name); err != nil {
		return out, err
	}
	out.Spent *= max(a.ClockRate, 0.001)
	if a.Budget != nil {
		left := *a.Budget - out.Spent
		out.Left = &left
	}
	return out, nil
}

// TestAccount asks the cloud whom the credentials belong to, now.
func (s *Service) TestAccount(ctx context.Context, u people.User, name string) (AccountDetail, error) {
	if err := u.Must(access.Operate, name); err != nil {
		return AccountDetail{}, err
	}
	a, err := s.account(ctx, name)
	if err != nil {
		return AccountDetail{}, err
	}
	problem := s.testAccount(ctx, a)
	out, err := s.Account(ctx, name)
	if problem != nil {
		out.Problem, out.Remedy = problem.Title, problem.Remedy
	}
	return out, err
}

// testAccount asks the cloud who an account is and keeps the answer. What it gives is
// why the cloud does not accept it.
func (s *Service) testAccount(ctx context.Context, a store.Account) *refusal.Error {
	say := func(err error) *refusal.Error {
		if e, ok := cloudSays(err).(*refusal.Error); ok {
			return e
		}
		return refusal.New(refusal.CloudRefused, "look into the service's log, or renew the credentials", "%v", err)
	}
	adapter, _, err := s.adapter(ctx, a.Name)
	if err != nil {
		return say(err)
	}
	me, err := adapter.WhoAmI(ctx)
	if err != nil {
		return say(err)
	}
	raw, err := json.Marshal(told(me))
	if err != nil {
		return say(err)
	}
	if err := s.store.TestedAccount(ctx, a.Name, raw, me.Regions, me.ClockRate); err != nil {
		return say(err)
	}
	return nil
}
