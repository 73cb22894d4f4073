package secrets

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// OpenSealed makes sure that the key is the one that the database was sealed with. An
// empty database takes the key that it is given; what older programs sealed, bound to
// nothing, is sealed anew once. Call it before anything is served.
func (s *Secrets) OpenSealed(ctx context.Context) error {
	with, err := s.store.Setting(ctx, store.SealedWith)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if _, err := s.sealed.Anew(ctx, true, 0); err != nil {
			return fmt.Errorf("reading the anew: %w", err)
		}
		has, _ := s.sealed.Knows("")
		if with, err = s.store.FirstSetting(ctx, store.SealedWith, []byte(has)); err != nil {
			return fmt.Errorf("keeping the setting: %w", err)
		}
	case err != nil:
		return err
	}
	if has, known := s.sealed.Knows(string(with)); !known {
		return refusal.New(refusal.Conflict,
			"give the key file that belongs to this database with --key-file, or restore both from one backup",
			"the database was sealed with the key %s, and the key file has %s", with, has)
	}
	if err := s.sealed.Begin(ctx); err != nil {
		return fmt.Errorf("beginning to seal anew: %w", err)
	}
	return nil
}

// TellPlaces tells the administrator once, in the log and the audit, to which accounts the
// named secrets belong that an older program kept without one: whoever operates there may use
// them, and what belongs to none is for whoever administers the service.
func (s *Secrets) TellPlaces(ctx context.Context) error {
	if _, err := s.store.Setting(ctx, store.SecretsPlaced); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	rows, err := s.store.NamedSecrets(ctx, "")
	if err != nil {
		return fmt.Errorf("reading the named secret: %w", err)
	}
	at := map[string]any{}
	for _, row := range rows {
		name, _, _ := strings.Cut(row.Reference, "@")
		at[name] = cmp.Or(row.Account, "whoever administers the service")
	}
	if len(at) > 0 {
		err := s.journal.Record(ctx, people.OperatorOfHost, "place secrets", "",
			"to the accounts that they are used in", at)
		if err != nil {
			return fmt.Errorf("recording it in the journal: %w", err)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(at)) {
		s.log.Info("named secrets belong to accounts since this version", "secret", name, "belongs_to", at[name])
	}
	return s.store.PutSetting(ctx, store.SecretsPlaced, []byte("told"))
}

// Reseal seals everything with the first key of the key file that is not sealed with it
// yet, at most so many values where most is not 0, and gives how many values that were. It
// may be interrupted at any time and called again.
func (s *Secrets) Reseal(ctx context.Context, most int) (int, error) {
	n, err := s.sealed.Anew(ctx, false, most)
	if err != nil || most > 0 {
		return n, err
	}
	return n + 1, s.sealed.KeyAnew(ctx)
}

// TrySealed opens every sealed value once, and counts accounts, living stacks and values.
func (s *Secrets) TrySealed(ctx context.Context) (accounts, stacks, values int, err error) {
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return 0, 0, 0, fmt.Errorf("reading the accounts: %w", err)
	}
	for _, a := range list {
		if len(a.Credentials) == 0 {
			continue // it is closed
		}
		if _, err := s.accounts.Credentials(a); err != nil {
			return 0, 0, 0, err
		}
		accounts++
		values++
	}
	counts, err := s.store.StacksByAccount(ctx)
	if err != nil {
		return 0, 0, 0, fmt.Errorf("counting the stacks of accounts: %w", err)
	}
	for _, n := range counts {
		stacks += n
	}
	for after := ""; ; {
		rows, err := s.store.SealedOtherwise(ctx, "none", after)
		if err != nil || len(rows) == 0 {
			return accounts, stacks, values, err
		}
		for _, row := range rows {
			if err := s.sealed.TrySecret(row); err != nil {
				return 0, 0, 0, fmt.Errorf("trying the secret: %w", err)
			}
			after = row.Reference
			values++
		}
	}
}
