package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/core/use"
)

// Enqueue puts a job for a run into the queue within a transaction and gives the
// job's id.
type Enqueue func(tx pgx.Tx, run, number int64) (int64, error)

// Claim takes a run for an owner under a claim number. False says that the
// number is old or that the run is over: there is nothing to do. The time since
// the last sign of the owner before counts against no step's patience.
func (s *Store) Claim(ctx context.Context, id, number int64, owner string, life time.Duration) (bool, error) {
	claimed := false
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		var absent time.Duration
		err := tx.QueryRow(ctx, `UPDATE runs n SET claim_owner = $3, claim_until = clock_timestamp() + $4,
		seen_at = clock_timestamp()
			FROM runs o WHERE n.id = $1 AND o.id = n.id AND n.claim_number = $2 AND (n.claim_owner IS NULL
			OR n.claim_owner = $3) AND n.state IN `+carried+`
			RETURNING clock_timestamp() - o.seen_at`, id, number, owner, life).Scan(&absent)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		claimed = true
		_, err = tx.Exec(ctx, `UPDATE steps SET waited_ms = waited_ms + $2, settle_waited_ms = settle_waited_ms + CASE
		state WHEN 'settling' THEN $2 ELSE 0 END
			WHERE run_id = $1 AND state IN ('working', 'settling')`, id, max(0, absent.Milliseconds()))
		return err
	})
	if err != nil {
		return false, fmt.Errorf("claim run %d: %w", id, err)
	}
	return claimed, nil
}

// Held is a run that an owner still holds.
type Held struct {
	Number int64
	Stop   bool     // it is asked to stop
	Given  []string // inputs that were given a value since it began
}

// Spent is how much of its patience a step has spent, and how long it has settled.
type Spent struct {
	Run               int64
	Step              int
	SpentMS, SettleMS int64
}

// RenewClaims keeps the claims of the runs that an owner really carries out, by
// their numbers, in one statement, with what their steps have spent of their patience. Runs that are not
// among the answers are held by somebody else. Now is the database's clock.
func (s *Store) RenewClaims(ctx context.Context, owner string, life time.Duration, carriedOut map[int64]int64,
	spent []Spent) (held map[int64]Held, now time.Time, err error) {
	ids, numbers := make([]int64, 0, len(carriedOut)), make([]int64, 0, len(carriedOut))
	for id, number := range carriedOut {
		ids, numbers = append(ids, id), append(numbers, number)
	}
	var runs, steps, ms, settling []int64
	for _, x := range spent {
		runs, steps, ms, settling = append(runs, x.Run), append(steps, int64(x.Step)), append(ms, x.SpentMS),
			append(settling, x.SettleMS)
	}
	rows, err := s.Pool.Query(ctx, `WITH mine AS (SELECT unnest($3::bigint[]) AS id, unnest($4::bigint[]) AS number),
		kept AS (UPDATE runs r SET claim_until = clock_timestamp() + $2, seen_at = clock_timestamp() FROM mine
			WHERE r.id = mine.id AND r.claim_number = mine.number AND r.claim_owner = $1 AND r.state IN `+carried+`
			RETURNING r.id, r.claim_number, r.stop_asked, ARRAY(SELECT jsonb_object_keys(r.given)) AS given),
		spent AS (SELECT unnest($5::bigint[]) AS run, unnest($6::bigint[]) AS step, unnest($7::bigint[]) AS ms,
		unnest($8::bigint[]) AS settling),
		noted AS (UPDATE steps t SET spent_ms = spent.ms, settle_spent_ms = spent.settling FROM spent JOIN kept
		ON kept.id = spent.run WHERE t.run_id = spent.run AND t.number = spent.step
		AND t.state IN ('working', 'settling'))
		SELECT clock_timestamp(), kept.id, kept.claim_number, kept.stop_asked, kept.given FROM (SELECT 1) AS one
		LEFT JOIN kept ON true`, owner, life, ids, numbers, runs, steps, ms, settling)
	if err != nil {
		return nil, now, classify(err)
	}
	held = map[int64]Held{}
	var id, number *int64
	var stop *bool
	var given []string
	_, err = pgx.ForEachRow(rows, []any{&now, &id, &number, &stop, &given}, func() error {
		if id != nil {
			held[*id] = Held{*number, *stop, slices.Clone(given)}
		}
		return nil
	})
	return held, now, classify(err)
}

