// Package secrets has the secrets that people keep by name, who may read which, and the key that
// everything is sealed with.
//
// From the ground up: store, secrets; named, reveal; seal.
package secrets

import (
	"log/slog"

	"undersail/internal/accounts"
	"undersail/internal/audit"
	"undersail/internal/sealed"
	"undersail/internal/stacks"
)

// Secrets is safe for concurrent use.
type Secrets struct {
	store    Store
	sealed   *sealed.Sealed
	journal  *audit.Journal
	accounts *accounts.Accounts
	stacks   *stacks.Stacks
	log      *slog.Logger
}

// New makes the secrets that a store has.
func New(st Store, box *sealed.Sealed, j *audit.Journal, a *accounts.Accounts, of *stacks.Stacks,
	log *slog.Logger) *Secrets {
	return &Secrets{store: st, sealed: box, journal: j, accounts: a, stacks: of, log: log}
}
