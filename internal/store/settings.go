package store

import (
	"context"
)

// The names of what the service itself has to remember.
const (
	// SealedWith is the fingerprint of the key that values are sealed with.
	SealedWith = "sealed-with"
	// AuditKey is the sealed key of the audit.
	AuditKey = "audit-key"
	// AgreementsSealed says that what was accepted before agreements were sealed is sealed.
	AgreementsSealed = "agreements-sealed"
	// SecretsPlaced says that it was told once to which accounts secrets of before belong.
	SecretsPlaced = "secrets-placed"
)

// TryWriting writes something small and commits it, as whatever is recorded has to be. It does
// so at most once a second in a database, whoever asks how often.
func (s *Store) TryWriting(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, `INSERT INTO settings (name, value) VALUES ('written',
		convert_to(clock_timestamp()::text, 'UTF8')) ON CONFLICT (name) DO UPDATE SET value = excluded.value
		WHERE convert_from(settings.value, 'UTF8')::timestamptz NOT BETWEEN clock_timestamp() - interval '1 second'
		AND clock_timestamp()`)
	return classify(err)
}

// Setting reads one of them; ErrNotFound says that there is none yet.
func (s *Store) Setting(ctx context.Context, name string) (value []byte, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT value FROM settings WHERE name = $1", name).Scan(&value)
	return value, classify(err)
}

// AnythingSealed tells whether there are sealed values.
func (s *Store) AnythingSealed(ctx context.Context) (there bool, err error) {
	err = s.Pool.QueryRow(ctx,
		"SELECT EXISTS (SELECT FROM accounts WHERE credentials <> '') OR EXISTS (SELECT FROM secrets WHERE kind <> "+
			"'public_key')").Scan(&there)
	return there, classify(err)
}

// FirstSetting writes one that is not there yet, and gives the one that is there after it.
func (s *Store) FirstSetting(ctx context.Context, name string, value []byte) ([]byte, error) {
	err := exec(ctx, s, "INSERT INTO settings (name, value) VALUES ($1, $2) ON CONFLICT DO NOTHING", name, value)
	if err != nil {
		return nil, err
	}
	return s.Setting(ctx, name)
}

// PutSetting writes one.
func (s *Store) PutSetting(ctx context.Context, name string, value []byte) error {
	return exec(ctx, s, "INSERT INTO settings (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE "+
		"SET value = $2", name, value)
}
