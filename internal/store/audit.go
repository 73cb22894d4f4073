package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// AuditEntry is one thing that somebody did. Hash is over the entry and the hash of the
// one before it.
type AuditEntry struct {
	Number  int64
	At      time.Time
	Who     string
	Action  string
	Subject string
	Reason  string
	Detail  json.RawMessage
	Hash    []byte
}

const auditColumns = "number, at, who, action, subject, reason, detail, hash"

// auditLock makes those who write entries take turns.
const auditLock = 7_221_035

// AddAudit appends an entry: number and time are given to it here, and hash computes its
// hash from it and the hash of the one before.
func (s *Store) AddAudit(ctx context.Context, e AuditEntry, hash func(e AuditEntry, before []byte) []byte) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", auditLock); err != nil {
			return fmt.Errorf("adding to the journal: %w", err)
		}
		var before []byte
		err := tx.QueryRow(ctx, "SELECT number, hash FROM audit ORDER BY number DESC LIMIT 1").Scan(&e.Number, &before)
		if err != nil && err != pgx.ErrNoRows {
			return err
		}
		e.Number++
		if err := tx.QueryRow(ctx, "SELECT date_trunc('milliseconds', clock_timestamp())").Scan(&e.At); err != nil {
			return fmt.Errorf("adding to the journal: %w", err)
		}
		_, err = tx.Exec(ctx, "INSERT INTO audit ("+auditColumns+") VALUES ($1, $2, $3, $4, $5, $6, $7, $8)", e.Number,
			e.At, e.Who, e.Action, e.Subject, e.Reason, e.Detail, hash(e, before))
		return err
	})
}

// AuditQuery narrows entries down; empty fields allow all.
type AuditQuery struct {
	Who, Action, Subject string
	Token                int64 // what was done with this bearer token alone; 0 for all
	Before               int64 // entries with smaller numbers; 0 for the newest
	Limit                int
}

// Audit lists entries, the newest first.
func (s *Store) Audit(ctx context.Context, q AuditQuery) ([]AuditEntry, error) {
	return many[AuditEntry](ctx, s.Pool, "SELECT "+auditColumns+` FROM audit WHERE ($1 = '' OR who = $1) AND ($2 = ''
		OR action = $2) AND ($3 = '' OR subject = $3 OR starts_with(subject, $3 || '/'))
		AND ($4 = 0 OR number < $4) AND ($6 = 0 OR detail->'token' = to_jsonb($6::bigint))
		ORDER BY number DESC LIMIT $5`, q.Who, q.Action, q.Subject, q.Before, q.Limit, q.Token)
}

// AuditFrom lists entries in their order, some at a time.
func (s *Store) AuditFrom(ctx context.Context, after int64) ([]AuditEntry, error) {
	return many[AuditEntry](ctx, s.Pool,
		"SELECT "+auditColumns+" FROM audit WHERE number > $1 ORDER BY number LIMIT 1000", after)
}
