// Package proposing is the way from what somebody wants to what is carried out: the questions of a
// form and their answers, drafts, proposals with all that they are judged by, who agrees to them,
// and the moment in which one is applied.
//
// From the ground up: store, proposing, proposal; facts, basis, undone, handover, references,
// byproducts, reading, existing, names, bounds; agreement, uses, review, stages, renewal; form,
// question, comparison, places, draft, draftsecrets, choices; generation, gift, decision,
// standing; kept, retirement, continuation, staleness, application, undo.
package proposing

import (
	"context"
	"log/slog"
	"sync"

	"undersail/internal/accounts"
	"undersail/internal/audit"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/request"
	"undersail/internal/sealed"
	"undersail/internal/secrets"
	"undersail/internal/stacks"
	"undersail/internal/templates"
)

// Proposing is safe for concurrent use.
type Proposing struct {
	store     Store
	sealed    *sealed.Sealed
	engine    *engine.Engine
	journal   *audit.Journal
	turns     *request.Turns
	people    *people.People
	accounts  *accounts.Accounts
	templates *templates.Templates
	stacks    *stacks.Stacks
	secrets   *secrets.Secrets
	log       *slog.Logger

	mu     sync.Mutex
	asking map[string]*asking // by user and form
}

// Rests is what proposing rests on.
type Rests struct {
	Store     Store
	Sealed    *sealed.Sealed
	Engine    *engine.Engine
	Journal   *audit.Journal
	Turns     *request.Turns
	People    *people.People
	Accounts  *accounts.Accounts
	Templates *templates.Templates
	Stacks    *stacks.Stacks
	Secrets   *secrets.Secrets
	Log       *slog.Logger
}

// New makes the proposals that a store has.
func New(on Rests) *Proposing {
	return &Proposing{
		store:     on.Store,
		sealed:    on.Sealed,
		engine:    on.Engine,
		journal:   on.Journal,
		turns:     on.Turns,
		people:    on.People,
		accounts:  on.Accounts,
		templates: on.Templates,
		stacks:    on.Stacks,
		secrets:   on.Secrets,
		log:       on.Log,
		asking:    map[string]*asking{},
	}
}

// asking is the newest question of a form.
type asking struct {
	seq    int64
	cancel context.CancelCauseFunc
}
