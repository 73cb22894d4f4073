package store

import (
	"context"
	"time"
)

// Token is a bearer token or a session.
type Token struct {
	ID        int64
	Owner     string
	Kind      string // bearer or session
	About     string
	Roles     []string // nil are all of its owner's
	CreatedAt time.Time
	ExpiresAt time.Time
	Idle      *time.Duration // how long it may go unused
	UsedAt    time.Time
	UsedFrom  string
}

const tokenQuery = "SELECT t.id, u.name AS owner, t.kind, t.about, t.roles, t.created_at, t.expires_at, t.idle, " +
	"t.used_at, t.used_from FROM tokens t JOIN users u ON u.id = t.user_id "

// alive is a token that is not over; t is the token.
const alive = "t.expires_at > now() AND (t.idle IS NULL OR t.used_at + t.idle > now())"

// AddToken keeps the hash of a token.
func (s *Store) AddToken(ctx context.Context, hash string, userID int64, t Token, life time.Duration) (Token, error) {
	return one[Token](ctx, s.Pool, `WITH t AS (INSERT INTO tokens (hash, user_id, kind, about, roles, idle, used_from,
		expires_at) VALUES ($1, $2, $3, $4, $5, $6, $7, now() + $8) RETURNING *)
		SELECT t.id, u.name AS owner, t.kind, t.about, t.roles, t.created_at, t.expires_at, t.idle, t.used_at,
		t.used_from FROM t JOIN users u ON u.id = t.user_id`,
		hash, userID, t.Kind, t.About, t.Roles, t.Idle, t.UsedFrom, life)
}

// Tokens lists what is not over of a user's, or of everybody's if name is empty, the newest
// first.
func (s *Store) Tokens(ctx context.Context, name string) ([]Token, error) {
	return many[Token](ctx, s.Pool,
		tokenQuery+"WHERE ($1 = '' OR u.name = $1) AND "+alive+" ORDER BY t.id DESC LIMIT 1000", name)
}

// TokenByID finds a token.
func (s *Store) TokenByID(ctx context.Context, id int64) (Token, error) {
	return one[Token](ctx, s.Pool, tokenQuery+"WHERE t.id = $1", id)
}

// Holder is whom a token belongs to.
type Holder struct {
	User
	TokenID int64
	Kind    string
	Limit   []string // the only roles of the token; nil are all of its owner's
	Unasked bool
}

// HolderOf finds who a token belongs to, unless one of them is over. Touch notes that it is
// used, at most once in a minute, or in a quarter of what it may go unused.
// Again is how long somebody may go on whom a provider of OpenID Connect signed in, until it
// is asked about them anew; Unasked says that this is over.
func (s *Store) HolderOf(ctx context.Context, hash, from string, again time.Duration, touch bool) (Holder, error) {
	type row struct {
		Holder
		Stale bool
	}
	// A person's sign-in by a provider says who they are and what they may at that moment.
	h, err := one[row](ctx, s.Pool, "SELECT "+userColumns+`, t.id AS token_id, t.kind, t.roles AS "limit",
		u.issuer <> '' AND (u.signed_in_at IS NULL OR u.signed_in_at < now() - $3::interval) AS unasked,
		t.used_at < now() - least(interval '1 minute', t.idle / 4) OR t.used_from <> $2 AND $2 <> '' AS stale
		FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.hash = $1 AND u.disabled_at IS NULL
		AND `+alive, hash, from, again)
	if err == nil && touch && h.Stale {
		err = exec(ctx, s, "UPDATE tokens SET used_at = now(), used_from = coalesce(nullif($2, ''), used_from) "+
			"WHERE hash = $1", hash, from)
	}
	return h.Holder, err
}

// RemoveToken ends a token.
func (s *Store) RemoveToken(ctx context.Context, hash string) error {
	err := exec(ctx, s, "DELETE FROM tokens WHERE hash = $1", hash)
	s.revoked(ctx)
	return err
}

// RemoveTokenByID ends a token; ErrNotFound says that there is none.
func (s *Store) RemoveTokenByID(ctx context.Context, id int64) error {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM tokens WHERE id = $1", id)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	s.revoked(ctx)
	return classify(err)
}

// RemoveTokens ends what somebody has of some kinds, and tells how many ended.
func (s *Store) RemoveTokens(ctx context.Context, userID int64, kinds ...string) (int64, error) {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM tokens WHERE user_id = $1 AND kind = ANY($2)", userID, kinds)
	s.revoked(ctx)
	return tag.RowsAffected(), classify(err)
}

// Revocation is what listeners are told in the place of a run when tokens ended.
const Revocation = "revoked"

// revoked lets every replica look again at whom it holds streams open for.
func (s *Store) revoked(ctx context.Context) {
	// streams look by themselves, too
	_, _ = s.Pool.Exec(context.WithoutCancel(ctx), "SELECT pg_notify('undersail_events', $1)", Revocation)
}
