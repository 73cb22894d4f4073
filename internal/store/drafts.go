package store

import (
	"context"
	"time"
)

// Draft is what somebody has filled in and not yet proposed.
type Draft struct {
	ID        string
	Revision  int64
	Body      []byte
	MadeBy    string
	ShapedBy  []string // everybody who filled something in
	MadeAt    time.Time
	ChangedAt time.Time
}

const draftColumns = "id, revision, body, made_by, shaped_by, made_at, changed_at"

// AddDraft keeps a new draft, with those who shaped what it begins from.
func (s *Store) AddDraft(ctx context.Context, id, by string, shapedBy []string, body []byte) (Draft, error) {
	return one[Draft](ctx, s.Pool,
		"INSERT INTO drafts (id, body, made_by, shaped_by) VALUES ($1, $2, $3, $4) RETURNING "+draftColumns, id, body,
		by, orEmpty(shapedBy))
}

// Draft finds a draft.
func (s *Store) Draft(ctx context.Context, id string) (Draft, error) {
	return one[Draft](ctx, s.Pool, "SELECT "+draftColumns+" FROM drafts WHERE id = $1", id)
}

// Drafts lists drafts, changed last first.
func (s *Store) Drafts(ctx context.Context, most int) ([]Draft, error) {
	return many[Draft](ctx, s.Pool, "SELECT "+draftColumns+" FROM drafts ORDER BY changed_at DESC, id LIMIT $1", most)
}

// ChangeDraft puts another content into a draft of a revision. ErrNotFound says that
// it has another revision by now, or is gone.
func (s *Store) ChangeDraft(ctx context.Context, id, by string, revision int64, body []byte) (Draft, error) {
	return one[Draft](ctx, s.Pool, `UPDATE drafts SET body = $3, revision = revision + 1,
		changed_at = clock_timestamp(), shaped_by = CASE WHEN $4 = ANY(shaped_by) THEN shaped_by
		ELSE shaped_by || $4::text END
		WHERE id = $1 AND revision = $2 RETURNING `+draftColumns, id, revision, body, by)
}

// RemoveDraft forgets a draft.
func (s *Store) RemoveDraft(ctx context.Context, id string) error {
	return exec(ctx, s, "DELETE FROM drafts WHERE id = $1", id)
}
