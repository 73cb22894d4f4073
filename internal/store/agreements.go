package store

import (
	"context"
	"time"

	"undersail/internal/access"
)

// Agreement lets something be done in somebody's name when nobody does it: by whom it was
// given, for what, until when. Seal is over all of it.
type Agreement struct {
	ID         int64
	Kind       string // undo
	Giver      string
	Roles      []string // what the giver might when it was given
	StackID    string
	Stack      string
	Account    string
	ProposalID int64
	GivenAt    time.Time
	EndsAt     time.Time
	EndedAt    *time.Time
	EndedBy    string
	Seal       []byte
}

const agreementQuery = `SELECT a.id, a.kind, a.giver, a.roles, a.stack_id::text, k.name AS stack, k.account,
	a.proposal_id, a.given_at, a.ends_at, a.ended_at, a.ended_by, a.seal
	FROM agreements a JOIN stacks k ON k.id = a.stack_id `

// AddAgreement keeps an agreement; the same one again changes nothing.
func (s *Store) AddAgreement(ctx context.Context, a Agreement) error {
	return exec(ctx, s, `INSERT INTO agreements (kind, giver, roles, stack_id, proposal_id, ends_at, seal)
		VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (proposal_id, kind) DO NOTHING`, a.Kind, a.Giver, orEmpty(a.Roles), a.StackID, a.ProposalID,
		a.EndsAt, a.Seal)
}

// AgreementOf finds the agreement of a kind that was given with a proposal, whether it
// holds or not.
func (s *Store) AgreementOf(ctx context.Context, proposal int64, kind string) (Agreement, error) {
	return one[Agreement](ctx, s.Pool, agreementQuery+"WHERE a.proposal_id = $1 AND a.kind = $2", proposal, kind)
}

// Agreement finds one by its id.
func (s *Store) Agreement(ctx context.Context, id int64) (Agreement, error) {
	return one[Agreement](ctx, s.Pool, agreementQuery+"WHERE a.id = $1", id)
}

// Agreements lists those that hold, as far as their accounts are seen, the newest first. One
// that a run was begun with holds until that is over.
func (s *Store) Agreements(ctx context.Context) ([]Agreement, error) {
	return many[Agreement](ctx, s.Pool, agreementQuery+`WHERE a.ended_at IS NULL AND a.ends_at > now()
		AND ($1::text[] IS NULL OR k.account = ANY($1))
		AND NOT EXISTS (SELECT FROM runs r WHERE r.proposal_id = a.proposal_id
		AND r.state IN ('done', 'undone', 'stopped')) ORDER BY a.id DESC LIMIT 500`, access.Seen(ctx))
}

// EndAgreement ends one that holds; ErrNotFound says that it does not.
func (s *Store) EndAgreement(ctx context.Context, id int64, by string) error {
	tag, err := s.Pool.Exec(ctx,
		"UPDATE agreements SET ended_at = now(), ended_by = $2 WHERE id = $1 AND ended_at IS NULL AND ends_at > now()",
		id, by)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return classify(err)
}