// SweepClaims gives runs whose claim has run out to whoever takes them next: the
// number is raised, which fences the old owner, and a new job is enqueued. A run
// that still waits in the queue is left there, however long it waits; one whose
// job was taken and whose claim never came has lost its owner too. An owner that was
// seen later than now, and a job that is to wait longer than any does, are of before the clock
// was put back.
func (s *Store) SweepClaims(ctx context.Context, grace time.Duration, enqueue Enqueue) (int, error) {
	swept := 0
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, `SELECT r.id FROM runs r LEFT JOIN river_job j ON j.id = r.job
			WHERE r.state IN `+carried+` AND (r.claim_until < clock_timestamp()
			OR r.seen_at > clock_timestamp() + interval '1 second')
			AND (r.claim_owner IS NOT NULL OR j.id IS NULL OR j.state IN ('cancelled', 'completed', 'discarded')
			OR j.state = 'running' AND (j.attempted_at < now() - $1::interval OR j.attempted_at > now() + $1::interval)
				OR j.scheduled_at > now() + 3 * $1::interval)
			ORDER BY r.claim_until LIMIT 200 FOR UPDATE OF r SKIP LOCKED`, grace)
		if err != nil {
			return fmt.Errorf("looking for runs that nobody carries: %w", err)
		}
		ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
		if err != nil {
			return fmt.Errorf("looking for runs that nobody carries: %w", err)
		}
		swept = len(ids)
		return requeueAll(ctx, tx, ids, grace, enqueue)
	})
	if err != nil {
		return 0, fmt.Errorf("sweep claims: %w", err)
	}
	return swept, nil
}

// requeue gives a run a new number and a new job. The job before is over, whatever
// became of its process: the queue's own call only asks a running job to end, and one whose
// process died would stay as it is.
func requeue(ctx context.Context, tx pgx.Tx, id int64, grace time.Duration, enqueue Enqueue) error {
	var number, before int64
	err := tx.QueryRow(ctx, `UPDATE runs SET claim_owner = NULL, claim_number = claim_number + 1,
		claim_until = clock_timestamp() + $2
		WHERE id = $1 RETURNING claim_number, job`, id, grace).Scan(&number, &before)
	if err != nil {
		return fmt.Errorf("queueing run %d anew: %w", id, err)
	}
	if _, err := tx.Exec(ctx,
		"UPDATE river_job SET state = 'cancelled', finalized_at = now() WHERE id = $1 AND state NOT IN "+
			"('cancelled', 'completed', 'discarded')", before); err != nil {
		return fmt.Errorf("queueing run %d anew: %w", id, err)
	}
	job, err := enqueue(tx, id, number)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "UPDATE runs SET job = $2 WHERE id = $1", id, job)
	return err
}

func requeueAll(ctx context.Context, tx pgx.Tx, ids []int64, grace time.Duration, enqueue Enqueue) error {
	for _, id := range ids {
		if err := requeue(ctx, tx, id, grace, enqueue); err != nil {
			return err
		}
	}
	return nil
}

// ReleaseClaim gives a run up for whoever takes it next, at once. Later is how
// long nobody should; the run stays in the hands of the sweep meanwhile. Nothing
// happens when the number is no longer the run's.
func (s *Store) ReleaseClaim(ctx context.Context, id, number int64, later, grace time.Duration, enqueue Enqueue) error {
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx,
			"UPDATE runs SET claim_owner = NULL, claim_until = clock_timestamp() + $3, job = CASE WHEN $3 > "+
				"interval '0' THEN 0 ELSE job END WHERE id = $1 AND claim_number = $2 AND state IN "+carried, id,
			number, later)
		if err != nil || tag.RowsAffected() == 0 || later > 0 {
			return err
		}
		return requeue(ctx, tx, id, grace, enqueue)
	})
	if err != nil {
		return fmt.Errorf("release run %d: %w", id, err)
	}
	return nil
}

// Unpark lets parked runs of an account go on that wait for something, and tells
// how many did.
func (s *Store) Unpark(ctx context.Context, account, what string, grace time.Duration, enqueue Enqueue) (int, error) {
	n := 0
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx,
			"UPDATE runs SET state = 'queued', reason = '', parked_for = '' WHERE account = $1 AND state = 'parked' "+
				"AND parked_for = $2 RETURNING id", account, what)
		if err != nil {
			return fmt.Errorf("letting the parked runs go on of account %s: %w", account, err)
		}
		ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
		if err != nil {
			return fmt.Errorf("letting the parked runs go on of account %s: %w", account, err)
		}
		n = len(ids)
		return requeueAll(ctx, tx, ids, grace, enqueue)
	})
	if err != nil {
		return 0, fmt.Errorf("go on with parked runs of %s: %w", account, err)
	}
	return n, nil
}

