package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"undersail/internal/core/lang"

	"github.com/jackc/pgx/v5"
)

// ErrFenced says that the writer does not own the run any more.
var ErrFenced = errors.New("the run belongs to another owner")

// Run is one execution of an accepted proposal.
type Run struct {
	ID          int64
	ProposalID  int64
	StackID     string
	Stack       string
	Kind        string
	State       string
	Reason      string
	StopAsked   bool
	ClaimOwner  *string
	ClaimNumber int64
	LastEvent   int64
	StartedBy   string
	CreatedAt   time.Time
	StartedAt   *time.Time
	EndedAt     *time.Time
}

const runQuery = `SELECT r.id, r.proposal_id, r.stack_id::text, s.name AS stack, p.kind, r.state, r.reason, r.stop_asked, r.claim_owner, r.claim_number,
	r.last_event, r.started_by, r.created_at, r.started_at, r.ended_at
	FROM runs r JOIN stacks s ON s.id = r.stack_id JOIN proposals p ON p.id = r.proposal_id `

// Active are the states of a run that is not over.
const active = "('queued', 'underway', 'parked', 'stopping', 'undoing')"

// Need is a step that must come first.
type Need struct {
	Step int  `json:"step"`
	Made bool `json:"made,omitempty"`
}

// Step is one change of a run.
type Step struct {
	RunID      int64
	Number     int
	Resource   string
	Type       string
	Change     string
	State      string
	Reason     string
	Needs      []Need
	ExpectMS   int64
	PatienceMS int64
	Token      string
	IntentAt   *time.Time
	CalledAt   *time.Time
	MadeAt     *time.Time
	EndedAt    *time.Time
}

const stepColumns = "run_id, number, resource, type, change, state, reason, needs, expect_ms, patience_ms, token, intent_at, called_at, made_at, ended_at"

// StackUpdate is what a run makes of its stack when it starts.
type StackUpdate struct {
	TemplateName, TemplateVersion, TemplateSource string
	TemplateParts                                 []lang.Bundle
	Inputs                                        map[string]any
	Secrets                                       map[string]string
	Found, Reads                                  map[string]map[string]any
	// Renames gives new names of recorded resources by their old ones.
	Renames map[string]string
}

// StartRun turns an accepted proposal into a queued run with its steps. Enqueue
// puts the job into the queue within the same transaction. A conflict says that
// the proposal is not accepted or that another run of the stack is active.
func (s *Store) StartRun(ctx context.Context, proposalID int64, by string, grace time.Duration, steps []Step, update *StackUpdate,
	enqueue func(tx pgx.Tx, run, number int64) error) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		var stackID string
		err := tx.QueryRow(ctx, "UPDATE proposals SET state = 'applied' WHERE id = $1 AND state = 'accepted' AND expires_at > now() RETURNING stack_id::text", proposalID).Scan(&stackID)
		if errors.Is(err, pgx.ErrNoRows) {
			return fmt.Errorf("%w: the proposal is not accepted", ErrConflict)
		}
		if err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, "INSERT INTO runs (proposal_id, stack_id, state, started_by, claim_until) VALUES ($1, $2, 'queued', $3, clock_timestamp() + $4) RETURNING id",
			proposalID, stackID, by, grace).Scan(&id); err != nil {
			return err
		}
		batch := &pgx.Batch{}
		for _, st := range steps {
			batch.Queue("INSERT INTO steps (run_id, number, resource, type, change, state, needs, expect_ms, patience_ms, token) VALUES ($1, $2, $3, $4, $5, 'waiting', $6, $7, $8, $9)",
				id, st.Number, st.Resource, st.Type, st.Change, st.Needs, st.ExpectMS, st.PatienceMS, st.Token)
		}
		if update != nil {
			batch.Queue("UPDATE stacks SET template_name = $2, template_version = $3, template_source = $4, template_parts = $5, inputs = $6, secrets = $7, found = $8, reads = $9 WHERE id = $1",
				stackID, update.TemplateName, update.TemplateVersion, update.TemplateSource, orEmpty(update.TemplateParts), update.Inputs, update.Secrets, orEmptyMap(update.Found), orEmptyMap(update.Reads))
			for was, name := range update.Renames {
				batch.Queue("UPDATE resources SET name = $3 WHERE stack_id = $1 AND name = $2", stackID, was, name)
				batch.Queue("UPDATE resources SET after = array_replace(after, $2, $3) WHERE stack_id = $1", stackID, was, name)
			}
		}
		if err := tx.SendBatch(ctx, batch).Close(); err != nil {
			return err
		}
		return enqueue(tx, id, 1)
	})
	return id, err
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

// Runs lists runs, newest first, of one stack when it is named.
func (s *Store) Runs(ctx context.Context, stack string, before int64, most int) ([]Run, error) {
	return many[Run](ctx, s.Pool, runQuery+"WHERE ($1 = '' OR s.name = $1) AND ($2 = 0 OR r.id < $2) ORDER BY r.id DESC LIMIT $3", stack, before, most)
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
func (s *Store) AskStop(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, "UPDATE runs SET stop_asked = true WHERE id = $1 AND state IN "+active, id)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrConflict
	}
	return classify(err)
}

