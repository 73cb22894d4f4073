// Package templates has the library: templates with their versions, the folders and repositories
// that they come from, the cases that their keepers expect, texts that are being written, and the
// organisation's rules.
//
// From the ground up: store, bundle; templates, template; resolution, publication; cases,
// library; policies, text.
package templates

import (
	"log/slog"
	"sync"

	"undersail/internal/audit"
	"undersail/internal/core/policy"
	"undersail/internal/engine"
	"undersail/internal/request"
	"undersail/internal/sealed"
)

// Templates is safe for concurrent use.
type Templates struct {
	store   Store
	sealed  *sealed.Sealed
	engine  *engine.Engine
	journal *audit.Journal
	turns   *request.Turns
	log     *slog.Logger

	localLibraries []string

	mu sync.Mutex
	// compiled are the organisation's rules, of the versions that compiledOf names.
	compiled   *policy.Rules
	compiledOf string
}

// New makes the library that a store has.
func New(st Store, box *sealed.Sealed, e *engine.Engine, j *audit.Journal, turns *request.Turns,
	log *slog.Logger) *Templates {
	return &Templates{store: st, sealed: box, engine: e, journal: j, turns: turns, log: log}
}

// OpenFolders lets libraries be read from folders of this machine. Call it
// before the service is used.
func (s *Templates) OpenFolders(folders ...string) { s.localLibraries = folders }
