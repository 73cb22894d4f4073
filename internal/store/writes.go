package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/cloud"
)

// Write is what an owner commits together: events and the state they tell. All
// of it is refused with ErrFenced when the claim number is no longer the run's.
type Write struct {
	Run, Claim int64
	// After is how many writes of owners the run has had: a write is carried out
	// once, however often it is sent.
	After  int64
	Events []Event
	batch  pgx.Batch
	then   []func(tx pgx.Tx) error
}

func (w *Write) queue(query string, args ...any) { w.batch.Queue(query, args...) }

// Then adds what is to happen in the same transaction.
func (w *Write) Then(f func(tx pgx.Tx) error) { w.then = append(w.then, f) }

// Commit carries a write out. The first statement fences it and numbers its
// events without gaps. A write that was carried out before, its answer lost, is
// recognised and not carried out again.
func (s *Store) Commit(ctx context.Context, w *Write) error {
	again := false
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		var last int64
		err := tx.QueryRow(ctx, `UPDATE runs SET last_event = last_event + $3, writes = writes + 1,
		seen_at = clock_timestamp()
			WHERE id = $1 AND claim_number = $2 AND writes = $4 RETURNING
			last_event`, w.Run, w.Claim, len(w.Events), w.After).Scan(&last)
		if errors.Is(err, pgx.ErrNoRows) {
			again, err = s.committed(ctx, tx, w)
			return err
		}
		if err != nil {
			return err
		}
		for i, e := range w.Events {
			w.queue("INSERT INTO events (run_id, number, kind, resource, state, text) VALUES ($1, $2, $3, $4, $5, $6)",
				w.Run, last-int64(len(w.Events))+int64(i)+1, e.Kind, e.Resource, e.State, clean(e.Text))
		}
		if w.batch.Len() > 0 {
			if err := tx.SendBatch(ctx, &w.batch).Close(); err != nil {
				return fmt.Errorf("committing what a run did: %w", err)
			}
		}
		for _, f := range w.then {
			if err := f(tx); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("write of run %d: %w", w.Run, err)
	}
	if len(w.Events) > 0 && !again {
		s.wake(w.Run)
	}
	return nil
}

// committed tells a write that was carried out already from one of an owner who
// is no longer.
func (s *Store) committed(ctx context.Context, tx pgx.Tx, w *Write) (bool, error) {
	var claim, writes int64
	err := tx.QueryRow(ctx, "SELECT claim_number, writes FROM runs WHERE id = $1", w.Run).Scan(&claim, &writes)
	if err != nil {
		return false, err
	}
	if claim == w.Claim && writes == w.After+1 {
		return true, nil
	}
	return false, ErrFenced
}

// clean drops what PostgreSQL cannot keep in a text.
func clean(s string) string { return strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "\uFFFD") }

// StepState moves a step.
func (w *Write) StepState(number int, state, reason string) {
	w.queue(`UPDATE steps SET state = $3, reason = $4,
		ended_at = CASE WHEN $3 IN ('healthy', 'failed', 'skipped') THEN clock_timestamp() ELSE ended_at END,
		intent_at = CASE WHEN $3 = 'working' THEN COALESCE(intent_at, clock_timestamp()) ELSE intent_at END,
		made_at = CASE WHEN $3 = 'settling' THEN COALESCE(made_at, clock_timestamp()) ELSE made_at END
		WHERE run_id = $1 AND number = $2`, w.Run, number, state, clean(reason))
}

// StepIntent records what a step acts on, before any call.
func (w *Write) StepIntent(s Step) {
	w.queue("UPDATE steps SET token = $3, region = $4, parts = $5, want = $6, unset = $7, before = $8 WHERE run_id "+
		"= $1 AND number = $2",
		w.Run, s.Number, s.Token, s.Region, orEmpty(s.Parts), orEmptyMap(s.Want), orEmpty(s.Unset),
		orEmptyMap(s.Before))
}

// StepParts records the parts of the resource that a step acts on.
func (w *Write) StepParts(number int, parts []cloud.Part) {
	w.queue("UPDATE steps SET parts = $3 WHERE run_id = $1 AND number = $2", w.Run, number, orEmpty(parts))
}

// StepCalled notes that the cloud took the last call.
func (w *Write) StepCalled(number int) {
	w.queue("UPDATE steps SET called_at = clock_timestamp() WHERE run_id = $1 AND number = $2", w.Run, number)
}

// StepWaited notes time that counts against no patience, since the step began and
// since its resource was made.
func (w *Write) StepWaited(number int, since, sinceMade time.Duration) {
	w.queue("UPDATE steps SET waited_ms = $3, settle_waited_ms = $4 WHERE run_id = $1 AND number = $2", w.Run, number,
		since.Milliseconds(), sinceMade.Milliseconds())
}

