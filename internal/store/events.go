package store

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/access"
)

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

// Events lists the events of a run after a number.
func (s *Store) Events(ctx context.Context, runID, after int64, most int) ([]Event, error) {
	return many[Event](ctx, s.Pool,
		"SELECT run_id, number, at, kind, resource, state, text FROM events WHERE run_id = $1 AND number > $2 ORDER "+
			"BY number LIMIT $3", runID, after, most)
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
	rows, err := s.Pool.Query(ctx, `SELECT run_id, number, at, kind, resource, state, text, xid::text::bigint
		FROM events
		WHERE xid < pg_snapshot_xmin(pg_current_snapshot()) AND (xid, run_id, number) > ($1::text::xid8, $2, $3)
		AND ($5::text[] IS NULL OR run_id IN (SELECT id FROM runs WHERE account = ANY($5)))
		ORDER BY xid, run_id, number LIMIT $4`, fmt.Sprint(after.XID), after.Run, after.Number, most, access.Seen(ctx))
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
			return fmt.Errorf("listening: %w", err)
		}
		wake(n.Payload)
	}
}

// notifier gathers which runs have new events and tells replicas of them. It is
// always after the commit, and it may fail: readers catch up from the table.
type notifier struct {
	mu   sync.Mutex
	runs map[int64]bool
}

// gatherFor is how long notifications wait for others.
const gatherFor = 20 * time.Millisecond

// wake lets the readers of a run's events know, soon.
func (s *Store) wake(run int64) {
	n := &s.notify
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.runs == nil {
		n.runs = map[int64]bool{}
		time.AfterFunc(gatherFor, s.flushWakes)
	}
	n.runs[run] = true
}

func (s *Store) flushWakes() {
	s.notify.mu.Lock()
	runs := s.notify.runs
	s.notify.runs = nil
	s.notify.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	batch := &pgx.Batch{}
	for run := range runs {
		batch.Queue("SELECT pg_notify('undersail_events', $1)", fmt.Sprint(run))
	}
	s.Pool.SendBatch(ctx, batch).Close() // lost when the database is away
}
