package secrets

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"undersail/internal/access"
	"undersail/internal/core/secretrule"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/secret"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// Named is a secret or a key pair that stands for itself: not the value, but what is
// known of it.
type Named struct {
	Name string `json:"name"`
	// Kind is secret, key_pair, or public_key for a pair whose private half somebody else
	// has.
	Kind string `json:"kind"`
	// Account is where it belongs; empty where it belongs to whoever administers the
	// service.
	Account  string         `json:"account,omitempty"`
	Version  int            `json:"version"`
	About    string         `json:"about,omitempty"`
	Public   string         `json:"public,omitempty"`
	Versions []NamedVersion `json:"versions"`
}

// NamedVersion is one version, with the stacks that were last applied with it.
type NamedVersion struct {
	Version int         `json:"version"`
	From    string      `json:"from"` // given or generated
	GivenBy string      `json:"given_by"`
	GivenAt time.Time   `json:"given_at"`
	Uses    []SecretUse `json:"uses"`
}

// SecretUse is where a version is used.
type SecretUse struct {
	Stack string `json:"stack"`
	Input string `json:"input"`
}

// NewNamed is a secret to keep: a value, or rules to draw one by; for a key pair
// nothing, which draws one, or its public half.
type NewNamed struct {
	Name string `json:"name"`
	Kind string `json:"kind"` // secret or key_pair
	// Account is where it belongs, and whoever administers that may read it. Left out it is
	// the only account of whoever gives it, or none.
	Account string            `json:"account,omitempty"`
	About   string            `json:"about,omitempty"`
	Value   string            `json:"value,omitempty"`
	Public  string            `json:"public,omitempty"`
	Rules   *secretrule.Rules `json:"rules,omitempty"`
	// Rotate makes a new version of one that is there.
	Rotate bool `json:"rotate,omitempty"`
}

// NamePattern is what secrets that stand for themselves are named like: without a slash,
// which those of stacks have.
var NamePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// mostSecret is how many bytes a secret has at most.
const mostSecret = 64 << 10

// importRules bind a secret that somebody else made up: less than one of ours, since the
// other side made its rules.
var importRules = secretrule.Rules{Length: 8, Classes: 1}

// List lists secrets and key pairs that stand for themselves, by name.
func (s *Secrets) List(ctx context.Context) ([]Named, error) { return s.named(ctx, "") }

// Show tells all that is known of one but its value.
func (s *Secrets) Show(ctx context.Context, name string) (Named, error) {
	list, err := s.named(ctx, name)
	if err != nil {
		return Named{}, err
	}
	if len(list) == 0 {
		all, err := s.named(ctx, "")
		if err != nil {
			return Named{}, err
		}
		return Named{}, refusal.Unknown("secret", name, all, func(n Named) string { return n.Name },
			"list them with: undersail secrets")
	}
	return list[0], nil
}

// unseenStack stands for one in an account that whoever asks sees nothing of.
const unseenStack = "(in another account)"

func (s *Secrets) named(ctx context.Context, name string) ([]Named, error) {
	rows, err := s.store.NamedSecrets(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("reading the named secret %s: %w", name, err)
	}
	uses, err := s.store.SecretUses(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading where secrets are used: %w", err)
	}
	out := []Named{}
	for _, row := range rows {
		own, version := splitReference(row.Reference)
		if len(out) == 0 || out[len(out)-1].Name != own {
			kind := map[string]string{"private_key": "key_pair", "public_key": "public_key"}[row.Kind]
			if kind == "" {
				kind = "secret"
			}
			out = append(out, Named{
				Name:    own,
				Kind:    kind,
				Account: row.Account,
				Version: version,
				About:   row.About,
				Public:  row.Public,
			})
		}
		v := NamedVersion{
			Version: version,
			From:    "given",
			GivenBy: row.GivenBy,
			GivenAt: row.CreatedAt,
			Uses:    []SecretUse{},
		}
		if row.Kind == "generated" || row.Kind == "private_key" {
			v.From = "generated"
		}
		for _, u := range uses {
			if u.Reference == row.Reference && !access.Sees(ctx, u.Account) {
				v.Uses = append(v.Uses, SecretUse{Stack: unseenStack}) // it counts, and is not named
			} else if u.Reference == row.Reference {
				v.Uses = append(v.Uses, SecretUse{u.Stack, u.Input})
			}
		}
		last := &out[len(out)-1]
		last.Versions = append(last.Versions, v)
	}
	return out, nil
}

