package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"

	"undersail/internal/secret"
	"undersail/internal/store"
)

// OpenSealed makes sure that the key is the one that the database was sealed with. An
// empty database takes the key that it is given; what older programs sealed, bound to
// nothing, is sealed anew once. Call it before anything is served.
func (s *Service) OpenSealed(ctx context.Context) error {
	with, err := s.store.Setting(ctx, store.SealedWith)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if _, err := s.reseal(ctx, true); err != nil {
			return err
		}
		if with, err = s.store.KeepSetting(ctx, store.SealedWith, []byte(s.box.Fingerprint())); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	if have := s.box.Fingerprints(); !slices.Contains(have, string(with)) {
		return refuse(Conflict, "give the key file that belongs to this database with --key-file, or restore both from one backup",
			"the database was sealed with the key %s, and the key file has %s", with, have[0])
	}
	return s.openAudit(ctx)
}

// openAudit makes the key of the audit, or opens the one that is there.
func (s *Service) openAudit(ctx context.Context) error {
	key := make([]byte, 32)
	rand.Read(key)
	sealed, err := s.box.Seal(forAudit, key)
	if err != nil {
		return err
	}
	if sealed, err = s.store.KeepSetting(ctx, store.AuditKey, sealed); err != nil {
		return err
	}
	if s.auditKey, err = s.box.Open(forAudit, sealed); err != nil {
		return fmt.Errorf("the key of the audit: %w", err)
	}
	return nil
}

const forAudit = "the key of the audit"

// Reseal seals everything with the first key of the key file that is not sealed with it
// yet, and gives how many values that were. It may be interrupted at any time and called
// again.
func (s *Service) Reseal(ctx context.Context) (int, error) {
	n, err := s.reseal(ctx, false)
	if err != nil {
		return n, err
	}
	sealed, err := s.store.Setting(ctx, store.AuditKey)
	if err != nil {
		return n, err
	}
	key, err := s.box.Open(forAudit, sealed)
	if err != nil {
		return n, fmt.Errorf("the key of the audit: %w", err)
	}
	if sealed, err = s.box.Seal(forAudit, key); err != nil {
		return n, err
	}
	if err := s.store.PutSetting(ctx, store.AuditKey, sealed); err != nil {
		return n, err
	}
	return n + 1, s.store.PutSetting(ctx, store.SealedWith, []byte(s.box.Fingerprint()))
}

// reseal opens every secret, account and library credential that is sealed otherwise and
// seals it with the first key. Unbound opens what older programs sealed.
func (s *Service) reseal(ctx context.Context, unbound bool) (n int, err error) {
	fingerprint := s.box.Fingerprint()
	anew := func(what string, sealed []byte, with string) ([]byte, error) {
		open := func() ([]byte, error) { return s.box.Open(what, sealed) }
		if unbound && with == "" {
			open = func() ([]byte, error) { return s.box.OpenUnbound(sealed) }
		}
		plain, err := open()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		n++
		return s.box.Seal(what, plain)
	}
	accounts, err := s.store.Accounts(ctx)
	if err != nil {
		return n, err
	}
	for _, a := range accounts {
		if a.SealedWith == fingerprint || len(a.Credentials) == 0 {
			continue
		}
		sealed, err := anew(purposeOf(a), a.Credentials, a.SealedWith)
		if err != nil {
			return n, err
		}
		if err := s.store.ResealAccount(ctx, a, sealed, fingerprint); err != nil {
			return n, err
		}
	}
	libraries, err := s.store.Libraries(ctx)
	if err != nil {
		return n, err
	}
	for _, l := range libraries {
		if l.SealedWith == fingerprint || len(l.Credentials) == 0 {
			continue
		}
		sealed, err := anew(forLibrary(l), l.Credentials, l.SealedWith)
		if err != nil {
			return n, err
		}
		if err := s.store.ResealLibrary(ctx, l, sealed, fingerprint); err != nil {
			return n, err
		}
	}
	for after := ""; ; {
		list, err := s.store.SealedOtherwise(ctx, fingerprint, after)
		if err != nil || len(list) == 0 {
			return n, err
		}
		for _, x := range list {
			sealed, err := anew(secret.ForSecret(x.Reference), x.Sealed, x.SealedWith)
			if err != nil {
				return n, err
			}
			if err := s.store.Reseal(ctx, x, sealed, fingerprint); err != nil {
				return n, err
			}
			after = x.Reference
		}
	}
}

// purposeOf is what the credentials of an account are sealed for.
func purposeOf(a store.Account) string { return secret.ForAccount(a.Name, a.Cloud, a.Endpoint) }

// TrySealed opens every sealed value once, and counts accounts, living stacks and values.
func (s *Service) TrySealed(ctx context.Context) (accounts, stacks, sealed int, err error) {
	list, err := s.store.Accounts(ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	for _, a := range list {
		if len(a.Credentials) == 0 {
			continue // it is closed
		}
		if _, err := s.credentials(a); err != nil {
			return 0, 0, 0, err
		}
		accounts++
		sealed++
	}
	counts, err := s.store.StacksByAccount(ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	for _, n := range counts {
		stacks += n
	}
	for after := ""; ; {
		rows, err := s.store.SealedOtherwise(ctx, "none", after)
		if err != nil || len(rows) == 0 {
			return accounts, stacks, sealed, err
		}
		for _, row := range rows {
			if _, err := s.openSecret(row); err != nil {
				return 0, 0, 0, err
			}
			after = row.Reference
			sealed++
		}
	}
}
