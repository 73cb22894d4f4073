// Package accounts has the accounts of clouds that stacks run in: who we are there, what their
// regions sell, which addresses are taken, and what they are held to.
//
// From the ground up: store, recent; accounts, account; adapter, offers, credentials; reserves,
// ranges, limits, closure.
package accounts

import (
	"log/slog"
	"sync"

	"undersail/internal/audit"
	"undersail/internal/cloud"
	"undersail/internal/core/offer"
	"undersail/internal/engine"
	"undersail/internal/sealed"
)

// Accounts is safe for concurrent use.
type Accounts struct {
	store   Store
	sealed  *sealed.Sealed
	engine  *engine.Engine
	journal *audit.Journal
	log     *slog.Logger
	// Lately has what the answers to forms rest on.
	Lately *Lately

	mu       sync.Mutex
	adapters map[string]connected
	// offers are those that were read last; whoever has them changes nothing.
	offers     map[place]*offer.Offers
	refreshing map[place]bool
}

// New makes the accounts that a store has.
func New(st Store, box *sealed.Sealed, e *engine.Engine, j *audit.Journal, log *slog.Logger) *Accounts {
	return &Accounts{
		store:      st,
		sealed:     box,
		engine:     e,
		journal:    j,
		log:        log,
		Lately:     newLately(),
		adapters:   map[string]connected{},
		offers:     map[place]*offer.Offers{},
		refreshing: map[place]bool{},
	}
}

// connected is an adapter with the account row it was made from.
type connected struct {
	adapter cloud.Adapter
	sealed  string
}

// place is a region of an account.
type place struct{ account, region string }
