package sealed

import (
	"context"
	"fmt"

	"undersail/internal/store"
)

// Anew seals everything with the first key of the key file that is not sealed with it yet,
// at most so many values where most is not 0, and gives how many that were. It may be
// interrupted at any time and called again. Unbound opens what older programs sealed, which
// was bound to nothing.
func (s *Sealed) Anew(ctx context.Context, unbound bool, most int) (n int, err error) {
	fingerprint := s.box.Fingerprint()
	enough := func() bool { return most > 0 && n >= most }
	anew := func(what string, sealed []byte, with string) ([]byte, error) {
		open := func() ([]byte, error) { return s.box.open(what, sealed) }
		if unbound && with == "" {
			open = func() ([]byte, error) { return s.box.openUnbound(sealed) }
		}
		plain, err := open()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		n++
		return s.box.seal(what, plain)
	}
	accounts, err := s.store.Accounts(ctx)
	if err != nil {
		return n, fmt.Errorf("reading the accounts: %w", err)
	}
	for _, a := range accounts {
		if a.SealedWith == fingerprint || len(a.Credentials) == 0 || enough() {
			continue
		}
		sealed, err := anew(forAccount(a), a.Credentials, a.SealedWith)
		if err != nil {
			return n, err
		}
		if err := s.store.ResealAccount(ctx, a, sealed, fingerprint); err != nil {
			return n, fmt.Errorf("sealing an account anew: %w", err)
		}
	}
	libraries, err := s.store.Libraries(ctx)
	if err != nil {
		return n, fmt.Errorf("reading the libraries: %w", err)
	}
	for _, l := range libraries {
		if l.SealedWith == fingerprint || len(l.Credentials) == 0 || enough() {
			continue
		}
		sealed, err := anew(forLibrary(l), l.Credentials, l.SealedWith)
		if err != nil {
			return n, err
		}
		if err := s.store.ResealLibrary(ctx, l, sealed, fingerprint); err != nil {
			return n, fmt.Errorf("sealing a library anew: %w", err)
		}
	}
	for after := ""; ; {
		list, err := s.store.SealedOtherwise(ctx, fingerprint, after)
		if err != nil || len(list) == 0 || enough() {
			return n, err
		}
		for _, x := range list {
			if enough() {
				return n, nil
			}
			sealed, err := anew(forSecret(x.Reference), x.Sealed, x.SealedWith)
			if err != nil {
				return n, err
			}
			if err := s.store.Reseal(ctx, x, sealed, fingerprint); err != nil {
				return n, fmt.Errorf("sealing a secret anew: %w", err)
			}
			after = x.Reference
		}
	}
}

// KeyAnew seals the key of the audit with the first key of the key file, and notes that
// everything is sealed with that.
func (s *Sealed) KeyAnew(ctx context.Context) error {
	sealed, err := s.store.Setting(ctx, store.AuditKey)
	if err != nil {
		return fmt.Errorf("reading the setting: %w", err)
	}
	key, err := s.box.open(forAudit, sealed)
	if err != nil {
		return fmt.Errorf("%s: %w", forAudit, err)
	}
	if sealed, err = s.box.seal(forAudit, key); err != nil {
		return fmt.Errorf("sealing %s: %w", forAudit, err)
	}
	if err := s.store.PutSetting(ctx, store.AuditKey, sealed); err != nil {
		return fmt.Errorf("keeping the setting: %w", err)
	}
	return s.store.PutSetting(ctx, store.SealedWith, []byte(s.box.Fingerprint()))
}
