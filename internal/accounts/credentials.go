package accounts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"

	"undersail/internal/access"
	"undersail/internal/cloud"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// NewAccount is what an account is added with.
type NewAccount struct {
	Name     string `json:"name"`
	Cloud    string `json:"cloud"`
	Endpoint string `json:"endpoint"`
	// Credentials are the fields that the cloud asks for, by name.
	Credentials map[string]string `json:"credentials,omitempty"`
}

// accountName is what accounts are named like.
var accountName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// Add signs in to a cloud and keeps the account, its credentials sealed
// together with cloud and endpoint. One that is there already gets the new
// credentials, and runs that were parked because the old ones ended go on.
func (s *Accounts) Add(ctx context.Context, u people.User, n NewAccount) (Account, error) {
	if err := u.Must(access.Administer, ""); err != nil {
		return Account{}, err
	}
	if !accountName.MatchString(n.Name) {
		return Account{}, refusal.New(refusal.Invalid, "use small letters, digits and hyphens, beginning with a letter",
			"%q is no name for an account", n.Name)
	}
	before, err := s.store.Account(ctx, n.Name)
	isNew := err != nil
	if err := s.putCredentials(ctx, u, n, 0); err != nil {
		return Account{}, err
	}
	detail := map[string]any{"cloud": n.Cloud, "endpoint": n.Endpoint}
	switch {
	case isNew:
		s.journal.Done(ctx, u, "add account", n.Name, detail)
	case before.Endpoint != n.Endpoint || before.Cloud != n.Cloud:
		detail["endpoint before"] = before.Endpoint
		s.journal.Done(ctx, u, "move account", n.Name, detail)
	default:
		s.journal.Done(ctx, u, "renew account", n.Name, detail)
	}
	return s.listed(ctx, n.Name)
}

// Renew gives an account new credentials for the cloud and endpoint that it has.
// Fields that are not given stay as they are.
func (s *Accounts) Renew(ctx context.Context, u people.User, name string, fields map[string]string) (Detail, error) {
	if err := u.Must(access.Administer, name); err != nil {
		return Detail{}, err
	}
	a, err := s.Find(ctx, name)
	if err != nil {
		return Detail{}, err
	}
	all, unread := map[string]string(nil), isOpen(a) // of a closed account nothing is kept that could stay
	if unread == nil {
		all, unread = s.Credentials(a)
	}
	if unread != nil {
		all = map[string]string{} // every field has to be given
	}
	maps.Copy(all, fields)
	err = s.putCredentials(ctx, u, NewAccount{Name: a.Name, Cloud: a.Cloud, Endpoint: a.Endpoint, Credentials: all},
		a.Revision)
	var refused *refusal.Error
	if unread != nil && errors.As(err, &refused) && refused.Kind == refusal.Invalid {
		return Detail{}, unread // what is missing cannot be read
	}
	if err != nil {
		return Detail{}, err
	}
	s.journal.Done(ctx, u, "renew account", name, nil)
	return s.Show(ctx, name)
}

// putCredentials tests credentials and keeps them, and lets runs go on that waited for
// them. Was is the revision of an account that is renewed, as it was looked at.
func (s *Accounts) putCredentials(ctx context.Context, u people.User, n NewAccount, was int64) error {
	a := store.Account{Name: n.Name, Cloud: n.Cloud, Endpoint: n.Endpoint}
	if err := s.sealed.Account(&a, n.Credentials); err != nil {
		return fmt.Errorf("sealing the credentials: %w", err)
	}
	adapter, err := s.connect(a)
	if err != nil {
		return err
	}
	me, err := adapter.WhoAmI(ctx)
	if err != nil {
		return CloudSays(err)
	}
	a.ClockRate, a.GuestRange, a.Regions = me.ClockRate, me.GuestRange, me.Regions
	if a.Identity, err = json.Marshal(told(me)); err != nil {
		return fmt.Errorf("keeping the credentials: %w", err)
	}
	err = s.store.PutAccount(ctx, a, was, u.Who())
	if errors.Is(err, store.ErrMoved) {
		return refusal.New(refusal.Conflict, "look at it, and ask again: undersail accounts show "+a.Name,
			"account %s was closed, or is held to something else, since it was looked at", a.Name)
	}
	if err != nil {
		return refusal.InTheWay(err, "", u.Name)
	}
	s.ForgetOffers(a.Name)
	s.Lately.forget("account " + a.Name)
	_, err = s.store.Unpark(ctx, a.Name, state.ForCredentials, engine.Grace, s.engine.Enqueue(ctx))
	return err
}

// told is what a cloud told of whom credentials belong to.
func told(me cloud.Identity) Identity {
	out := Identity{
		Account:    me.Account,
		Roles:      append([]string{}, me.Roles...),
		Makes:      me.Makes,
		NameServer: me.NameServer,
	}
	if !me.Ends.IsZero() {
		out.Ends = &me.Ends
	}
	return out
}

// Test asks the cloud whom the credentials belong to, now.
func (s *Accounts) Test(ctx context.Context, u people.User, name string) (Detail, error) {
	if err := u.Must(access.Operate, name); err != nil {
		return Detail{}, err
	}
	a, err := s.Find(ctx, name)
	if err != nil {
		return Detail{}, err
	}
	problem := s.Try(ctx, a)
	out, err := s.Show(ctx, name)
	if problem != nil {
		out.Problem, out.Remedy = problem.Title, problem.Remedy
	}
	return out, err
}

// Try asks the cloud who an account is and keeps the answer. What it gives is
// why the cloud does not accept it.
func (s *Accounts) Try(ctx context.Context, a store.Account) *refusal.Error {
	say := func(err error) *refusal.Error {
		if e, ok := CloudSays(err).(*refusal.Error); ok {
			return e
		}
		return refusal.New(refusal.CloudRefused, "look into the service's log, or renew the credentials", "%v", err)
	}
	adapter, _, err := s.Adapter(ctx, a.Name)
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
