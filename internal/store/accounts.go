package store

import (
	"context"
	"net/netip"
	"time"
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
	// MostMonth is the cost of a month above which proposals ask for a consent.
	MostMonth *float64
}

const (
	accountColumns = "name, cloud, endpoint, credentials, clock_rate, guest_range, regions"
	accountQuery   = "SELECT " + accountColumns + ", most_month FROM accounts "
)

// PutAccount keeps an account, new or renewed.
func (s *Store) PutAccount(ctx context.Context, a Account) error {
	return exec(ctx, s, `INSERT INTO accounts (`+accountColumns+`) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (name) DO UPDATE SET cloud = $2, endpoint = $3, credentials = $4, clock_rate = $5, guest_range = $6, regions = $7`,
		a.Name, a.Cloud, a.Endpoint, a.Credentials, a.ClockRate, a.GuestRange, a.Regions)
}

// Account finds an account.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	return one[Account](ctx, s.Pool, accountQuery+"WHERE name = $1", name)
}

// Accounts lists all by name.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	return many[Account](ctx, s.Pool, accountQuery+"ORDER BY name")
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
	return many[Range](ctx, s.Pool, "SELECT range, about, declared_by, declared_at FROM account_ranges WHERE account = $1 ORDER BY range", account)
}

// PutRange declares a range, or what it is about.
func (s *Store) PutRange(ctx context.Context, account string, r Range) error {
	return exec(ctx, s, `INSERT INTO account_ranges (account, range, about, declared_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (account, range) DO UPDATE SET about = $3, declared_by = $4, declared_at = clock_timestamp()`, account, r.Range, r.About, r.DeclaredBy)
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
