package store

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/core/offer"
)

// Account is an account of a cloud. Credentials are sealed.
type Account struct {
	Name        string
	Cloud       string
	Endpoint    string
	Credentials []byte
	ClockRate   float64
	GuestRange  string
	Regions     []string
	SealedWith  string // fingerprint of the key; empty for what older programs sealed
	// Identity is what the cloud said of the credentials when they were tested last.
	Identity json.RawMessage
	TestedAt *time.Time
	// MostMonth is the cost of a month above which proposals ask for a consent.
	MostMonth *float64
	// ClosedAt is when the account was closed, ClosedWhy why.
	ClosedAt  *time.Time
	ClosedWhy string
	// Revision counts the changes of what the account is, and is held to.
	Revision int64
	Bounds
}

// Bounds are what an account is held to.
type Bounds struct {
	// AllowedRegions are the only ones for stacks; empty allows all.
	AllowedRegions []string
	// Budget is what may be spent in a month, in the cloud's currency; nil sets none.
	Budget *float64
	// EndsAt is when a lab account is over, and LeaseSeconds how long its stacks live
	// unless somebody extends them; 0 is for ever.
	EndsAt       *time.Time
	LeaseSeconds int64
	// Tags are put on every resource.
	Tags map[string]string
	// Prices are those of its own, before what its cloud tells.
	Prices offer.PriceList
	// Unreached says that no packets from here reach its machines.
	Unreached bool
	// SecondPerson asks that somebody else than its author accepts a proposal.
	SecondPerson bool
}

const accountQuery = `SELECT name, cloud, endpoint, credentials, clock_rate, guest_range, regions, sealed_with,
	identity, tested_at, most_month, closed_at, closed_why,
	allowed_regions, budget, ends_at, lease_seconds, tags, prices, unreached, second_person, revision FROM accounts `

// PutAccount keeps an account and who it is, new or renewed. One that was closed is
// open again. What it is held to stays. Was is the revision of one that is renewed, as it was
// looked at: [ErrMoved] says that it was closed, or is held to something else, since.
func (s *Store) PutAccount(ctx context.Context, a Account, was int64, who Who) error {
	return s.asked(ctx, who, func(tx pgx.Tx) error {
		if was != 0 {
			var now int64
			err := tx.QueryRow(ctx, "SELECT revision FROM accounts WHERE name = $1 FOR UPDATE", a.Name).Scan(&now)
			if err != nil {
				return fmt.Errorf("keeping account: %w", err)
			}
			if now != was {
				return ErrMoved
			}
		}
		_, err := tx.Exec(ctx, `INSERT INTO accounts (name, cloud, endpoint, credentials, clock_rate, guest_range,
		regions, sealed_with, identity, tested_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, coalesce($9, '{}'::jsonb),
		now())
		ON CONFLICT (name) DO UPDATE SET cloud = $2, endpoint = $3, credentials = $4, clock_rate = $5,
		guest_range = $6, regions = $7, sealed_with = $8, identity = excluded.identity, tested_at = now(),
		closed_at = NULL, closed_why = ''`,
			a.Name, a.Cloud, a.Endpoint, a.Credentials, a.ClockRate, a.GuestRange, a.Regions, a.SealedWith, a.Identity)
		return err
	})
}

// TestedAccount notes what the cloud says of the credentials now.
func (s *Store) TestedAccount(ctx context.Context, name string, identity json.RawMessage, regions []string,
	clockRate float64) error {
	return exec(ctx, s, "UPDATE accounts SET identity = $2, regions = $3, clock_rate = $4, tested_at = now() "+
		"WHERE name = $1", name, identity, regions, clockRate)
}

// BoundAccount sets what an account is held to, by the names of the columns that are to
// change. What nobody asked to change somebody else may have changed meanwhile.
func (s *Store) BoundAccount(ctx context.Context, name string, h Bounds, who Who, columns ...string) error {
	values := map[string]any{
		"allowed_regions": orEmpty(h.AllowedRegions),
		"budget":          h.Budget,
		"ends_at":         h.EndsAt,
		"lease_seconds":   h.LeaseSeconds,
		"tags":            h.Tags,
		"prices":          h.Prices,
		"unreached":       h.Unreached,
		"second_person":   h.SecondPerson,
	}
	args, sets := []any{name}, []string{}
	for _, column := range columns {
		value, known := values[column]
		if !known {
			return fmt.Errorf("bound account %s: there is no bound %q", name, column)
		}
		args = append(args, value)
		sets = append(sets, fmt.Sprintf("%s = $%d", column, len(args)))
	}
	if len(sets) == 0 {
		return nil
	}
	return s.asked(ctx, who, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE accounts SET "+strings.Join(sets, ", ")+" WHERE name = $1", args...)
		return err
	})
}

// ResealAccount replaces how credentials are sealed, if nobody renewed them meanwhile.
func (s *Store) ResealAccount(ctx context.Context, a Account, sealed []byte, fingerprint string) error {
	return exec(ctx, s, "UPDATE accounts SET credentials = $3, sealed_with = $4 WHERE name = $1 AND credentials = $2",
		a.Name, a.Credentials, sealed, fingerprint)
}

