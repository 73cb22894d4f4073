package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/access"
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
	// ShapedBy is everybody who filled in what is proposed.
	ShapedBy  []string
	CreatedAt time.Time
	DecidedBy string
	DecidedAt *time.Time
	ExpiresAt time.Time
	// What lists tell of the document: the changes counted in words, the template, the
	// cost in an hour and the expected time.
	Account, Region, Summary, Template, Currency string
	Hour, Seconds                                float64
	// Undoes is the run that an undo is of.
	Undoes *int64
	RunID  *int64
	// GivesTo is the run that a small proposal is for, which goes on with it.
	GivesTo *int64
	// OnFailure is what was agreed to become of its run if that fails; Agreement is the seal
	// of all that was agreed to.
	OnFailure string
	Agreement []byte
	// Reserves is what it would take; it is written and read apart.
	Reserves json.RawMessage `db:"-"`
}

// An open or accepted proposal whose time is over reads as expired.
const proposalQuery = `SELECT p.id, p.stack_id::text, s.name AS stack, p.kind, CASE
	WHEN p.state IN ('open', 'accepted') AND p.expires_at < now() THEN 'expired' ELSE p.state END AS state,
	p.why, p.document, p.created_by, p.shaped_by, p.created_at, p.decided_by, p.decided_at, p.expires_at, s.account,
		s.region, p.summary, p.template, p.currency, p.hour, p.seconds, p.undoes, p.gives_to, p.on_failure,
		p.agreement, r.id AS run_id
	FROM proposals p JOIN stacks s ON s.id = p.stack_id LEFT JOIN runs r ON r.proposal_id = p.id `

// AddProposal keeps a proposal and makes the stack's older open ones stale.
func (s *Store) AddProposal(ctx context.Context, p Proposal, life time.Duration) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		if err := lockStacks(ctx, tx, p.StackID, nil); err != nil { // before its proposals, as whoever begins a run
			return err
		}
		_, err := tx.Exec(ctx, "UPDATE proposals SET state = 'stale', why = 'a newer proposal was made for the "+
			"stack' WHERE stack_id = $1 AND state IN ('open', 'accepted')", p.StackID)
		if err != nil {
			return fmt.Errorf("keeping the proposal: %w", err)
		}
		return tx.QueryRow(ctx, `INSERT INTO proposals (stack_id, kind, state, document, created_by, summary,
		template, currency, hour, seconds, undoes, expires_at, reserves, shaped_by, gives_to)
			VALUES ($1, $2, 'open', $3, $4, $5, $6, $7, $8, $9, $10, now() + $11, $12, $13, $14) RETURNING id`,
			p.StackID, p.Kind, p.Document, p.CreatedBy, p.Summary, p.Template, p.Currency, p.Hour, p.Seconds, p.Undoes,
			life, orList(p.Reserves), orEmpty(p.ShapedBy), p.GivesTo).Scan(&id)
	})
	return id, err
}

// orList is an empty list where nothing was given.
func orList(raw json.RawMessage) json.RawMessage {
	if raw == nil {
		return json.RawMessage("[]")
	}
	return raw
}

// Proposal finds a proposal.
func (s *Store) Proposal(ctx context.Context, id int64) (Proposal, error) {
	return one[Proposal](ctx, s.Pool, proposalQuery+"WHERE p.id = $1", id)
}

// Proposals lists proposals, newest first, of the stacks of a name when it is
// given, without their documents.
func (s *Store) Proposals(ctx context.Context, stack string, before int64, most int) ([]Proposal, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	narrow := strings.Replace(proposalQuery, "p.document,", "NULL::jsonb AS document,", 1)
	const page = "($3::text[] IS NULL OR s.account = ANY($3)) AND p.id < $1 ORDER BY p.id DESC LIMIT $2"
	if stack == "" {
		return many[Proposal](ctx, s.Pool, narrow+"WHERE "+page, before, most, access.Seen(ctx))
	}
	return many[Proposal](ctx, s.Pool, narrow+"WHERE p.stack_id IN (SELECT id FROM stacks WHERE name = $4) AND "+page,
		before, most, access.Seen(ctx), stack)
}

// LastDocument finds the document of the newest run before another that set what
// a stack is made from; 0 means before none. ErrNotFound says that there is none.
func (s *Store) LastDocument(ctx context.Context, stackID string, before int64) (Proposal, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	return one[Proposal](ctx, s.Pool, proposalQuery+`WHERE r.stack_id = $1 AND r.id < $2
		AND r.kind NOT IN ('retire', 'discard') ORDER BY r.id DESC LIMIT 1`, stackID, before)
}

// Decision is what somebody decided of a proposal.
type Decision struct {
	State, Why, By, OnFailure string
	Consents                  []Consent
	// Agreement is the seal of what was agreed to.
	Agreement []byte
	Who       Who
	// Shaped says that whoever decides has shaped it, which the account may not want.
	Shaped bool
}

