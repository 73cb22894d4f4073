package store

import (
	"context"
	"encoding/json"
	"time"
)

// Connection is a way to a machine that somebody began to use.
type Connection struct {
	ID       string
	StackID  string
	UserName string
	Hops     json.RawMessage
	EndsAt   time.Time
}

// AddConnection keeps a connection for a while.
func (s *Store) AddConnection(ctx context.Context, c Connection, life time.Duration) (ends time.Time, err error) {
	err = s.Pool.QueryRow(ctx,
		"INSERT INTO connections (id, stack_id, user_name, hops, ends_at) VALUES ($1, $2, $3, $4, now() + "+
			"$5::interval) RETURNING ends_at", c.ID, c.StackID, c.UserName, c.Hops, life).Scan(&ends)
	return ends, classify(err)
}

// Connection finds a connection that is not over.
func (s *Store) Connection(ctx context.Context, id string) (Connection, error) {
	return one[Connection](ctx, s.Pool,
		"SELECT id::text, stack_id::text, user_name, hops, ends_at FROM connections WHERE id::text = $1 AND "+
			"ends_at > now()", id)
}
