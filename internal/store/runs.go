package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/access"
	"undersail/internal/cloud"
	"undersail/internal/core/lang"
	"undersail/internal/core/use"
)

// ErrFenced says that the writer does not own the run any more.
var ErrFenced = errors.New("the run belongs to another owner")

// Run is one execution of an accepted proposal.
type Run struct {
	ID         int64
	ProposalID int64
	StackID    string
	Stack      string
	Kind       string
	Account    string
	State      string
	Reason     string
	StopAsked  bool
	OnFailure  string
	Undoes     *int64
	ParkedFor  string
	// Given are values that somebody gave in the middle of it, by input.
	Given map[string]any
	// Agreed are uses of secrets that somebody agreed to in the middle of it; GivenSeal is the
	// seal of both.
	Agreed      []use.Use
	GivenSeal   []byte
	ClaimOwner  *string
	ClaimNumber int64
	Writes      int64
	LastEvent   int64
	Total       int
	Finished    int
	ExpectedEnd *time.Time
	Decides     string
	Rate        float64 // of the account's clock
	StartedBy   string
	CreatedAt   time.Time
	StartedAt   *time.Time
	EndedAt     *time.Time
	// Attempt counts how often it was tried, TriedBy is who let it try again last.
	Attempt int
	TriedBy string
	// UnderWay and WaitedFor are what its attempts spent working and waiting for people, in seconds.
	UnderWay  float64
	WaitedFor float64
}

const runQuery = `SELECT r.id, r.proposal_id, r.stack_id::text, s.name AS stack, r.attempt, r.tried_by, r.kind,
	r.account, r.state, r.reason, r.stop_asked, r.on_failure, r.undoes, r.parked_for, r.given, r.agreed, r.given_seal,
	r.claim_owner, r.claim_number, r.writes, r.last_event, r.total, r.finished, r.expected_end, r.decides,
		coalesce(a.clock_rate, 1) AS rate, r.started_by, r.created_at, r.started_at, r.ended_at,
	` + spentOf + `
	FROM runs r JOIN stacks s ON s.id = r.stack_id LEFT JOIN accounts a ON a.name = r.account` +
	joinSpent

// Active are the states of a run that is not over.
const active = "('queued', 'underway', 'parked', 'stopping', 'undoing')"

// carried are the states of a run that an engine carries out, or should.
const carried = "('queued', 'underway', 'stopping', 'undoing')"

// Need is a step that must come first.
type Need struct {
	Step int  `json:"step"`
	Made bool `json:"made,omitempty"`
}

// Step is one action on one resource.
type Step struct {
	RunID      int64
	Number     int
	Resource   string
	Type       string
	Action     string
	State      string
	Reason     string
	Needs      []Need
	ExpectMS   int64
	PatienceMS int64
	// Token is that of the resource, for life: drawn for a creation, the recorded
	// one for everything else. Parts are what is known of the resource in the cloud.
	Token  string
	Region string
	Parts  []cloud.Part
	// Want is what the step makes of the resource, secrets as references, Unset
	// what it takes away, Before what the resource was.
	Want           map[string]any
	Unset          []string
	Before         map[string]any
	WaitedMS       int64
	SettleWaitedMS int64
	// SpentMS is how much of its patience the step has spent, SettleSpentMS how long it has
	// settled, each without what it waited.
	SpentMS, SettleSpentMS int64
	IntentAt               *time.Time
	CalledAt               *time.Time
	MadeAt                 *time.Time
	EndedAt                *time.Time
}

const stepColumns = "run_id, number, resource, type, action, state, reason, needs, expect_ms, patience_ms, token, " +
	"region, parts, want, unset, before, waited_ms, settle_waited_ms, spent_ms, settle_spent_ms, intent_at, " +
	"called_at, made_at, ended_at"

// StackUpdate is what a run makes of its stack when it starts.
type StackUpdate struct {
	TemplateName, TemplateVersion, TemplateSource string
	TemplateParts                                 []lang.Bundle
	Inputs                                        map[string]any
	Secrets                                       map[string]string
	Found, Reads                                  map[string]map[string]any
	Cloud, Currency, Title                        string
}

// Rename gives a recorded resource another name, and what comes after it another one
// to name: that of its successor, where the old one of a rebuild makes way for it.
type Rename struct{ From, To, Successor string }