// Claim takes a run for an owner under a claim number. False says that the
// number is old or that the run is over: there is nothing to do.
func (s *Store) Claim(ctx context.Context, id, number int64, owner string, life time.Duration) (bool, error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE runs SET claim_owner = $3, claim_until = clock_timestamp() + $4
		WHERE id = $1 AND claim_number = $2 AND (claim_owner IS NULL OR claim_owner = $3) AND state IN `+active, id, number, owner, life)
	return err == nil && tag.RowsAffected() == 1, classify(err)
}

// RenewClaims keeps all runs of an owner in one statement and tells for each
// whether it is asked to stop.
func (s *Store) RenewClaims(ctx context.Context, owner string, life time.Duration) (map[int64]bool, error) {
	rows, err := s.Pool.Query(ctx, "UPDATE runs SET claim_until = clock_timestamp() + $2 WHERE claim_owner = $1 AND state IN "+active+" RETURNING id, stop_asked", owner, life)
	if err != nil {
		return nil, classify(err)
	}
	out := map[int64]bool{}
	var id int64
	var stop bool
	_, err = pgx.ForEachRow(rows, []any{&id, &stop}, func() error { out[id] = stop; return nil })
	return out, classify(err)
}

// SweepClaims gives runs whose claim has run out to whoever takes them next:
// the number is raised, which fences the old owner, and a new job is enqueued.
func (s *Store) SweepClaims(ctx context.Context, grace time.Duration, enqueue func(tx pgx.Tx, run, number int64) error) (int, error) {
	swept := 0
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `UPDATE runs SET claim_owner = NULL, claim_number = claim_number + 1, claim_until = clock_timestamp() + $1
			WHERE id IN (SELECT id FROM runs WHERE state IN `+active+` AND claim_until < clock_timestamp() FOR UPDATE SKIP LOCKED) RETURNING id, claim_number`, grace)
		if err != nil {
			return err
		}
		type claimed struct{ id, number int64 }
		list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (c claimed, err error) {
			err = row.Scan(&c.id, &c.number)
			return c, err
		})
		if err != nil {
			return err
		}
		swept = len(list)
		for _, c := range list {
			// The job of the owner before is over, whatever became of its process:
			// the queue would keep it as running for ever.
			_, err := tx.Exec(ctx, `UPDATE river_job SET state = 'cancelled', finalized_at = now()
				WHERE kind = 'run' AND (args->>'run')::bigint = $1 AND state NOT IN ('cancelled', 'completed', 'discarded')`, c.id)
			if err != nil {
				return err
			}
			if err := enqueue(tx, c.id, c.number); err != nil {
				return err
			}
		}
		return nil
	})
	return swept, err
}

// Event is one thing that happened in a run.
type Event struct {
	RunID    int64
	Number   int64
	At       time.Time
	Kind     string
	Resource string
	State    string
	Text     string
	XID      uint64 `db:"-"` // only in the stream over all runs
}

// Write is what an owner commits together: events and the state they tell. All
// of it is refused with ErrFenced when the claim number is no longer the run's.
type Write struct {
	Run, Claim int64
	Events     []Event
	batch      pgx.Batch
}

// Queue adds a statement.
func (w *Write) queue(query string, args ...any) { w.batch.Queue(query, args...) }

// Commit carries a write out. The first statement fences it and numbers its
// events without gaps.
func (s *Store) Commit(ctx context.Context, w *Write) error {
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		var last int64
		err := tx.QueryRow(ctx, "UPDATE runs SET last_event = last_event + $3 WHERE id = $1 AND claim_number = $2 RETURNING last_event", w.Run, w.Claim, len(w.Events)).Scan(&last)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrFenced
		}
		if err != nil {
			return err
		}
		for i, e := range w.Events {
			w.queue("INSERT INTO events (run_id, number, kind, resource, state, text) VALUES ($1, $2, $3, $4, $5, $6)",
				w.Run, last-int64(len(w.Events))+int64(i)+1, e.Kind, e.Resource, e.State, clean(e.Text))
		}
		return tx.SendBatch(ctx, &w.batch).Close()
	})
	if err != nil {
		return err
	}
	// After the commit: inside the transaction a notification would make every
	// writer wait for the others. Readers catch up from the table anyway.
	_, err = s.Pool.Exec(ctx, "SELECT pg_notify('undersail_events', $1)", fmt.Sprint(w.Run))
	return classify(err)
}

// clean drops what PostgreSQL cannot keep in a text.
func clean(s string) string { return strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "�") }

// StepState moves a step.
func (w *Write) StepState(number int, state, reason string) {
	w.queue(`UPDATE steps SET state = $3, reason = $4,
		ended_at = CASE WHEN $3 IN ('healthy', 'failed', 'skipped') THEN clock_timestamp() ELSE ended_at END,
		intent_at = CASE WHEN $3 = 'working' THEN COALESCE(intent_at, clock_timestamp()) ELSE intent_at END,
		made_at = CASE WHEN $3 = 'settling' THEN COALESCE(made_at, clock_timestamp()) ELSE made_at END
		WHERE run_id = $1 AND number = $2`, w.Run, number, state, clean(reason))
}

// StepCalled notes that the cloud took the call.
func (w *Write) StepCalled(number int) {
	w.queue("UPDATE steps SET called_at = clock_timestamp() WHERE run_id = $1 AND number = $2", w.Run, number)
}

// PutResource records a resource.
func (w *Write) PutResource(r Resource) {
	if r.After == nil {
		r.After = []string{}
	}
	w.queue(`INSERT INTO resources (`+strings.ReplaceAll(resourceColumns, "::text", "")+`) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
		ON CONFLICT (stack_id, name) DO UPDATE SET type = $3, declared = $4, region = $5, token = $6, state = $7, reason = $8, want = $9,
		attributes = $10, checks = $11, after = $12, position = $13, made_at = $14, healthy_at = $15`,
		r.StackID, r.Name, r.Type, r.Declared, r.Region, r.Token, r.State, clean(r.Reason), r.Want, r.Attributes, r.Checks, r.After, r.Position, r.MadeAt, r.HealthyAt)
}

// RemoveResource forgets a resource that is gone.
func (w *Write) RemoveResource(stackID, name string) {
	w.queue("DELETE FROM resources WHERE stack_id = $1 AND name = $2", stackID, name)
}

// AddEvidence keeps what a check saw.
func (w *Write) AddEvidence(e Evidence) {
	e.Answer = clean(e.Answer)
	w.queue(evidenceInsert, e.args()...)
}

// RunState moves the run.
func (w *Write) RunState(state, reason string) {
	w.queue(`UPDATE runs SET state = $2, reason = $3, started_at = COALESCE(started_at, clock_timestamp()),
		ended_at = CASE WHEN $2 IN ('done', 'failed', 'stopped', 'undone') THEN clock_timestamp() END WHERE id = $1`, w.Run, state, clean(reason))
}

// Retired notes that nothing of a stack is left.
func (w *Write) Retired(stackID string) {
	w.queue("UPDATE stacks SET retired_at = clock_timestamp() WHERE id = $1", stackID)
}

// Events lists the events of a run after a number.
func (s *Store) Events(ctx context.Context, runID, after int64, most int) ([]Event, error) {
	return many[Event](ctx, s.Pool, "SELECT run_id, number, at, kind, resource, state, text FROM events WHERE run_id = $1 AND number > $2 ORDER BY number LIMIT $3", runID, after, most)
}

// Cursor is a place in the stream over all runs.
type Cursor struct {
	XID    uint64
	Run    int64
	Number int64
}

// AllEvents lists the events of all runs after a cursor, in an order in which
// nothing appears later before the cursor: transactions that are still open
// hold back those after them.
func (s *Store) AllEvents(ctx context.Context, after Cursor, most int) ([]Event, error) {
	rows, err := s.Pool.Query(ctx, `SELECT run_id, number, at, kind, resource, state, text, xid::text::bigint FROM events
		WHERE xid < pg_snapshot_xmin(pg_current_snapshot()) AND (xid, run_id, number) > ($1::text::xid8, $2, $3)
		ORDER BY xid, run_id, number LIMIT $4`, fmt.Sprint(after.XID), after.Run, after.Number, most)
	if err != nil {
		return nil, classify(err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e Event, err error) {
		err = row.Scan(&e.RunID, &e.Number, &e.At, &e.Kind, &e.Resource, &e.State, &e.Text, &e.XID)
		return e, err
	})
	return list, classify(err)
}

// Listen calls wake with the id of each run that has new events, until the
// context ends. Callers must not rely on it alone.
func (s *Store) Listen(ctx context.Context, wake func(run string)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return classify(err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "LISTEN undersail_events"); err != nil {
		return classify(err)
	}
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		wake(n.Payload)
	}
}

// Expected gives the median duration, in milliseconds, of healthy creations of
// each type in accounts of a cloud, from at least three steps.
func (s *Store) Expected(ctx context.Context, account string) (map[string]int64, error) {
	rows, err := s.Pool.Query(ctx, `SELECT st.type, (percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM st.ended_at - st.intent_at)) * 1000)::bigint
		FROM steps st JOIN runs r ON r.id = st.run_id JOIN stacks k ON k.id = r.stack_id
		WHERE k.account = $1 AND st.change = 'create' AND st.state = 'healthy' AND st.ended_at > now() - interval '90 days'
		GROUP BY st.type HAVING count(*) >= 3`, account)
	if err != nil {
		return nil, classify(err)
	}
	out := map[string]int64{}
	var name string
	var ms int64
	_, err = pgx.ForEachRow(rows, []any{&name, &ms}, func() error { out[name] = ms; return nil })
	return out, classify(err)
}

// ReleaseClaim lets the next sweep give the run to another owner at once.
func (s *Store) ReleaseClaim(ctx context.Context, id, number int64) error {
	return exec(ctx, s, "UPDATE runs SET claim_until = clock_timestamp() WHERE id = $1 AND claim_number = $2", id, number)
}
