package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// InCharge is the setting that says in which database a service was put in charge last.
const InCharge = "in-charge"

// Identity is which database this is: one that was filled from a backup is another one, and so
// is one whose server went on from an earlier moment.
type Identity struct {
	System   string `json:"system"`   // of the server's data
	Timeline int64  `json:"timeline"` // of its history
	Database int64  `json:"database"`
	Tables   int64  `json:"tables"`
}

// Identity reads which database this is.
func (s *Store) Identity(ctx context.Context) (i Identity, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT system_identifier::text, (SELECT timeline_id
		FROM pg_control_checkpoint()), (SELECT oid::bigint FROM pg_database
		WHERE datname = current_database()), 'runs'::regclass::oid::bigint FROM pg_control_system()`).
		Scan(&i.System, &i.Timeline, &i.Database, &i.Tables)
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == notAllowed { // a provider may keep the server's identity to itself
		err = s.Pool.QueryRow(ctx,
			"SELECT (SELECT oid::bigint FROM pg_database WHERE datname = current_database()), "+
				"'runs'::regclass::oid::bigint").Scan(&i.Database, &i.Tables)
	}
	if err != nil {
		return i, fmt.Errorf("read which database this is: %w", err)
	}
	return i, nil
}

// notAllowed is what PostgreSQL says of what a role may not ask.
const notAllowed = "42501"

// PutInCharge remembers that the service goes on with this database.
func (s *Store) PutInCharge(ctx context.Context, i Identity) error {
	raw, err := json.Marshal(i)
	if err != nil {
		return fmt.Errorf("encode which database this is: %w", err)
	}
	return s.PutSetting(ctx, InCharge, raw)
}

// InChargeOf is the database in which a service was put in charge last; ErrNotFound says that
// none ever was.
func (s *Store) InChargeOf(ctx context.Context) (i Identity, err error) {
	raw, err := s.Setting(ctx, InCharge)
	if err == nil {
		err = json.Unmarshal(raw, &i)
	}
	return i, err
}

// Moment is how far the records go: when the last event was written, of all runs.
func (s *Store) Moment(ctx context.Context) (at time.Time, err error) {
	err = s.Pool.QueryRow(ctx,
		"SELECT coalesce((SELECT at FROM events ORDER BY xid DESC, run_id DESC, number DESC LIMIT 1), (SELECT "+
			"max(created_at) FROM stacks), to_timestamp(0))").Scan(&at)
	return at, classify(err)
}

// HasWrites reports whether a run has had as many writes of its owners, as far as the records go.
func (s *Store) HasWrites(ctx context.Context, run, writes int64) (has bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM runs WHERE id = $1 AND writes >= $2)", run,
		writes).Scan(&has)
	return has, classify(err)
}
