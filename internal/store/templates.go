package store

import (
	"context"
	"time"

	"undersail/internal/core/lang"
)

// Template is one published version. Its bytes never change.
type Template struct {
	Name     string
	Version  string
	Title    string
	About    string
	Maturity string
	Takes    int64
	Source   string
	Parts    []lang.Bundle
	// Origin tells where the text came from: a library with its commit, or empty.
	Origin string
	Digest string
	// PublishedBy is who published it, or the library that it came from.
	PublishedBy string
	PublishedAt time.Time
}

const templateColumns = "name, version, title, about, maturity, takes, source, parts, origin, digest, published_by, " +
	"published_at"

// PublishTemplate keeps a version. The same bytes again change nothing; other
// bytes under a published version are a conflict.
func (s *Store) PublishTemplate(ctx context.Context, t Template) error {
	tag, err := s.Pool.Exec(ctx, `INSERT INTO templates (name, version, title, about, maturity, takes, source, digest,
		parts, origin, published_by) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
		ON CONFLICT (name, version) DO UPDATE SET maturity = $5 WHERE templates.digest = $8`,
		t.Name, t.Version, t.Title, t.About, t.Maturity, t.Takes, t.Source, t.Digest, orEmpty(t.Parts), t.Origin,
		t.PublishedBy)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrConflict
	}
	return classify(err)
}

// Templates lists every version of every template, or of the one named.
func (s *Store) Templates(ctx context.Context, name string) ([]Template, error) {
	return many[Template](ctx, s.Pool,
		"SELECT "+templateColumns+" FROM templates WHERE $1 = '' OR name = $1 ORDER BY name, published_at DESC", name)
}

// Cases are what is kept beside a version to try it with: the text of its cases, and the
// saved offers that they name, by file.
type Cases struct {
	Template string
	Version  string
	Source   string
	Offers   map[string]string
	KeptAt   time.Time
}

// PutCases keeps the cases of a version in the place of those before.
func (s *Store) PutCases(ctx context.Context, c Cases) error {
	return exec(ctx, s, `INSERT INTO template_cases (template, version, source, offers) VALUES ($1, $2, $3, $4)
		ON CONFLICT (template, version) DO UPDATE SET source = $3, offers = $4, kept_at = clock_timestamp()
		WHERE template_cases.source <> $3 OR template_cases.offers <>
		$4`, c.Template, c.Version, c.Source, orEmptyMap(c.Offers))
}

// Cases lists the cases that are kept of a template, by version.
func (s *Store) Cases(ctx context.Context, template string) ([]Cases, error) {
	return many[Cases](ctx, s.Pool,
		"SELECT template, version, source, offers, kept_at FROM template_cases WHERE template = $1 ORDER BY version",
		template)
}