// Account finds an account.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	return one[Account](ctx, s.Pool, accountQuery+"WHERE name = $1", name)
}

// Accounts lists all by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	return many[Account](ctx, s.Pool, accountQuery+"ORDER BY name")
}

// SpentThisMonth tells what the stacks of an account have cost since the month began, in
// real hours times the price of an hour; the account's clock counts them.
func (s *Store) SpentThisMonth(ctx context.Context, account string) (hours float64, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT coalesce(sum(c.hour * extract(epoch
		FROM coalesce(c.ended_at, clock_timestamp()) - greatest(c.began_at, m.began)) / 3600), 0)::float8
		FROM charges c JOIN stacks k ON k.id = c.stack_id, (SELECT date_trunc('month', now()) AS began) m
		WHERE k.account = $1 AND coalesce(c.ended_at, clock_timestamp()) > m.began`, account).Scan(&hours)
	return hours, classify(err)
}

// CloseAccount forgets the credentials of an account and closes what it has: runs that
// are not over fail, proposals are refused, stacks are retired as they are recorded.
// Unless all of it is to go, a conflict says that there are living stacks or kept things
// by now: runs begin under the same lock.
func (s *Store) CloseAccount(ctx context.Context, name, why string, all bool, who Who) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		for _, lock := range []string{"SELECT FROM stacks WHERE account = $1 ORDER BY id FOR UPDATE",
			"SELECT FROM kept WHERE account = $1 ORDER BY token FOR UPDATE"} {
			if _, err := tx.Exec(ctx, lock, name); err != nil {
				return fmt.Errorf("closing account %s: %w", name, err)
			}
		}
		var inUse bool
		if err := tx.QueryRow(ctx, "SELECT closed_at IS NULL FROM accounts WHERE name = $1 FOR UPDATE",
			name).Scan(&inUse); err != nil {
			return fmt.Errorf("closing account %s: %w", name, err)
		}
		err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM stacks k WHERE k.account = $1 AND k.retired_at IS NULL "+
			"AND EXISTS (SELECT FROM runs r WHERE r.stack_id = k.id)) OR EXISTS (SELECT FROM kept WHERE account = $1)",
			name).Scan(&inUse)
		if err != nil {
			return fmt.Errorf("closing account %s: %w", name, err)
		}
		if inUse && !all {
			return ErrConflict
		}
		if err := asks(ctx, tx, who); err != nil {
			return err
		}
		for _, step := range []struct{ what, query string }{
			{"account", "UPDATE accounts SET credentials = '', sealed_with = '', closed_at = now(), closed_why = $2 " +
				"WHERE name = $1"},
			{"runs", "UPDATE runs SET state = 'failed', reason = 'the account was closed: ' || $2, ended_at = " +
				"clock_timestamp(), claim_number = claim_number + 1 WHERE account = $1 AND state IN " + active},
			{"proposals", "UPDATE proposals SET state = 'refused', why = 'the account was closed: ' || $2 WHERE " +
				"state IN ('open', 'accepted') AND stack_id IN (SELECT id FROM stacks WHERE account = $1)"},
			{"kept", "DELETE FROM kept WHERE account = $1 AND $2::text IS NOT NULL"},
			{"stacks", "UPDATE stacks SET retired_at = now() WHERE account = $1 AND retired_at IS NULL AND $2::text " +
				"IS NOT NULL"},
			{"charges", "UPDATE charges SET ended_at = clock_timestamp() WHERE ended_at IS NULL AND stack_id IN " +
				"(SELECT id FROM stacks WHERE account = $1) AND $2::text IS NOT NULL"},
		} {
			if _, err := tx.Exec(ctx, step.query, name, why); err != nil {
				return fmt.Errorf("close the %s of account %s: %w", step.what, name, err)
			}
		}
		return nil
	})
}

// Range is one that networks of an account must not overlap.
type Range struct {
	Range      netip.Prefix
	About      string
	DeclaredBy string
	DeclaredAt time.Time
}

// Ranges lists the ranges that are declared for an account.
func (s *Store) Ranges(ctx context.Context, account string) ([]Range, error) {
	return many[Range](ctx, s.Pool,
		"SELECT range, about, declared_by, declared_at FROM account_ranges WHERE account = $1 ORDER BY range", account)
}

// PutRange declares a range, or what it is about.
func (s *Store) PutRange(ctx context.Context, account string, r Range) error {
	return exec(ctx, s, `INSERT INTO account_ranges (account, range, about, declared_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (account, range) DO UPDATE SET about = $3, declared_by = $4, declared_at =
		clock_timestamp()`, account, r.Range, r.About, r.DeclaredBy)
}

// RemoveRange forgets a declared range, and reports whether there was one.
func (s *Store) RemoveRange(ctx context.Context, account string, r netip.Prefix) (bool, error) {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM account_ranges WHERE account = $1 AND range = $2", account, r)
	return tag.RowsAffected() > 0, classify(err)
}

// SetMostMonth sets above which cost of a month proposals ask for a consent; nil asks
// for none.
func (s *Store) SetMostMonth(ctx context.Context, account string, most *float64) error {
	return exec(ctx, s, "UPDATE accounts SET most_month = $2 WHERE name = $1", account, most)
}
