package secrets

import (
	"context"

	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	Accounts(ctx context.Context) ([]store.Account, error)

	AddSecret(ctx context.Context, x store.Secret) (bool, error)
	Secret(ctx context.Context, reference string) (store.Secret, error)
	NamedSecrets(ctx context.Context, name string) ([]store.Secret, error)
	RemoveNamedSecret(ctx context.Context, name string) (bool, error)
	SecretUses(ctx context.Context) ([]store.SecretUse, error)
	SealedOtherwise(ctx context.Context, fingerprint, after string) ([]store.Secret, error)

	Setting(ctx context.Context, name string) (value []byte, err error)
	FirstSetting(ctx context.Context, name string, value []byte) ([]byte, error)
	PutSetting(ctx context.Context, name string, value []byte) error

	StacksByAccount(ctx context.Context) (map[string]int, error)
}
