package accounts

import (
	"context"
	"errors"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/cloud/registry"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// Adapter gives the adapter of an account for asking: it tries again for a while
// when the cloud is busy.
func (s *Accounts) Adapter(ctx context.Context, name string) (cloud.Adapter, store.Account, error) {
	adapter, a, err := s.BareAdapter(ctx, name)
	if err != nil {
		return nil, a, err
	}
	return cloud.Patient(adapter), a, nil
}

// BareAdapter gives the adapter of an account, the same one until its credentials change.
func (s *Accounts) BareAdapter(ctx context.Context, name string) (cloud.Adapter, store.Account, error) {
	a, err := s.Find(ctx, name)
	if err != nil {
		return nil, a, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if c, ok := s.adapters[name]; ok && c.sealed == string(a.Credentials) {
		return c.adapter, a, nil
	}
	adapter, err := s.connect(a)
	if err != nil {
		return nil, a, err
	}
	s.adapters[name] = connected{adapter, string(a.Credentials)}
	return adapter, a, nil
}

func (s *Accounts) connect(a store.Account) (cloud.Adapter, error) {
	if err := isOpen(a); err != nil {
		return nil, err
	}
	credentials, err := s.Credentials(a)
	if err != nil {
		return nil, err
	}
	adapter, err := registry.Open(a.Cloud, a.Endpoint, credentials, s.engine.Client(a.Name))
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "the clouds are: "+strings.Join(registry.Names(), ", "), "%v", err)
	}
	return adapter, nil
}

// CloudSays turns an adapter's error into one of a use case.
func CloudSays(err error) error {
	var e *cloud.Error
	if errors.As(err, &e) {
		return refusal.New(refusal.CloudRefused, e.Remedy, "%v", err)
	}
	return err
}

// Credentials opens those of an account. They open only beside the cloud and endpoint
// that they were given for.
func (s *Accounts) Credentials(a store.Account) (credentials map[string]string, err error) {
	credentials, err = s.sealed.Credentials(a)
	if errors.Is(err, sealed.ErrMoved) {
		return nil, refusal.New(refusal.Conflict, "give them again: undersail accounts renew "+a.Name,
			"the credentials of account %s were not given for cloud %s at %s: somebody changed the record", a.Name,
			a.Cloud, a.Endpoint)
	}
	return credentials, err
}
