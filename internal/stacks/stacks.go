// Package stacks has what was made: stacks with their resources, outputs and costs, their runs and
// what those were like, looking at them, and ways to their machines.
//
// From the ground up: store, quiet; stacks, document, rendering; awaited, run, event, evidence;
// stack, changes, outputs, uses; observed, verification, charge; cost, opinion; connection,
// guide; stop, retry.
package stacks

import (
	"log/slog"

	"github.com/jellydator/ttlcache/v3"

	"undersail/internal/accounts"
	"undersail/internal/audit"
	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/request"
	"undersail/internal/sealed"
)

// Stacks is safe for concurrent use.
type Stacks struct {
	store    Store
	sealed   *sealed.Sealed
	engine   *engine.Engine
	journal  *audit.Journal
	turns    *request.Turns
	accounts *accounts.Accounts
	log      *slog.Logger

	quiet      quietness
	renderings *ttlcache.Cache[string, *render.Rendering]
}

// New makes the stacks that a store has.
func New(st Store, box *sealed.Sealed, e *engine.Engine, j *audit.Journal, turns *request.Turns, a *accounts.Accounts,
	log *slog.Logger) *Stacks {
	return &Stacks{
		store:      st,
		sealed:     box,
		engine:     e,
		journal:    j,
		turns:      turns,
		accounts:   a,
		log:        log,
		renderings: ttlcache.New(ttlcache.WithCapacity[string, *render.Rendering](8)),
	}
}
