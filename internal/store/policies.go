package store

import (
	"context"
	"time"
)

// Policy is one version of a rule of the organisation.
type Policy struct {
	Name    string
	Version int
	About   string
	Does    string
	Types   []string
	That    string
	Says    string
	Remedy  string
	MadeBy  string
	MadeAt  time.Time
}

const policyColumns = "name, version, about, does, types, that, says, remedy, made_by, made_at"

// Policies lists the newest version of every rule that holds, by name.
func (s *Store) Policies(ctx context.Context) ([]Policy, error) {
	return many[Policy](ctx, s.Pool,
		"SELECT * FROM (SELECT DISTINCT ON (name) "+policyColumns+
			" FROM policies ORDER BY name, version DESC) AS newest WHERE does <> 'nothing'")
}

// PolicyVersions lists every version of a rule, newest first.
func (s *Store) PolicyVersions(ctx context.Context, name string) ([]Policy, error) {
	return many[Policy](ctx, s.Pool, "SELECT "+policyColumns+" FROM policies WHERE name = $1 ORDER BY version DESC",
		name)
}

// AddPolicy adds the next version of a rule and gives its number.
func (s *Store) AddPolicy(ctx context.Context, p Policy) (int, error) {
	var version int
	err := s.Pool.QueryRow(ctx, `INSERT INTO policies (name, version, about, does, types, that, says, remedy, made_by)
		SELECT $1, coalesce(max(version), 0) + 1, $2, $3, $4, $5, $6, $7, $8 FROM policies WHERE name = $1
		RETURNING version`,
		p.Name, p.About, p.Does, orEmpty(p.Types), p.That, p.Says, p.Remedy, p.MadeBy).Scan(&version)
	return version, classify(err)
}