// UnsealedRuns lists runs that were given values before these were sealed.
func (s *Store) UnsealedRuns(ctx context.Context) ([]Run, error) {
	return many[Run](ctx, s.Pool, runQuery+"WHERE r.given <> '{}' AND r.given_seal IS NULL")
}

// SealRun puts the seal of what a run was given to one that has none.
func (s *Store) SealRun(ctx context.Context, id int64, seal []byte) error {
	return exec(ctx, s, "UPDATE runs SET given_seal = $2 WHERE id = $1 AND given_seal IS NULL", id, seal)
}

// Gift is what a run is given in the middle of it: values, and agreements to uses of
// secrets. Before is the run as it was looked at, and Seal is of all that it has afterwards.
type Gift struct {
	Values map[string]any
	Agreed []use.Use
	Before Run
	Seal   []byte
	Text   string
	Who    Who
	// Proposal is the one that it came by; 0 is none.
	Proposal int64
}

// Give records values that a run waits for, as inputs of its stack too, and lets it go on
// where it is parked for them. A conflict says that it is over, waits for something else, or
// has one of them.
func (s *Store) Give(ctx context.Context, id int64, stackID string, g Gift, grace time.Duration,
	enqueue Enqueue) error {
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		if err := lockStacks(ctx, tx, stackID, nil); err != nil {
			return err
		}
		if err := inAccount(ctx, tx, stackID, 0); err != nil {
			return err
		}
		if err := asks(ctx, tx, g.Who); err != nil {
			return err
		}
		var last int64
		var was string
		err := tx.QueryRow(ctx, `WITH was AS (SELECT id, state FROM runs WHERE id = $1 AND (state = 'parked'
		AND parked_for IN ('input', 'agreement') OR state IN ('queued', 'underway')) AND NOT given ?| $3
		AND given = $4 AND agreed = $5 FOR UPDATE)
			UPDATE runs r SET state = CASE WHEN r.state = 'parked' THEN 'queued' ELSE r.state END, reason = CASE
			WHEN r.state = 'parked' THEN '' ELSE r.reason END,
			parked_for = '', given = given || $2, agreed = agreed || $6, given_seal = $7, last_event = last_event + 1
			FROM was WHERE r.id = was.id RETURNING r.last_event, was.state`,
			id, orEmptyMap(g.Values), orEmpty(slices.Sorted(maps.Keys(g.Values))), orEmptyMap(g.Before.Given),
			orEmpty(g.Before.Agreed), orEmpty(g.Agreed), g.Seal).Scan(&last, &was)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrConflict
		}
		if err != nil {
			return err
		}
		if g.Proposal == 0 { // given by one alone, which the account may not want any more
			var second bool
			err := tx.QueryRow(ctx, "SELECT a.second_person FROM accounts a JOIN stacks k ON k.account = a.name "+
				"WHERE k.id = $1 FOR SHARE OF a", stackID).Scan(&second)
			if err != nil {
				return fmt.Errorf("giving values to run %d: %w", id, err)
			}
			if second {
				return ErrConflict
			}
		} else {
			tag, err := tx.Exec(ctx,
				"UPDATE proposals SET state = 'applied' WHERE id = $1 AND state = 'accepted' AND expires_at > now()",
				g.Proposal)
			if err == nil && tag.RowsAffected() == 0 {
				err = ErrConflict
			}
			if err != nil {
				return err
			}
		}
		becomes := "" // what it was, when it is carried out already
		if was == "parked" {
			becomes = "queued"
		}
		_, err = tx.Exec(ctx, "UPDATE stacks SET inputs = inputs || $2 WHERE id = $1", stackID, orEmptyMap(g.Values))
		if err != nil {
			return fmt.Errorf("giving values to run %d: %w", id, err)
		}
		_, err = tx.Exec(ctx, "INSERT INTO events (run_id, number, kind, state, text) VALUES ($1, $2, 'run', $4, $3)",
			id, last, clean(g.Text), becomes)
		if err != nil {
			return fmt.Errorf("giving values to run %d: %w", id, err)
		}
		if becomes == "" { // whoever carries it out takes them up
			return nil
		}
		return requeueAll(ctx, tx, []int64{id}, grace, enqueue)
	})
	if err != nil {
		return fmt.Errorf("give values to run %d: %w", id, err)
	}
	return nil
}

