package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Try is one attempt to sign in, under up to three counts.
type Try struct{ Kind, Key string }

// Counting says how tries are slowed down: the first Free of them are not, each one after
// waits twice as long as the one before, First to begin with and Most in the end. Counts
// that nobody added to for Forget begin anew.
type Counting struct {
	Free                int
	First, Most, Forget time.Duration
}

// CountTries counts attempts before they are looked at, and tells how long to wait when one
// of the counts does not allow another yet; then none was counted. Counts are taken in one
// order, so that two who try at once do not wait for each other.
func (s *Store) CountTries(ctx context.Context, tries []Try, by map[string]Counting) (wait time.Duration, err error) {
	tries = inOrder(tries)
	refused := errors.New("wait")
	err = s.Tx(ctx, func(tx pgx.Tx) error {
		for _, t := range tries {
			c := by[t.Kind]
			var left float64
			err := tx.QueryRow(ctx, `INSERT INTO tries AS t (kind, key) VALUES ($1, $2)
			ON CONFLICT (kind, key) DO UPDATE SET tried_at = CASE WHEN t.tried_at < clock_timestamp() - $3::interval
			THEN clock_timestamp() ELSE t.tried_at END,
				count = CASE WHEN t.tried_at < clock_timestamp() - $3::interval THEN 0 ELSE t.count END
				RETURNING extract(epoch FROM next_at - clock_timestamp())::float8`, t.Kind, t.Key, c.Forget).Scan(&left)
			if err != nil {
				return fmt.Errorf("counting the tries: %w", err)
			}
			// A wait that is longer than any is of before the clock was put back.
			if left > 0 && left <= c.Most.Seconds() {
				wait = max(wait, time.Duration(left*float64(time.Second)))
				return refused
			}
			_, err = tx.Exec(ctx, `UPDATE tries SET count = count + 1, tried_at = clock_timestamp(),
				next_at = clock_timestamp() + CASE WHEN count + 1 < $3 THEN interval '0'
				ELSE least($5::interval, $4::interval * power(2, least(count + 1 - $3, 30))) END
				WHERE kind = $1 AND key = $2`, t.Kind, t.Key, c.Free, c.First, c.Most)
			if err != nil {
				return fmt.Errorf("counting the tries: %w", err)
			}
		}
		return nil
	})
	if wait > 0 {
		return wait, nil
	}
	return 0, err
}

func inOrder(tries []Try) []Try {
	return slices.SortedFunc(slices.Values(tries), func(a, b Try) int {
		return cmp.Or(strings.Compare(a.Kind, b.Kind), strings.Compare(a.Key, b.Key))
	})
}

// TriesRight takes attempts that were right back, in the order in which they are counted.
func (s *Store) TriesRight(ctx context.Context, tries []Try) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		for _, t := range inOrder(tries) {
			// Whoever knows one password must not wash the tries at others away: of the
			// address only this one try is taken back.
			query := "DELETE FROM tries WHERE kind = $1 AND key = $2"
			if t.Kind == "address" {
				query = "UPDATE tries SET count = greatest(count - 1, 0), next_at = clock_timestamp() WHERE kind = " +
					"$1 AND key = $2"
			}
			if _, err := tx.Exec(ctx, query, t.Kind, t.Key); err != nil {
				return fmt.Errorf("forgetting the tries of who was right: %w", err)
			}
		}
		return nil
	})
}

// KnownFrom reports whether a user has signed in from an address before.
func (s *Store) KnownFrom(ctx context.Context, name, address string) (known bool, err error) {
	err = s.Pool.QueryRow(ctx,
		"SELECT EXISTS (SELECT FROM known_addresses k JOIN users u ON u.id = k.user_id WHERE u.name = $1 AND "+
			"k.address = $2)", name, address).Scan(&known)
	return known, classify(err)
}

// AddSigningIn keeps a sign-in that is under way elsewhere, sealed.
func (s *Store) AddSigningIn(ctx context.Context, hash, kind string, sealed []byte, life time.Duration) error {
	return exec(ctx, s, "INSERT INTO signing_in (hash, kind, sealed, expires_at) VALUES ($1, $2, $3, now() + $4)", hash,
		kind, sealed, life)
}

// TakeSigningIn gives a sign-in from a browser and forgets it: it comes back once.
func (s *Store) TakeSigningIn(ctx context.Context, hash string) (sealed []byte, err error) {
	err = s.Pool.QueryRow(ctx,
		"DELETE FROM signing_in WHERE hash = $1 AND kind = 'browser' AND expires_at > now() RETURNING sealed",
		hash).Scan(&sealed)
	return sealed, classify(err)
}

// AskSigningIn gives a sign-in from a terminal, at most once in an interval; ErrConflict
// says that it was asked for too soon.
func (s *Store) AskSigningIn(ctx context.Context, hash string, interval time.Duration) (sealed []byte, err error) {
	err = s.Pool.QueryRow(ctx,
		"UPDATE signing_in SET next_at = clock_timestamp() + $2 WHERE hash = $1 AND kind = 'terminal' AND "+
			"expires_at > now() AND (next_at <= clock_timestamp() OR next_at > clock_timestamp() + 2 * "+
			"$2::interval) RETURNING sealed", hash, interval).Scan(&sealed)
	if err = classify(err); !errors.Is(err, ErrNotFound) {
		return sealed, err
	}
	var there bool
	err = s.Pool.QueryRow(ctx,
		"SELECT EXISTS (SELECT FROM signing_in WHERE hash = $1 AND kind = 'terminal' AND expires_at > now())",
		hash).Scan(&there)
	switch {
	case err != nil:
		return nil, classify(err)
	case !there:
		return nil, ErrNotFound
	}
	return nil, ErrConflict
}

// ForgetSigningIn forgets a sign-in that came to its end.
func (s *Store) ForgetSigningIn(ctx context.Context, hash string) error {
	return exec(ctx, s, "DELETE FROM signing_in WHERE hash = $1", hash)
}
