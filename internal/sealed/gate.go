package sealed

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"golang.org/x/crypto/ssh"

	"undersail/internal/access"
	"undersail/internal/core/secretrule"
	"undersail/internal/core/use"
	"undersail/internal/store"
)

// Permit opens the secrets that it was made for. Only a gate makes one; the zero permit
// opens nothing.
type Permit struct{ opens map[string]bool }

// Kept tells where a secret belongs, and who gave it.
func Kept(x store.Secret) access.Kept { return access.Kept{Account: x.Account, GivenBy: x.GivenBy} }

// MayReveal gives a permit for all of some secrets to whoever may read each of them at this
// moment. Else it gives the first that they may not read.
func (s *Sealed) MayReveal(a access.Actor, rows ...store.Secret) (Permit, *store.Secret) {
	p := Permit{map[string]bool{}}
	for i, row := range rows {
		if !a.MayReveal(Kept(row)) {
			return Permit{}, &rows[i]
		}
		p.opens[row.Reference] = true
	}
	return p, nil
}

// Open hands a value out.
func (s *Sealed) Open(_ context.Context, p Permit, row store.Secret) (Plain, error) {
	if !p.opens[row.Reference] {
		return Plain{}, fmt.Errorf("secret %s is opened without a permit", row.Reference)
	}
	value, err := s.open(row)
	return Plain{row.Reference, value}, err
}

// Opened gives the values that a permit opens, for computing with them.
func (s *Sealed) Opened(ctx context.Context, p Permit) (func(reference string) (string, bool), error) {
	values := map[string]string{}
	for reference := range p.opens {
		row, err := s.store.Secret(ctx, reference)
		if err != nil {
			return nil, fmt.Errorf("read secret %s: %w", reference, err)
		}
		plain, err := s.Open(ctx, p, row)
		if err != nil {
			return nil, err
		}
		values[reference] = plain.value
	}
	return func(reference string) (string, bool) { v, known := values[reference]; return v, known }, nil
}

// Breaks lists the rules that a secret breaks. Whoever may not read it is told nothing of
// it: then it is not looked at.
func (s *Sealed) Breaks(ctx context.Context, a access.Actor, row store.Secret, rules secretrule.Rules,
	names ...string) (broken []string, looked bool, err error) {
	p, refused := s.MayReveal(a, row)
	if refused != nil {
		return nil, false, nil
	}
	plain, err := s.Open(ctx, p, row)
	if err != nil {
		return nil, false, err
	}
	return rules.Check(plain.value, names...), true, nil
}

// Is reports whether a value is the one that a reference has, to whoever may read that. To
// anybody else it never is.
func (s *Sealed) Is(ctx context.Context, a access.Actor, reference, value string) (bool, error) {
	row, err := s.store.Secret(ctx, reference)
	if err != nil {
		return false, fmt.Errorf("reading the secret: %w", err)
	}
	p, refused := s.MayReveal(a, row)
	if refused != nil {
		return false, nil
	}
	plain, err := s.Open(ctx, p, row)
	return err == nil && plain.value == value, err
}

// Agreement is what somebody agreed to: the uses of secrets by their digests.
type Agreement struct {
	uses map[string]bool
	// asRecorded is of what was applied before uses were listed: all that is recorded of it
	// counts as agreed.
	asRecorded bool
}

// AsRecorded is the agreement of what was applied before uses were listed.
func AsRecorded() Agreement { return Agreement{asRecorded: true} }

// Agreed makes an agreement of uses. Whoever calls it has held the seal of the record that
// they stand in against it; see [Sealed.SealOf].
func Agreed(lists ...[]use.Use) Agreement {
	a := Agreement{uses: map[string]bool{}}
	for _, list := range lists {
		for digest := range use.Digests(list) {
			a.uses[digest] = true
		}
	}
	return a
}

// With adds what was agreed to later.
func (a Agreement) With(b Agreement) Agreement {
	out := Agreement{uses: map[string]bool{}, asRecorded: a.asRecorded || b.asRecorded}
	for _, x := range []Agreement{a, b} {
		for digest := range x.uses {
			out.uses[digest] = true
		}
	}
	return out
}

// Beyond lists the uses that were not agreed to.
func (a Agreement) Beyond(list []use.Use) []use.Use {
	if a.asRecorded {
		return nil
	}
	return use.Beyond(list, a.uses)
}

// Permit opens the secrets of uses that were all agreed to; else it gives those that were
// not, and opens nothing.
func (a Agreement) Permit(list []use.Use) (Permit, []use.Use) {
	if beyond := a.Beyond(list); len(beyond) > 0 {
		return Permit{}, beyond
	}
	p := Permit{map[string]bool{}}
	for _, reference := range use.Secrets(list) {
		p.opens[reference] = true
	}
	return p, nil
}

// Begin makes the key of the audit and of agreements, or opens the one that is there.
func (s *Sealed) Begin(ctx context.Context) error {
	key := make([]byte, 32)
	rand.Read(key)
	sealed, err := s.box.seal(forAudit, key)
	if err != nil {
		return fmt.Errorf("sealing %s: %w", forAudit, err)
	}
	if sealed, err = s.store.FirstSetting(ctx, store.AuditKey, sealed); err != nil {
		return fmt.Errorf("keeping the setting: %w", err)
	}
	if s.key, err = s.box.open(forAudit, sealed); err != nil {
		return fmt.Errorf("%s: %w", forAudit, err)
	}
	return nil
}

// SealOf is an HMAC-SHA256 (RFC 2104) of parts for a purpose, with a key that the database
// holds only sealed. Each part is written with its length, so that no two are written alike.
func (s *Sealed) SealOf(purpose string, parts ...string) []byte {
	h := hmac.New(sha256.New, s.key)
	if purpose != "" { // the audit, which had the key to itself, has none
		fmt.Fprintf(h, "%d:%s", len(purpose), purpose)
	}
	for _, part := range parts {
		fmt.Fprintf(h, "%d:%s", len(part), part)
	}
	return h.Sum(nil)
}

// Holds reports whether a seal is that of what stands beside it.
func (s *Sealed) Holds(seal []byte, purpose string, parts ...string) bool {
	return len(seal) > 0 && hmac.Equal(seal, s.SealOf(purpose, parts...))
}

// Keyed is an HMAC of a text that tells nothing of it without the key.
func (s *Sealed) Keyed(purpose, text string) string {
	h := hmac.New(sha256.New, s.key)
	fmt.Fprintf(h, "%d:%s%s", len(purpose), purpose, text)
	return hex.EncodeToString(h.Sum(nil))
}

// ForPeople gives a permit for signing in with a key that is a stack's own, or that somebody
// agreed to; what is signed is looked at by whoever signs.
func (s *Sealed) ForPeople(row store.Secret) Permit {
	if row.Kind != "private_key" {
		return Permit{}
	}
	return Permit{map[string]bool{row.Reference: true}}
}

// Signer signs with a private key, and hands nothing of it out.
func (s *Sealed) Signer(ctx context.Context, p Permit, reference string) (ssh.Signer, error) {
	row, err := s.store.Secret(ctx, reference)
	if err != nil {
		return nil, fmt.Errorf("reading the secret: %w", err)
	}
	plain, err := s.Open(ctx, p, row)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey([]byte(plain.value))
	if err != nil {
		return nil, fmt.Errorf("key %s cannot be read", reference)
	}
	return signer, nil
}
