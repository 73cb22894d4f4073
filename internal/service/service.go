// Package service holds the use cases: one method for each thing a user can do,
// with its authorisation and its rules. It knows neither HTTP nor terminals.
package service

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"

	"undersail/internal/cloud"
	"undersail/internal/cloud/registry"
	"undersail/internal/core/memo"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// Service is safe for concurrent use.
type Service struct {
	store  *store.Store
	sealed *sealed.Sealed
	engine *engine.Engine
	log    *slog.Logger
	quiet  quietness

	localLibraries []string
	people         *people.People

	mu       sync.Mutex
	adapters map[string]cached
	// offers are those that were read last; whoever has them changes nothing.
	offers     map[place]*offer.Offers
	refreshing map[place]bool
	asking     map[string]*asking // by user and form
	lately     lately
	computing  turns
	renderings memo.Of[*render.Rendering]
	// compiled are the organisation's rules, of the versions that compiledOf names.
	compiled   *policy.Rules
	compiledOf string
}

// cached is an adapter with the account row it was made from.
type cached struct {
	adapter cloud.Adapter
	sealed  string
}

// New wires a service and its engine together. The engine is not started.
func New(st *store.Store, box *sealed.Box, log *slog.Logger, c engine.Config) (*Service, error) {
	s := &Service{store: st, sealed: sealed.New(box, st), log: log, adapters: map[string]cached{}, computing: newTurns(), renderings: memo.Of[*render.Rendering]{Most: 8}, offers: map[place]*offer.Offers{}, refreshing: map[place]bool{}, asking: map[string]*asking{}}
	s.people = people.New(st, s.sealed, journal{s}, known{s}, log)
	if c.Store == nil {
		c.Store = st
	}
	c.Sealed, c.Log, c.Adapter, c.Undo, c.Agreed = s.sealed, log, s.bareAdapter, s.undoFailed, s.agreementOf
	var err error
	s.engine, err = engine.New(c)
	return s, err
}

// People are those who use the service.
func (s *Service) People() *people.People { return s.people }

// Metrics are those of the engine and of the calls to clouds.
func (s *Service) Metrics() *engine.Metrics { return s.engine.Metrics }

// Engine is the engine that carries out the runs.
func (s *Service) Engine() *engine.Engine { return s.engine }

// OpenFolders lets libraries be read from folders of this machine. Call it
// before the service is used.
func (s *Service) OpenFolders(folders ...string) { s.localLibraries = folders }

// Ready reports whether the service can do its work now: whether the database takes writes,
// which it does not when its disk is full.
func (s *Service) Ready(ctx context.Context) error { return s.store.TryWriting(ctx) }

// adapter gives the adapter of an account for asking: it tries again for a while
// when the cloud is busy.
func (s *Service) adapter(ctx context.Context, name string) (cloud.Adapter, store.Account, error) {
	adapter, a, err := s.bareAdapter(ctx, name)
	if err != nil {
		return nil, a, err
	}
	return cloud.Patient(adapter), a, nil
}

// bareAdapter gives the adapter of an account, the same one until its credentials change.
func (s *Service) bareAdapter(ctx context.Context, name string) (cloud.Adapter, store.Account, error) {
	a, err := s.account(ctx, name)
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
	s.adapters[name] = cached{adapter, string(a.Credentials)}
	return adapter, a, nil
}

func (s *Service) connect(a store.Account) (cloud.Adapter, error) {
	if err := isOpen(a); err != nil {
		return nil, err
	}
	credentials, err := s.credentials(a)
	if err != nil {
		return nil, err
	}
	adapter, err := registry.Open(a.Cloud, a.Endpoint, credentials, s.engine.Client(a.Name))
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "the clouds are: "+strings.Join(registry.Names(), ", "), "%v", err)
	}
	return adapter, nil
}

// credentials opens those of an account. They open only beside the cloud and endpoint
// that they were given for.
func (s *Service) credentials(a store.Account) (credentials map[string]string, err error) {
	credentials, err = s.sealed.Credentials(a)
	if errors.Is(err, sealed.ErrMoved) {
		return nil, refusal.New(refusal.Conflict, "give them again: undersail accounts renew "+a.Name, "the credentials of account %s were not given for cloud %s at %s: somebody changed the record", a.Name, a.Cloud, a.Endpoint)
	}
	return credentials, err
}

// cloudSays turns an adapter's error into one of a use case.
func cloudSays(err error) error {
	var e *cloud.Error
	if errors.As(err, &e) {
		return refusal.New(refusal.CloudRefused, e.Remedy, "%v", err)
	}
	return err
}

// splitVersion reads NAME or NAME@VERSION.
func splitVersion(s string) (name, version string) {
	name, version, _ = strings.Cut(s, "@")
	return name, version
}
