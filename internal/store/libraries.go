package store

import (
	"context"
	"time"
)

// Library is a folder or a git repository that templates come from.
type Library struct {
	Name        string
	Place       string
	Reference   string
	Folder      string
	Revision    string
	Problem     string
	AddedAt     time.Time
	RefreshedAt *time.Time
	// Credentials are sealed; empty for one that wants none.
	Credentials []byte
	SealedWith  string
}

const libraryColumns = "name, place, reference, folder, revision, problem, added_at, refreshed_at, credentials, " +
	"sealed_with"

// PutLibrary adds a library, or changes where it lies.
func (s *Store) PutLibrary(ctx context.Context, l Library) error {
	return exec(ctx, s, `INSERT INTO libraries (name, place, reference, folder, credentials, sealed_with)
		VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (name) DO UPDATE SET place = $2, reference = $3, folder = $4, credentials = $5,
		sealed_with = $6`, l.Name, l.Place, l.Reference, l.Folder, orBytes(l.Credentials), l.SealedWith)
}

// ResealLibrary replaces how credentials are sealed, if nobody changed them meanwhile.
func (s *Store) ResealLibrary(ctx context.Context, l Library, sealed []byte, fingerprint string) error {
	return exec(ctx, s, "UPDATE libraries SET credentials = $3, sealed_with = $4 WHERE name = $1 AND credentials = $2",
		l.Name, l.Credentials, sealed, fingerprint)
}

func orBytes(b []byte) []byte {
	if b == nil {
		return []byte{}
	}
	return b
}

// LibraryRead notes what reading a library gave.
func (s *Store) LibraryRead(ctx context.Context, name, revision, problem string) error {
	return exec(ctx, s, "UPDATE libraries SET revision = $2, problem = $3, refreshed_at = now() WHERE name = $1", name,
		revision, problem)
}

// Library finds a library.
func (s *Store) Library(ctx context.Context, name string) (Library, error) {
	return one[Library](ctx, s.Pool, "SELECT "+libraryColumns+" FROM libraries WHERE name = $1", name)
}

// Libraries lists all libraries by name.
func (s *Store) Libraries(ctx context.Context) ([]Library, error) {
	return many[Library](ctx, s.Pool, "SELECT "+libraryColumns+" FROM libraries ORDER BY name")
}
