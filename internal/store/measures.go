package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// CountRuns counts the runs that are not over, by their states.
func (s *Store) CountRuns(ctx context.Context) (map[string]int, error) {
	rows, err := s.Pool.Query(ctx, "SELECT state, count(*) FROM runs WHERE ended_at IS NULL GROUP BY state")
	if err != nil {
		return nil, classify(err)
	}
	out := map[string]int{}
	var state string
	var n int
	_, err = pgx.ForEachRow(rows, []any{&state, &n}, func() error { out[state] = n; return nil })
	return out, classify(err)
}

// Pooled tells how many connections are in use and how many are not, and for how long somebody
// waited for one, all together.
func (s *Store) Pooled() (busy, idle int, waited time.Duration) {
	of := s.Pool.Stat()
	return int(of.AcquiredConns()), int(of.IdleConns()), of.EmptyAcquireWaitTime()
}
