// Package sealed has the plain values of secrets, and nothing else has. It opens one with a
// [Permit] alone, which only gate.go makes: of whoever may read it, or of an agreement in
// which this very use of it was agreed to. The zero permit opens nothing.
//
// What gives nothing out stays inside: sealing anew, taking secrets out of texts, copying
// what one stack hands to another. The credentials of an account open for its cloud and
// endpoint alone, which is what they are sealed for.
//
// Its files, from the ground up: box.go seals and opens with the key file, sealed.go keeps
// values, gate.go says who may have which, run.go opens them for a run, anew.go replaces the
// key.
package sealed

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"undersail/internal/secret"
	"undersail/internal/store"
)

// Store is what is kept sealed.
type Store interface {
	Secret(ctx context.Context, reference string) (store.Secret, error)
	Secrets(ctx context.Context, stackID string, besides ...string) ([]store.Secret, error)
	SealedOtherwise(ctx context.Context, fingerprint, after string) ([]store.Secret, error)
	Reseal(ctx context.Context, x store.Secret, sealed []byte, fingerprint string) error
	Accounts(ctx context.Context) ([]store.Account, error)
	ResealAccount(ctx context.Context, a store.Account, sealed []byte, fingerprint string) error
	Libraries(ctx context.Context) ([]store.Library, error)
	ResealLibrary(ctx context.Context, l store.Library, sealed []byte, fingerprint string) error
	Setting(ctx context.Context, name string) ([]byte, error)
	FirstSetting(ctx context.Context, name string, value []byte) ([]byte, error)
	PutSetting(ctx context.Context, name string, value []byte) error
}

// Sealed keeps values sealed. It is safe for concurrent use.
type Sealed struct {
	box   *Box
	store Store
	key   []byte // of the audit and of agreements
}

// New opens nothing yet; see [Sealed.Begin].
func New(box *Box, s Store) *Sealed { return &Sealed{box: box, store: s} }

// Plain is the value of a secret. It prints as its reference.
type Plain struct{ reference, value string }

func (p Plain) String() string   { return "secret:" + p.reference }
func (p Plain) GoString() string { return p.String() }

// MarshalText keeps a value out of whatever is written.
func (p Plain) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// Expose hands the value out. Whoever calls it had a permit.
func (p Plain) Expose() string { return p.value }

// Secret seals the value of a reference into its row.
func (s *Sealed) Secret(x *store.Secret, value string) (err error) {
	x.Sealed, err = s.box.seal(forSecret(x.Reference), []byte(value))
	x.SealedWith = s.box.Fingerprint()
	return err
}

// Copy seals a value that another stack hands over under the reference of a row.
func (s *Sealed) Copy(x *store.Secret, p Plain) error { return s.Secret(x, p.value) }

// Same reports whether a value that is handed over is the one that a reference has.
func (s *Sealed) Same(ctx context.Context, reference string, p Plain) (bool, error) {
	row, err := s.store.Secret(ctx, reference)
	if err != nil {
		return false, fmt.Errorf("reading the secret: %w", err)
	}
	value, err := s.open(row)
	return value == p.value, err
}

func (s *Sealed) open(row store.Secret) (string, error) {
	plain, err := s.box.open(forSecret(row.Reference), row.Sealed)
	if err != nil {
		return "", fmt.Errorf("secret %s: %w", row.Reference, err)
	}
	return string(plain), nil
}

// values opens those of a stack and others by reference.
func (s *Sealed) values(ctx context.Context, stackID string, besides []string) (map[string]string, error) {
	rows, err := s.store.Secrets(ctx, stackID, besides...)
	if err != nil {
		return nil, fmt.Errorf("reading the secrets of stack %s: %w", stackID, err)
	}
	out := make(map[string]string, len(rows))
	for _, row := range rows {
		if out[row.Reference], err = s.open(row); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Scrubber takes the secrets of a stack, and others by reference, out of texts.
func (s *Sealed) Scrubber(ctx context.Context, stackID string, besides ...string) (*secret.Scrubber, error) {
	values, err := s.values(ctx, stackID, besides)
	if err != nil {
		return nil, err
	}
	return secret.NewScrubber(values), nil
}

// HandOver computes what a stack hands to others, with its secrets in their places, and
// keeps it closed: it can be sealed anew, and compared with what was handed over before.
func (s *Sealed) HandOver(ctx context.Context, stackID string, besides []string,
	compute func(reveal func(reference string) (string, bool)) (map[string]string, error)) (map[string]Plain, error) {
	values, err := s.values(ctx, stackID, besides)
	if err != nil {
		return nil, err
	}
	texts, err := compute(func(reference string) (string, bool) { v, known := values[reference]; return v, known })
	out := make(map[string]Plain, len(texts))
	for name, text := range texts {
		out[name] = Plain{reference: name, value: text}
	}
	return out, err
}

// Account seals credentials for the name, cloud and endpoint of an account.
func (s *Sealed) Account(a *store.Account, fields map[string]string) error {
	plain, err := json.Marshal(fields)
	if err != nil {
		return fmt.Errorf("sealing the credentials: %w", err)
	}
	a.Credentials, err = s.box.seal(forAccount(*a), plain)
	a.SealedWith = s.box.Fingerprint()
	return err
}

// Credentials open for the cloud and the endpoint that they were given for.
func (s *Sealed) Credentials(a store.Account) (fields map[string]string, err error) {
	plain, err := s.box.open(forAccount(a), a.Credentials)
	if err != nil {
		return nil, fmt.Errorf("credentials of account %s: %w", a.Name, err)
	}
	if err := json.Unmarshal(plain, &fields); err != nil {
		return nil, fmt.Errorf("credentials of account %s cannot be read: %w", a.Name, err)
	}
	return fields, nil
}

// Library seals what opens a library for where it lies, and OpenLibrary opens it.
func (s *Sealed) Library(l *store.Library, credentials any) error {
	plain, err := json.Marshal(credentials)
	if err != nil {
		return fmt.Errorf("sealing what opens the library: %w", err)
	}
	l.Credentials, err = s.box.seal(forLibrary(*l), plain)
	l.SealedWith = s.box.Fingerprint()
	return err
}

// OpenLibrary reads what opens a library.
func (s *Sealed) OpenLibrary(l store.Library, into any) error {
	plain, err := s.box.open(forLibrary(l), l.Credentials)
	if err != nil {
		return fmt.Errorf("credentials of library %s: %w", l.Name, err)
	}
	if json.Unmarshal(plain, into) != nil {
		return fmt.Errorf("credentials of library %s cannot be read", l.Name)
	}
	return nil
}

// SignIn seals a sign-in that is under way for its handle, and OpenSignIn opens it.
func (s *Sealed) SignIn(handle string, raw []byte) ([]byte, error) {
	return s.box.seal(forSignIn(handle), raw)
}

// OpenSignIn opens a sign-in that is under way.
func (s *Sealed) OpenSignIn(handle string, sealed []byte) ([]byte, error) {
	return s.box.open(forSignIn(handle), sealed)
}

// TrySecret opens a value once and gives nothing out.
func (s *Sealed) TrySecret(x store.Secret) error {
	_, err := s.open(x)
	return err
}

// Knows reports whether the key file has the key of a fingerprint, and gives the one that
// it has first.
func (s *Sealed) Knows(fingerprint string) (has string, known bool) {
	have := s.box.Fingerprints()
	return have[0], slices.Contains(have, fingerprint)
}
