package store

import (
	"context"
	"fmt"
	"time"
)

// Retention is how long things are kept after they are over. Zero keeps for ever.
type Retention struct {
	Evidence, Events, Proposals, Tokens, Secrets time.Duration
}

// Forget removes what is older than its retention, a piece at a time, and tells
// how many rows went. The newest evidence of every check stays, and so does what
// a living stack was last applied with. Secrets go with the stack that was
// retired.
func (s *Store) Forget(ctx context.Context, r Retention) (int64, error) {
	var gone int64
	for _, what := range []struct {
		name  string
		after time.Duration
		query string
	}{
		{"evidence", r.Evidence, `DELETE FROM evidence WHERE id IN (SELECT e.id FROM evidence e
		WHERE e.at < now() - $1::interval
			AND (EXISTS (SELECT FROM evidence n WHERE n.stack_id = e.stack_id AND n.resource = e.resource
			AND n.check_name = e.check_name AND n.id > e.id)
				OR EXISTS (SELECT FROM stacks k WHERE k.id = e.stack_id AND k.retired_at IS NOT NULL)) LIMIT $2)`},
		{"events", r.Events, `DELETE FROM events WHERE (run_id, number) IN (SELECT v.run_id, v.number FROM events v
		JOIN runs u ON u.id = v.run_id
			WHERE v.at < now() - $1::interval AND u.ended_at < now() - $1::interval LIMIT $2)`},
		{"tokens", r.Tokens, "DELETE FROM tokens WHERE hash IN (SELECT hash FROM tokens WHERE expires_at < now() - " +
			"$1::interval LIMIT $2)"},
		{"sessions that were not used", r.Tokens,
			"DELETE FROM tokens WHERE hash IN (SELECT hash FROM tokens WHERE used_at + idle < now() - " +
				"$1::interval LIMIT $2)"},
		{"invitations", 7 * 24 * time.Hour,
			"DELETE FROM invitations WHERE hash IN (SELECT hash FROM invitations WHERE expires_at < now() - " +
				"$1::interval LIMIT $2)"},
		{"sign-ins under way", time.Hour,
			"DELETE FROM signing_in WHERE hash IN (SELECT hash FROM signing_in WHERE expires_at < now() - " +
				"$1::interval LIMIT $2)"},
		{"tries to sign in", 24 * time.Hour,
			"DELETE FROM tries WHERE (kind, key) IN (SELECT kind, key FROM tries WHERE tried_at < now() - " +
				"$1::interval LIMIT $2)"},
		{"addresses of people", 180 * 24 * time.Hour,
			"DELETE FROM known_addresses WHERE (user_id, address) IN (SELECT user_id, address FROM known_addresses " +
				"WHERE at < now() - $1::interval LIMIT $2)"},
		{"proposals", r.Proposals, `DELETE FROM proposals WHERE id IN (SELECT p.id FROM proposals p
		WHERE p.created_at < now() - $1::interval AND p.expires_at < now()
			AND NOT EXISTS (SELECT FROM runs u WHERE u.proposal_id = p.id) LIMIT $2)`},
		{"secrets", r.Secrets, `DELETE FROM secrets WHERE reference IN (SELECT x.reference FROM secrets x
		JOIN stacks k ON k.id = x.stack_id WHERE k.retired_at < now() - $1::interval
			AND NOT EXISTS (SELECT FROM kept h WHERE h.attributes ->> 'private_key' = x.reference)
			AND NOT EXISTS (SELECT FROM stacks o, jsonb_each_text(o.secrets) u WHERE o.retired_at IS NULL
			AND u.value = x.reference) LIMIT $2)`},
		{"idempotency keys", 24 * time.Hour,
			"DELETE FROM idempotency WHERE (user_name, key) IN (SELECT user_name, key FROM idempotency WHERE " +
				"created_at < now() - $1::interval LIMIT $2)"},
		{"connections", 24 * time.Hour,
			"DELETE FROM connections WHERE id IN (SELECT id FROM connections WHERE ends_at < now() - " +
				"$1::interval LIMIT $2)"},
		{"drafts", 30 * 24 * time.Hour,
			"DELETE FROM drafts WHERE id IN (SELECT id FROM drafts WHERE changed_at < now() - $1::interval LIMIT $2)"},
		{"shares", time.Hour, "DELETE FROM shares WHERE (account, owner) IN (SELECT account, owner FROM shares " +
			"WHERE seen < now() - $1::interval LIMIT $2)"},
	} {
		if what.after == 0 {
			continue
		}
		const piece = 5000
		for n := int64(piece); n == piece; {
			tag, err := s.Pool.Exec(ctx, what.query, what.after, piece)
			if err != nil {
				return gone, fmt.Errorf("forget old %s: %w", what.name, classify(err))
			}
			n = tag.RowsAffected()
			gone += n
		}
	}
	return gone, nil
}