// NewRun is what a run is started with.
type NewRun struct {
	Proposal  int64
	Agreement []byte // the seal of what was agreed to, as it was looked at
	Kind      string
	By        string
	OnFailure string
	Undoes    *int64
	Grace     time.Duration // how long it may take until an engine claims it
	Steps     []Step
	Update    *StackUpdate // nil leaves the stack as it is recorded
	// Absent names recorded resources that the cloud was asked for and does not
	// have: their records go.
	Absent  []string
	Renames []Rename
	// Standing is the agreement by which nobody but the service begins it; nil where
	// somebody does.
	Standing *Standing
	// TakeOver are kept resources that become those of the stack, as they are recorded then, by
	// their tokens.
	TakeOver map[string]Resource
	// Moment is what it rests on, as it was looked at.
	Moment Moment
}

// Standing is a standing agreement as it was looked at: with the roles that its giver had.
type Standing struct {
	ID    int64
	Roles []string
}

// stands holds an agreement until the transaction ends. It conflicts when that was taken back
// meanwhile, is over, or whoever gave it has other roles or none.
func stands(ctx context.Context, tx pgx.Tx, a *Standing) error {
	if a == nil {
		return nil
	}
	var id int64
	err := tx.QueryRow(ctx, `SELECT a.id FROM agreements a JOIN users u ON u.name = a.giver
		WHERE a.id = $1 AND a.ended_at IS NULL AND a.ends_at > now() AND u.disabled_at IS NULL
		AND u.roles = $2 FOR SHARE`, a.ID, a.Roles).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		return fmt.Errorf("%w: the agreement to it does not hold any more", ErrConflict)
	}
	return err
}

// StartRun turns an accepted proposal into a queued run with its steps. Enqueue
// puts the job into the queue within the same transaction. [ErrMoved] says that something is
// not as it was looked at, [Excluded] and [ErrReader] who stands in the way, [ErrRights] that
// whoever asks may not any more; each but the last is a conflict.
func (s *Store) StartRun(ctx context.Context, n NewRun, enqueue Enqueue) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		var stackID string
		err := tx.QueryRow(ctx, "SELECT stack_id::text FROM proposals WHERE id = $1", n.Proposal).Scan(&stackID)
		if err != nil {
			return fmt.Errorf("beginning the run: %w", err)
		}
		if err := moment(ctx, tx, stackID, n.Moment, n.Undoes); err != nil {
			return err
		}
		tag, err := tx.Exec(ctx,
			"UPDATE proposals SET state = 'applied' WHERE id = $1 AND state = 'accepted' AND expires_at > now() AND "+
				"agreement = $2", n.Proposal, n.Agreement)
		if err == nil && tag.RowsAffected() == 0 {
			err = ErrMoved
		}
		if err == nil {
			err = stands(ctx, tx, n.Standing)
		}
		if err != nil {
			return err
		}
		if n.Undoes != nil { // it waited for the consent that came now
			_, err := tx.Exec(ctx, "UPDATE runs SET state = 'failed', parked_for = '', ended_at = clock_timestamp() "+
				"WHERE id = $1 AND state = 'parked'", *n.Undoes)
			if err != nil {
				return fmt.Errorf("beginning the run: %w", err)
			}
		}
		if err := tx.QueryRow(ctx, `INSERT INTO runs (proposal_id, stack_id, account, kind, state, started_by,
		on_failure, undoes, total, claim_until)
			SELECT $1, id, account, $3, 'queued', $4, $5, $6, $7, clock_timestamp() + $8 FROM stacks WHERE id = $2
			RETURNING id`,
			n.Proposal, stackID, n.Kind, n.By, cmp.Or(n.OnFailure, "keep"), n.Undoes, len(n.Steps),
			n.Grace).Scan(&id); err != nil {
			return fmt.Errorf("beginning the run: %w", err)
		}
		batch := &pgx.Batch{}
		reserve(batch, id, n.Moment)
		for _, st := range n.Steps {
			batch.Queue(`INSERT INTO steps (run_id, number, resource, type, action, state, needs, expect_ms,
			patience_ms, token, region, parts, before)
				VALUES ($1, $2, $3, $4, $5, 'waiting', $6, $7, $8, $9, $10, $11, $12)`,
				id, st.Number, st.Resource, st.Type, st.Action, st.Needs, st.ExpectMS, st.PatienceMS, st.Token,
				st.Region, orEmpty(st.Parts), orEmptyMap(st.Before))
		}
		if len(n.Absent) > 0 {
			batch.Queue("DELETE FROM resources WHERE stack_id = $1 AND name = ANY($2)", stackID, n.Absent)
		}
		if u := n.Update; u != nil {
			batch.Queue(`UPDATE stacks SET template_name = $2, template_version = $3, template_source = $4,
			template_parts = $5, inputs = $6, secrets = $7, found = $8, reads = $9,
				cloud = $10, currency = $11, title = $12 WHERE id = $1`,
				stackID, u.TemplateName, u.TemplateVersion, u.TemplateSource, orEmpty(u.TemplateParts),
				orEmptyMap(u.Inputs), orEmptyMap(u.Secrets), orEmptyMap(u.Found), orEmptyMap(u.Reads), u.Cloud,
				u.Currency, u.Title)
		}
		rename(batch, stackID, n.Renames)
		if batch.Len() > 0 {
			if err := tx.SendBatch(ctx, batch).Close(); err != nil {
				return fmt.Errorf("beginning the run: %w", err)
			}
		}
		if err := takeOver(ctx, tx, stackID, n.TakeOver); err != nil {
			return err
		}
		job, err := enqueue(tx, id, 1)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE runs SET job = $2 WHERE id = $1", id, job)
		return err
	})
	if err != nil {
		return 0, fmt.Errorf("start run of proposal %d: %w", n.Proposal, err)
	}
	return id, nil
}