// Reopen lets an ended run go on with some of its steps; those to try again wait
// anew. It holds again what it held. [ErrMoved] says that the run is not over, not the newest
// of its stack, or was tried again meanwhile, or that what it reads or removes is not as it was.
func (s *Store) Reopen(ctx context.Context, r Run, steps []int, who Who, grace time.Duration, enqueue Enqueue) error {
	id := r.ID
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		m, err := momentOf(ctx, tx, r, who)
		if err == nil {
			err = moment(ctx, tx, r.StackID, m, nil)
		}
		if err != nil {
			return err
		}
		var last int64
		err = tx.QueryRow(ctx, `UPDATE runs r SET state = 'queued', reason = '', ended_at = NULL, stop_asked = false,
		attempt = attempt + 1, tried_by = $2, last_event = last_event + 1
			WHERE id = $1 AND state IN ('failed', 'stopped') RETURNING last_event`, id, who.Name).Scan(&last)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrMoved
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO tried_steps (run_id, attempt, number, state, reason, intent_at, made_at,
		ended_at)
			SELECT t.run_id, r.attempt - 1, t.number, t.state, t.reason, t.intent_at, t.made_at, t.ended_at
			FROM steps t JOIN runs r ON r.id = t.run_id JOIN attempts a ON a.run_id = r.id AND a.number = r.attempt - 1
			WHERE t.run_id = $1 AND t.number = ANY($2) AND t.intent_at IS NOT NULL`, id, steps)
		if err != nil {
			return fmt.Errorf("opening run again: %w", err)
		}
		_, err = tx.Exec(ctx, `UPDATE steps SET state = 'waiting', reason = '', intent_at = NULL, called_at = NULL,
		made_at = NULL, ended_at = NULL, waited_ms = 0, settle_waited_ms = 0, spent_ms = 0, settle_spent_ms = 0
			WHERE run_id = $1 AND number = ANY($2)`, id, steps)
		if err != nil {
			return fmt.Errorf("opening run again: %w", err)
		}
		_, err = tx.Exec(ctx, "INSERT INTO events (run_id, number, kind, state, text) VALUES ($1, $2, 'run', "+
			"'queued', $3)", id, last, clean(fmt.Sprintf("%s lets the run try again", who.Name)))
		if err != nil {
			return fmt.Errorf("opening run again: %w", err)
		}
		return requeue(ctx, tx, id, grace, enqueue)
	})
	if err != nil {
		return fmt.Errorf("reopen run %d: %w", id, err)
	}
	s.wake(id)
	return nil
}

// ParkFailed lets a run that failed wait for a person.
func (s *Store) ParkFailed(ctx context.Context, id int64, what, reason string) error {
	return s.told(ctx, id, Who{}, "parked", reason,
		"UPDATE runs SET state = 'parked', parked_for = $2, reason = $3, ended_at = NULL, last_event = last_event + "+
			"1 WHERE id = $1 AND state = 'failed' RETURNING last_event", id, what, clean(reason))
}

// EndParked ends a run that waits for a person; false says that it does not.
func (s *Store) EndParked(ctx context.Context, id int64, who Who) (bool, error) {
	err := s.told(ctx, id, who, "stopped", "stopped on request while it was parked", `UPDATE runs
		SET state = 'stopped', reason = 'stopped on request while it was parked', parked_for = '',
		ended_at = clock_timestamp(), last_event = last_event + 1
		WHERE id = $1 AND state = 'parked' RETURNING last_event`, id)
	if errors.Is(err, ErrConflict) {
		return false, nil
	}
	return err == nil, err
}

// told changes the state of a run that nobody carries out, with its event, for somebody or, where
// nobody is named, by itself.
func (s *Store) told(ctx context.Context, id int64, who Who, state, text, query string, args ...any) error {
	err := s.asked(ctx, who, func(tx pgx.Tx) error {
		var last int64
		if err := tx.QueryRow(ctx, query, args...).Scan(&last); errors.Is(err, pgx.ErrNoRows) {
			return ErrConflict
		} else if err != nil {
			return err
		}
		_, err := tx.Exec(ctx, "INSERT INTO events (run_id, number, kind, state, text) VALUES ($1, $2, 'run', $3, $4)",
			id, last, state, clean(text))
		return err
	})
	if err == nil {
		s.wake(id)
	}
	return err
}
