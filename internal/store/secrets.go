package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/access"
)

// Secret is a sealed value under a reference: STACK/INPUT@1 of a stack, NAME@1 of one
// that stands for itself.
type Secret struct {
	Reference string
	StackID   string // empty for one that stands for itself
	// Account is where it belongs: that of its stack, or the one that it was given for;
	// empty where it belongs to whoever administers the service.
	Account string
	Kind    string // given, generated, private_key or public_key
	Sealed  []byte
	// SealedWith is the fingerprint of the key; empty for what older programs sealed.
	SealedWith string
	GivenBy    string // who gave it, or had it drawn
	About      string
	Public     string // the public half of a key
	CreatedAt  time.Time
}

const secretQuery = `SELECT x.reference, coalesce(x.stack_id::text, '') AS stack_id, coalesce(k.account,
	x.account) AS account, x.kind, x.sealed, x.sealed_with, x.given_by, x.about, x.public, x.created_at
	FROM secrets x LEFT JOIN stacks k ON k.id = x.stack_id `

// AddSecret keeps a sealed value. A reference is never written twice: false says
// that it stands for something already.
func (s *Store) AddSecret(ctx context.Context, x Secret) (bool, error) {
	tag, err := s.Pool.Exec(ctx, `INSERT INTO secrets (reference, stack_id, kind, sealed, sealed_with, given_by,
		about, public, account) VALUES ($1, NULLIF($2, '')::uuid, $3, $4, $5, $6, $7, $8, $9)
		ON CONFLICT DO NOTHING`, x.Reference, x.StackID, x.Kind, x.Sealed, x.SealedWith, x.GivenBy, x.About, x.Public,
		x.Account)
	return err == nil && tag.RowsAffected() > 0, classify(err)
}

// SecretVersions tells the newest version of each secret of the stacks of a name,
// those of retired ones too: a reference is never given twice.
func (s *Store) SecretVersions(ctx context.Context, stack string) (map[string]int, error) {
	rows, err := s.Pool.Query(ctx,
		"SELECT split_part(reference, '@', 1), max(split_part(reference, '@', 2)::int) FROM secrets WHERE "+
			"starts_with(reference, $1) GROUP BY 1", stack+"/")
	if err != nil {
		return nil, classify(err)
	}
	out := map[string]int{}
	var name string
	var version int
	_, err = pgx.ForEachRow(rows, []any{&name, &version}, func() error { out[name] = version; return nil })
	return out, classify(err)
}

// Secrets lists the sealed values of a stack, and those that it refers to besides.
func (s *Store) Secrets(ctx context.Context, stackID string, besides ...string) ([]Secret, error) {
	return many[Secret](ctx, s.Pool,
		secretQuery+"WHERE x.kind <> 'public_key' AND (x.stack_id = $1 OR x.reference = ANY($2)) ORDER BY x.reference",
		stackID, orEmpty(besides))
}

// Secret finds a value by its reference.
func (s *Store) Secret(ctx context.Context, reference string) (Secret, error) {
	return one[Secret](ctx, s.Pool, secretQuery+"WHERE x.reference = $1", reference)
}

// NamedSecrets lists the versions of what stands for itself, the newest of each name
// first, as far as they are seen under the context. An empty name gives all.
func (s *Store) NamedSecrets(ctx context.Context, name string) ([]Secret, error) {
	return many[Secret](ctx, s.Pool, secretQuery+`WHERE x.stack_id IS NULL AND ($1 = ''
		OR split_part(x.reference, '@', 1) = $1) AND ($2::text[] IS NULL OR x.account = '' OR x.account = ANY($2))
		ORDER BY split_part(x.reference, '@', 1), split_part(x.reference, '@', 2)::int DESC`, name, access.Seen(ctx))
}

// RemoveNamedSecret forgets all versions of a secret that stands for itself.
func (s *Store) RemoveNamedSecret(ctx context.Context, name string) (bool, error) {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM secrets WHERE stack_id IS NULL AND split_part(reference, '@', 1) = $1",
		name)
	return tag.RowsAffected() > 0, classify(err)
}

// SecretUse is a living stack that was last applied with a reference.
type SecretUse struct {
	Reference string
	Stack     string
	Account   string
	Input     string
}

// SecretUses tells which living stacks use references of NAME@VERSION, for the names
// that start with a text.
func (s *Store) SecretUses(ctx context.Context) ([]SecretUse, error) {
	return many[SecretUse](ctx, s.Pool, `SELECT u.value AS reference, k.name AS stack, k.account, u.key AS input
		FROM stacks k, jsonb_each_text(k.secrets) u
		WHERE k.retired_at IS NULL ORDER BY u.value, k.name, u.key`)
}

// SealedOtherwise lists values that are not sealed with a key, some at a time, in the
// order of their references after one.
func (s *Store) SealedOtherwise(ctx context.Context, fingerprint, after string) ([]Secret, error) {
	return many[Secret](ctx, s.Pool,
		secretQuery+"WHERE x.sealed_with <> $1 AND x.kind <> 'public_key' AND x.reference > $2 ORDER BY "+
			"x.reference LIMIT 200", fingerprint, after)
}

// Reseal replaces how a value is sealed, if nobody else did meanwhile.
func (s *Store) Reseal(ctx context.Context, x Secret, sealed []byte, fingerprint string) error {
	return exec(ctx, s, "UPDATE secrets SET sealed = $3, sealed_with = $4 WHERE reference = $1 AND sealed_with = $2",
		x.Reference, x.SealedWith, sealed, fingerprint)
}