// rename gives recorded resources other names. They may trade names with each other,
// so that all let go of theirs first.
func rename(batch *pgx.Batch, stackID string, names []Rename) {
	for _, n := range names {
		batch.Queue("UPDATE resources SET name = '~' || name WHERE stack_id = $1 AND name = $2", stackID, n.From)
		batch.Queue("UPDATE resources SET after = array_replace(after, $2, '~' || $2) WHERE stack_id = $1", stackID,
			n.From)
	}
	for _, n := range names {
		batch.Queue("UPDATE resources SET name = $3 WHERE stack_id = $1 AND name = '~' || $2", stackID, n.From, n.To)
		batch.Queue("UPDATE resources SET after = array_replace(after, '~' || $2, $3) WHERE stack_id = $1", stackID,
			n.From, n.Successor)
	}
}

// takeOver records kept resources as those of a stack. A conflict says that one of
// them is not kept any more.
func takeOver(ctx context.Context, tx pgx.Tx, stackID string, rows map[string]Resource) error {
	for token, r := range rows {
		tag, err := tx.Exec(ctx, `WITH taken AS (DELETE FROM kept WHERE token = $2 RETURNING *)
			INSERT INTO resources (stack_id, name, type, declared, region, token, state, want, attributes, position,
			made_at, parts, hour)
			SELECT $1, $3, type, declared, region, token, 'settling', $4, attributes, 0, kept_at, parts, hour
			FROM taken`, stackID, token, r.Name, orEmptyMap(r.Want))
		if err != nil {
			return fmt.Errorf("taking over what stack keeps for %s: %w", stackID, err)
		}
		if tag.RowsAffected() == 0 {
			return ErrMoved
		}
	}
	return nil
}

func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func orEmptyMap[T any](m map[string]T) map[string]T {
	if m == nil {
		return map[string]T{}
	}
	return m
}

// Run finds a run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s.Pool, runQuery+"WHERE r.id = $1", id)
}

// Runs lists runs, newest first, of the stacks of a name when it is given.
func (s *Store) Runs(ctx context.Context, stack string, before int64, most int) ([]Run, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	const page = "($3::text[] IS NULL OR r.account = ANY($3)) AND r.id < $1 ORDER BY r.id DESC LIMIT $2"
	if stack == "" {
		return many[Run](ctx, s.Pool, runQuery+"WHERE "+page, before, most, access.Seen(ctx))
	}
	return many[Run](ctx, s.Pool, runQuery+"WHERE r.stack_id IN (SELECT id FROM stacks WHERE name = $4) AND "+page,
		before, most, access.Seen(ctx), stack)
}

// LastRun finds the newest run of a stack.
func (s *Store) LastRun(ctx context.Context, stackID string) (Run, error) {
	return one[Run](ctx, s.Pool, runQuery+"WHERE r.stack_id = $1 ORDER BY r.id DESC LIMIT 1", stackID)
}

// Steps lists the steps of a run by number.
func (s *Store) Steps(ctx context.Context, runID int64) ([]Step, error) {
	return many[Step](ctx, s.Pool, "SELECT "+stepColumns+" FROM steps WHERE run_id = $1 ORDER BY number", runID)
}

// AskStop asks an active run to stop; a conflict says that it is over.
func (s *Store) AskStop(ctx context.Context, id int64, who Who) error {
	return s.asked(ctx, who, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE runs SET stop_asked = true WHERE id = $1 AND state IN "+active, id)
		if err == nil && tag.RowsAffected() == 0 {
			return ErrConflict
		}
		return err
	})
}
