// Package service puts the rooms together in which the use cases are: one method for each thing
// that a user can do, with its authorisation and its rules. None of them knows HTTP or terminals.
package service

import (
	"context"
	"errors"
	"log/slog"

	"undersail/internal/accounts"
	"undersail/internal/audit"
	"undersail/internal/cloud"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/request"
	"undersail/internal/sealed"
	"undersail/internal/secrets"
	"undersail/internal/stacks"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// Service is all of it. It is safe for concurrent use.
type Service struct {
	People    *people.People
	Accounts  *accounts.Accounts
	Secrets   *secrets.Secrets
	Templates *templates.Templates
	Proposing *proposing.Proposing
	Stacks    *stacks.Stacks
	Journal   *audit.Journal
	Keys      *request.Keys
	Turns     *request.Turns
	// Engine carries out the runs.
	Engine *engine.Engine

	store *store.Store
}

// New wires a service and its engine together. The engine is not started.
func New(st *store.Store, key *sealed.Box, log *slog.Logger, c engine.Config) (*Service, error) {
	box := sealed.New(key, st)
	s := &Service{
		store:   st,
		Journal: audit.New(st, box, log),
		Keys:    request.NewKeys(st, box),
		Turns:   request.NewTurns(),
	}
	if c.Store == nil {
		c.Store = st
	}
	c.Sealed, c.Log = box, log
	// The engine asks what was made after it: nothing runs before all is there.
	c.Adapter = func(ctx context.Context, account string) (cloud.Adapter, store.Account, error) {
		return s.Accounts.BareAdapter(ctx, account)
	}
	c.Undo = func(ctx context.Context, run int64) error { return s.Proposing.UndoFailed(ctx, run) }
	c.Agreed = func(p store.Proposal, r store.Run) (sealed.Agreement, error) { return s.Proposing.AgreementOf(p, r) }
	var err error
	if s.Engine, err = engine.New(c); err != nil {
		return nil, err
	}
	s.Accounts = accounts.New(st, box, s.Engine, s.Journal, log)
	s.People = people.New(st, box, s.Journal, s.Accounts, log)
	s.Templates = templates.New(st, box, s.Engine, s.Journal, s.Turns, log)
	s.Stacks = stacks.New(st, box, s.Engine, s.Journal, s.Turns, s.Accounts, log)
	s.Secrets = secrets.New(st, box, s.Journal, s.Accounts, s.Stacks, log)
	s.Proposing = proposing.New(proposing.Rests{
		Store:     st,
		Sealed:    box,
		Engine:    s.Engine,
		Journal:   s.Journal,
		Turns:     s.Turns,
		People:    s.People,
		Accounts:  s.Accounts,
		Templates: s.Templates,
		Stacks:    s.Stacks,
		Secrets:   s.Secrets,
		Log:       log,
	})
	return s, nil
}

// Ready reports whether the service can do its work now: whether the database takes writes,
// which it does not when its disk is full.
func (s *Service) Ready(ctx context.Context) error { return s.store.TryWriting(ctx) }

// OpenSealed makes sure that the key is the one that the database was sealed with, and seals
// what older programs left without. Call it before anything is served.
func (s *Service) OpenSealed(ctx context.Context) error {
	if err := s.Secrets.OpenSealed(ctx); err != nil {
		return err
	}
	return errors.Join(s.Proposing.SealAgreements(ctx), s.Secrets.TellPlaces(ctx))
}