// splitReference reads NAME@VERSION.
func splitReference(reference string) (string, int) {
	name, text := templates.SplitVersion(reference)
	version, _ := strconv.Atoi(text)
	return name, version
}

// Put keeps a secret or a key pair, or makes its next version.
func (s *Secrets) Put(ctx context.Context, u people.User, n NewNamed) (Named, error) {
	if err := s.belongs(ctx, u, &n); err != nil {
		return Named{}, err
	}
	if !NamePattern.MatchString(n.Name) {
		return Named{}, refusal.New(refusal.Invalid, "use small letters, digits and hyphens, beginning with a letter",
			"%q is no name for a secret", n.Name)
	}
	before, err := s.store.NamedSecrets(ctx, n.Name)
	if err != nil {
		return Named{}, fmt.Errorf("reading the named secret %s: %w", n.Name, err)
	}
	action, version := "make secret", 1
	switch {
	case n.Rotate && len(before) == 0:
		_, err := s.Show(ctx, n.Name)
		return Named{}, err
	case !n.Rotate && len(before) > 0:
		return Named{}, refusal.New(refusal.Conflict,
			"choose another name, or make its next version: undersail secrets rotate "+n.Name,
			"there is a secret %s already", n.Name)
	case n.Rotate:
		if !MayReveal(u, before[0]) {
			return Named{}, refusal.New(refusal.Forbidden, "ask "+before[0].GivenBy+" or an administrator",
				"the secret %s was given by somebody else", n.Name)
		}
		_, newest := splitReference(before[0].Reference)
		action, version = "rotate secret", newest+1
		if n.Kind = "secret"; before[0].Kind == "private_key" || before[0].Kind == "public_key" {
			n.Kind = "key_pair"
		}
		if n.About == "" {
			n.About = before[0].About
		}
		n.Account = before[0].Account
	}
	row := store.Secret{
		Reference: fmt.Sprintf("%s@%d", n.Name, version),
		Account:   n.Account,
		GivenBy:   u.Name,
		About:     n.About,
		Sealed:    []byte{},
	}
	value, err := n.drawn(&row)
	if err != nil {
		return Named{}, err
	}
	if value != "" {
		if err := s.sealed.Secret(&row, value); err != nil {
			return Named{}, fmt.Errorf("sealing the secret: %w", err)
		}
	}
	ours, err := s.store.AddSecret(ctx, row)
	if err != nil {
		return Named{}, fmt.Errorf("adding the secret: %w", err)
	}
	if !ours {
		return Named{}, refusal.New(refusal.Conflict, "look at it, and try again",
			"somebody else made %s at this moment", row.Reference)
	}
	s.journal.Done(ctx, u, action, row.Reference, map[string]any{
		"kind":    row.Kind,
		"about":   n.About,
		"account": n.Account,
	})
	return s.Show(ctx, n.Name)
}

// belongs finds the account of a new secret, where whoever gives it must operate.
func (s *Secrets) belongs(ctx context.Context, u people.User, n *NewNamed) error {
	if n.Rotate { // it belongs where it did
		return u.MustSomewhere(access.Operate)
	}
	if n.Account == "" {
		if only, everywhere := u.Grants().Accounts(); !everywhere && len(only) == 1 {
			n.Account = only[0]
		}
	}
	if n.Account == "" && !u.May(access.Operate, "") && u.MustSomewhere(access.Operate) == nil {
		return refusal.New(refusal.Invalid, "say where it belongs, as --account ACCOUNT",
			"a secret without an account belongs to whoever administers the service")
	}
	if err := u.Must(access.Operate, n.Account); err != nil || n.Account == "" {
		return err
	}
	_, err := s.accounts.Find(ctx, n.Account)
	return err
}