// PutResource records a resource.
func (w *Write) PutResource(r Resource) {
	w.queue(`INSERT INTO resources (`+strings.ReplaceAll(resourceColumns, "::text", "")+`)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)
		ON CONFLICT (stack_id, name) DO UPDATE SET type = $3, declared = $4, region = $5, token = $6, state = $7,
		reason = $8, want = $9,
		attributes = $10, checks = $11, after = $12, position = $13, made_at = $14, healthy_at = $15, parts = $16,
		hour = $17, strayed = '[]'`,
		r.StackID, r.Name, r.Type, r.Declared, r.Region, r.Token, r.State, clean(r.Reason), orEmptyMap(r.Want),
		orEmptyMap(r.Attributes), orEmpty(r.Checks), orEmpty(r.After), r.Position, r.MadeAt, r.HealthyAt,
		orEmpty(r.Parts), r.Hour)
	w.queue("DELETE FROM kept WHERE token = $1 AND found_at IS NOT NULL", r.Token) // a thing stands in one place
	w.carry(r)
}

// ResourceParts records the parts of a resource.
func (w *Write) ResourceParts(stackID, name string, parts []cloud.Part) {
	w.queue("UPDATE resources SET parts = $3 WHERE stack_id = $1 AND name = $2", stackID, name, orEmpty(parts))
}

// ForgetMissing forgets the record of what is missing, so that another thing may have its name.
func (w *Write) ForgetMissing(stackID, name, token string) {
	w.queue("DELETE FROM resources WHERE stack_id = $1 AND name = $2 AND token = $3", stackID, name, token)
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
		parked_for = '',
		ended_at = CASE WHEN $2 IN ('done', 'failed', 'stopped', 'undone') THEN clock_timestamp() END
		WHERE id = $1`, w.Run, state, clean(reason))
}

// Park lets the run wait for a person; nobody owns it meanwhile.
func (w *Write) Park(what, reason string) {
	w.queue("UPDATE runs SET state = 'parked', reason = $2, parked_for = $3, claim_owner = NULL, expected_end = "+
		"NULL WHERE id = $1", w.Run, clean(reason), what)
}

// UnlessGiven lets a run that was parked for inputs go on at once where one of them has
// been given meanwhile.
func (w *Write) UnlessGiven(ctx context.Context, inputs []string, grace time.Duration, enqueue Enqueue) {
	w.Then(func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx,
			"UPDATE runs SET state = 'queued', reason = '', parked_for = '' WHERE id = $1 AND state = 'parked' AND "+
				"given ?| $2", w.Run, inputs)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return requeueAll(ctx, tx, []int64{w.Run}, grace, enqueue)
	})
}

// UnlessAgreed lets a run that was parked for an agreement go on at once where more was
// agreed to meanwhile than it knew of.
func (w *Write) UnlessAgreed(ctx context.Context, known int, grace time.Duration, enqueue Enqueue) {
	w.Then(func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx,
			"UPDATE runs SET state = 'queued', reason = '', parked_for = '' WHERE id = $1 AND state = 'parked' AND "+
				"jsonb_array_length(agreed) > $2", w.Run, known)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		return requeueAll(ctx, tx, []int64{w.Run}, grace, enqueue)
	})
}

// Forecast records when the run is expected to end and which step decides it.
func (w *Write) Forecast(end time.Time, decides string) {
	w.queue("UPDATE runs SET expected_end = $2, decides = $3 WHERE id = $1", w.Run, end, decides)
}

// Undone notes that a run was undone.
func (w *Write) Undone(run int64) {
	w.queue("UPDATE runs SET state = 'undone' WHERE id = $1", run)
}

// Retired notes that nothing of a stack is left in it: what it still records is kept.
func (w *Write) Retired(stackID string) {
	w.queue(`INSERT INTO kept (token, stack_id, stack, account, region, name, type, declared, want, attributes, parts,
		hour, currency)
		SELECT r.token, r.stack_id, k.name, k.account, r.region, r.name, r.type, r.declared, r.want, r.attributes,
		r.parts, r.hour, k.currency
		FROM resources r JOIN stacks k ON k.id = r.stack_id WHERE r.stack_id = $1`, stackID)
	w.queue("DELETE FROM resources WHERE stack_id = $1", stackID)
	w.queue("UPDATE stacks SET retired_at = clock_timestamp() WHERE id = $1", stackID)
}

// Emptied notes that nothing of a stack was ever made, as far as is left.
func (w *Write) Emptied(stackID string) {
	w.queue("UPDATE stacks SET template_name = '', template_version = '', template_source = '', template_parts = "+
		"'[]', inputs = '{}', found = '{}', reads = '{}' WHERE id = $1", stackID)
}

// Took keeps how long a creation took, in place of an older one.
func (w *Write) Took(account, region, resourceType, size string, step int, took time.Duration) {
	w.queue(`INSERT INTO durations (account, region, type, size, slot, ms) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (account, type, region, size, slot) DO UPDATE SET ms = excluded.ms,
		at = now()`, account, region, resourceType, size, (w.Run+int64(step))%64, took.Milliseconds())
}
