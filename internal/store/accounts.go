package store

import "context"

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