// drawn gives the value to keep, and says in the row what it is.
func (n NewNamed) drawn(row *store.Secret) (value string, err error) {
	switch {
	case n.Kind == "key_pair" && n.Public != "":
		key, comment, _, rest, err := ssh.ParseAuthorizedKey([]byte(n.Public))
		if err != nil || len(strings.TrimSpace(string(rest))) > 0 {
			return "", refusal.New(refusal.Invalid, "give one line such as: ssh-ed25519 AAAA... name",
				"that is no public key in OpenSSH form")
		}
		row.Kind, row.Public = "public_key",
			strings.TrimSpace(strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))+" "+comment)
		return "", nil
	case n.Kind == "key_pair" && n.Value != "":
		row.Kind = "private_key"
		if row.Public, err = secret.Public(n.Value, n.Name); err != nil {
			return "", refusal.New(refusal.Invalid, "give it in OpenSSH form, without a passphrase",
				"that is no private key")
		}
		return n.Value, nil
	case n.Kind == "key_pair":
		row.Kind = "private_key"
		value, row.Public, err = secret.KeyPair(n.Name)
		return value, err
	case n.Kind != "secret":
		return "", refusal.New(refusal.Invalid, "say secret or key_pair", "%q is no kind of secret", n.Kind)
	case n.Value == "":
		row.Kind = "generated"
		rules := secretrule.Rules{}
		if n.Rules != nil {
			rules = *n.Rules
		}
		for _, kind := range rules.Kinds {
			if !slices.Contains(secretrule.Kinds(), kind) {
				return "", refusal.New(refusal.Invalid, "the kinds are: "+strings.Join(secretrule.Kinds(), ", "),
					"there is no kind of character %q", kind)
			}
		}
		if value, err = rules.Generate(rand.Reader); err != nil {
			return "", refusal.New(refusal.Invalid, "ask for less", "%v", err)
		}
		return value, nil
	case len(n.Value) > mostSecret:
		return "", refusal.New(refusal.Invalid, "give a shorter one", "a secret has at most %d KiB", mostSecret>>10)
	}
	row.Kind = "given"
	rules := importRules
	if n.Rules != nil {
		rules = *n.Rules
	}
	if broken := rules.Check(n.Value, n.Name); len(broken) > 0 {
		return "", refusal.New(refusal.Invalid, "choose one with "+rules.Words()+", or have one drawn",
			"the secret breaks its rules: %s", strings.Join(broken, "; "))
	}
	return n.Value, nil
}

// Remove forgets a secret that no stack uses, with all its versions.
func (s *Secrets) Remove(ctx context.Context, u people.User, name string) error {
	if err := u.MustSomewhere(access.Operate); err != nil {
		return err
	}
	n, err := s.Show(ctx, name)
	if err != nil {
		return err
	}
	rows, err := s.store.NamedSecrets(ctx, name)
	if err != nil {
		return fmt.Errorf("reading the named secret %s: %w", name, err)
	}
	for _, row := range rows {
		if !MayReveal(u, row) {
			return refusal.New(refusal.Forbidden, "ask "+row.GivenBy+" or an administrator",
				"the secret %s was given by somebody else", row.Reference)
		}
	}
	for _, v := range n.Versions {
		if len(v.Uses) > 0 {
			return refusal.New(refusal.Conflict, "move the stack to another secret first, or retire it",
				"stack %s uses %s@%d", v.Uses[0].Stack, name, v.Version)
		}
	}
	if _, err := s.store.RemoveNamedSecret(ctx, name); err != nil {
		return fmt.Errorf("removing the named secret %s: %w", name, err)
	}
	s.journal.Done(ctx, u, "remove secret", name, nil)
	return nil
}

// Referred gives the newest version of what NAME stands for, or the one that NAME@VERSION
// names. An error of this package says why there is none.
func (s *Secrets) Referred(ctx context.Context, reference string) (store.Secret, error) {
	name, version := splitReference(reference)
	if !NamePattern.MatchString(name) {
		return store.Secret{}, refusal.New(refusal.NotFound,
			"name one without a slash; list them with: undersail secrets", "%q is no secret that stands for itself",
			reference)
	}
	if version == 0 {
		list, err := s.store.NamedSecrets(ctx, name)
		if err != nil {
			return store.Secret{}, fmt.Errorf("reading the named secret %s: %w", name, err)
		}
		if len(list) == 0 {
			_, err := s.Show(ctx, name)
			return store.Secret{}, err
		}
		return list[0], nil
	}
	row, err := s.store.Secret(ctx, reference)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.Account != "" && !access.Sees(ctx, row.Account) {
		return row, refusal.New(refusal.NotFound, "look at its versions with: undersail secrets show "+name,
			"there is no secret %s", reference)
	}
	return row, err
}

// MayReveal tells whether somebody may read a value at this moment.
func MayReveal(u people.User, x store.Secret) bool { return u.Actor().MayReveal(sealed.Kept(x)) }
