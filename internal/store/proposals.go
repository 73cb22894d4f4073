package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"
)

// Proposal is a saved, immutable set of changes. Document is the service's.
type Proposal struct {
	ID        int64
	StackID   string
	Stack     string
	Kind      string
	State     string
	Why       string
	Document  json.RawMessage
	CreatedBy string
	CreatedAt time.Time
	DecidedBy string
	DecidedAt *time.Time
	ExpiresAt time.Time
	RunID     *int64
}

const proposalQuery = `SELECT p.id, p.stack_id::text, s.name AS stack, p.kind, p.state, p.why, p.document, p.created_by, p.created_at,
	p.decided_by, p.decided_at, p.expires_at, r.id AS run_id
	FROM proposals p JOIN stacks s ON s.id = p.stack_id LEFT JOIN runs r ON r.proposal_id = p.id `

// AddProposal keeps a proposal and makes the stack's older open ones stale.
func (s *Store) AddProposal(ctx context.Context, p Proposal, life time.Duration) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE proposals SET state = 'stale', why = 'a newer proposal was made for the stack' WHERE stack_id = $1 AND state IN ('open', 'accepted')", p.StackID); err != nil {
			return err
		}
		return tx.QueryRow(ctx, `INSERT INTO proposals (stack_id, kind, state, document, created_by, expires_at) VALUES ($1, $2, 'open', $3, $4, now() + $5) RETURNING id`,
			p.StackID, p.Kind, p.Document, p.CreatedBy, life).Scan(&id)
	})
	return id, err
}

// Proposal finds a proposal. One whose time is over reads as expired.
func (s *Store) Proposal(ctx context.Context, id int64) (Proposal, error) {
	p, err := one[Proposal](ctx, s.Pool, proposalQuery+"WHERE p.id = $1", id)
	return p.aged(), err
}

// Proposals lists proposals, newest first, of one stack when it is named.
func (s *Store) Proposals(ctx context.Context, stack string, before int64, most int) ([]Proposal, error) {
	list, err := many[Proposal](ctx, s.Pool, proposalQuery+"WHERE ($1 = '' OR s.name = $1) AND ($2 = 0 OR p.id < $2) ORDER BY p.id DESC LIMIT $3", stack, before, most)
	for i := range list {
		list[i] = list[i].aged()
	}
	return list, err
}

func (p Proposal) aged() Proposal {
	if (p.State == "open" || p.State == "accepted") && !p.ExpiresAt.IsZero() && time.Now().After(p.ExpiresAt) {
		p.State = "expired"
	}
	return p
}

// Decide moves an open proposal to accepted or refused; a conflict says that it
// was not open any more.
func (s *Store) Decide(ctx context.Context, id int64, state, why, by string) error {
	tag, err := s.Pool.Exec(ctx, "UPDATE proposals SET state = $2, why = $3, decided_by = $4, decided_at = now() WHERE id = $1 AND state = 'open' AND expires_at > now()", id, state, why, by)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrConflict
	}
	return classify(err)
}