// ErrSecondPerson says that the account asks for a second person by now.
var ErrSecondPerson = errors.New("the account asks for a second person")

// Decide moves an open proposal to accepted or refused, with what was agreed to; a
// conflict says that it was not open any more.
func (s *Store) Decide(ctx context.Context, id int64, d Decision) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		if d.Shaped && d.State == "accepted" {
			var second bool
			err := tx.QueryRow(ctx, "SELECT a.second_person FROM accounts a JOIN stacks k ON k.account = a.name "+
				"JOIN proposals p ON p.stack_id = k.id WHERE p.id = $1 FOR SHARE OF a", id).Scan(&second)
			if err != nil {
				return fmt.Errorf("deciding on proposal %d: %w", id, err)
			}
			if second {
				return ErrSecondPerson
			}
		}
		if err := asks(ctx, tx, d.Who); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx,
			"UPDATE proposals SET state = $2, why = $3, decided_by = $4, decided_at = now(), on_failure = $5, "+
				"agreement = $6 WHERE id = $1 AND state = 'open' AND expires_at > now()", id, d.State, d.Why, d.By,
			d.OnFailure, d.Agreement)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrConflict
		}
		for _, c := range d.Consents {
			if err == nil {
				_, err = tx.Exec(ctx, "INSERT INTO consents (proposal_id, name, about, given_by) VALUES ($1, $2, "+
					"$3, $4) ON CONFLICT DO NOTHING", id, c.Name, c.About, d.By)
			}
		}
		return err
	})
}

// Gifts lists the open proposals to give a run something, the newest first.
func (s *Store) Gifts(ctx context.Context, run int64) ([]int64, error) {
	rows, err := s.Pool.Query(ctx,
		"SELECT id FROM proposals WHERE gives_to = $1 AND state = 'open' AND expires_at > now() ORDER BY id DESC", run)
	if err != nil {
		return nil, classify(err)
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	return ids, classify(err)
}

// Unsealed lists proposals that were accepted before agreements were sealed, some at a time
// in the order of their ids.
func (s *Store) Unsealed(ctx context.Context, after int64) ([]Proposal, error) {
	return many[Proposal](ctx, s.Pool,
		proposalQuery+"WHERE p.agreement IS NULL AND p.state IN ('accepted', 'applied') AND p.id > $1 ORDER BY "+
			"p.id LIMIT 50", after)
}

// SealProposal puts the seal of an agreement to a proposal that has none.
func (s *Store) SealProposal(ctx context.Context, id int64, agreement []byte) error {
	return exec(ctx, s, "UPDATE proposals SET agreement = $2 WHERE id = $1 AND agreement IS NULL", id, agreement)
}

// Consent is what somebody agreed to.
type Consent struct {
	Name    string
	About   string
	GivenBy string
	GivenAt time.Time
}

// Consents lists what was agreed to with a proposal.
func (s *Store) Consents(ctx context.Context, proposal int64) ([]Consent, error) {
	return many[Consent](ctx, s.Pool,
		"SELECT name, about, given_by, given_at FROM consents WHERE proposal_id = $1 ORDER BY name", proposal)
}

// Reserved is what a proposal of another stack would take, and has not yet.
type Reserved struct {
	Proposal int64
	Stack    string
	Reserves []byte
	Running  bool
}

// Reserves lists what proposals of other stacks of an account would take: of open and
// accepted ones all, of runs that are not over what no call was made for yet.
func (s *Store) Reserves(ctx context.Context, account, exceptStack string) ([]Reserved, error) {
	return many[Reserved](ctx, s.Pool, `SELECT p.id AS proposal, k.name AS stack, r.id IS NOT NULL AS running,
			CASE WHEN r.id IS NULL THEN p.reserves ELSE (SELECT coalesce(jsonb_agg(x), '[]')
			FROM jsonb_array_elements(p.reserves) x
				WHERE EXISTS (SELECT FROM steps t WHERE t.run_id = r.id AND t.resource = x->>'resource'
				AND t.action IN ('create', 'alter') AND t.called_at IS NULL)) END AS reserves
		FROM proposals p JOIN stacks k ON k.id = p.stack_id LEFT JOIN runs r ON r.proposal_id = p.id
		WHERE k.account = $1 AND k.id::text <> $2 AND p.reserves <> '[]'
			AND (p.state IN ('open', 'accepted') AND p.expires_at > now() OR r.state IN `+active+`)
			ORDER BY p.id`, account, exceptStack)
}

// ChangedSince reports whether runs may have changed what is in an account since a moment:
// one goes on, or has ended since.
func (s *Store) ChangedSince(ctx context.Context, account string, at time.Time) (changed bool, err error) {
	err = s.Pool.QueryRow(ctx,
		"SELECT EXISTS (SELECT FROM runs r JOIN stacks k ON k.id = r.stack_id WHERE k.account = $1 AND (r.state IN "+
			active+" OR r.ended_at > $2))", account, at).Scan(&changed)
	return changed, classify(err)
}
