package proposing

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/secrets"
)

// DraftSecret is what somebody gives for a secret or a key pair of a draft: a value, or the
// public half of a pair of their own. Nothing has one drawn.
type DraftSecret struct {
	Value  string `json:"value,omitempty"`
	Public string `json:"public,omitempty"`
}

// SealForDraft keeps what somebody gives for a secret or a key pair of a draft at once, as
// one that stands for itself, and names it in the draft. It is kept nowhere else.
func (s *Proposing) SealForDraft(ctx context.Context, u people.User, id, input string,
	given DraftSecret) (Draft, error) {
	d, err := s.draft(ctx, u, id)
	if err != nil {
		return Draft{}, err
	}
	in, r, err := s.draftInput(ctx, d.Body, input)
	if err != nil {
		return Draft{}, err
	}
	account, err := s.accountOf(ctx, d.Body)
	if err != nil {
		return Draft{}, err
	}
	n := secrets.NewNamed{
		Account: account,
		About:   fmt.Sprintf("%s of %s", cmp.Or(in.Title, input), cmp.Or(d.Body.Stack, "a draft")),
	}
	reference := "secret:"
	switch {
	case in.Secret:
		n.Kind, n.Value, n.Rules = "secret", given.Value, &in.Rules
	case in.Picks == "key_pair":
		reference, n.Kind, n.Public = "key:", "key_pair", given.Public
	default:
		return Draft{}, refusal.New(refusal.Invalid, "change it in the draft", "input %s is no secret and no key pair",
			input)
	}
	if n.Value != "" {
		if broken := in.Rules.Check(n.Value, secretNames(d.Body, r)...); len(broken) > 0 {
			return Draft{}, refusal.New(refusal.Invalid, "give one with "+in.Rules.Words(),
				"the secret breaks the rules of input %s: %s", input, strings.Join(broken, "; "))
		}
	}
	if n, err = s.putFreely(ctx, u, n, cmp.Or(d.Body.Stack, r.Template.About.Name)+"-"+input); err != nil {
		return Draft{}, err
	}
	patch, err := json.Marshal(map[string]any{"inputs": map[string]any{input: reference + n.Name}})
	if err != nil {
		return Draft{}, fmt.Errorf("sealing what a draft was given: %w", err)
	}
	return s.ChangeDraft(ctx, u, id, d.Revision, patch, "")
}

// notInName is what names of secrets do not have; freeName is how long one is at most
// before a number goes behind it.
var notInName = regexp.MustCompile(`[^a-z0-9]+`)

const (
	freeName   = 56
	mostOfName = 100
)

// putFreely keeps a secret or a key pair under a name that is free: the one that is wished,
// or that with a number behind it.
func (s *Proposing) putFreely(ctx context.Context, u people.User, n secrets.NewNamed,
	wished string) (secrets.NewNamed, error) {
	base := notInName.ReplaceAllString(strings.ToLower(wished), "-")
	base = strings.Trim(base[:min(len(base), freeName)], "-")
	for tries := 1; ; tries++ {
		if n.Name = base; tries > 1 {
			n.Name = fmt.Sprintf("%s-%d", base, tries)
		}
		var refused *refusal.Error
		_, err := s.secrets.Put(ctx, u, n)
		if !errors.As(err, &refused) || refused.Kind != refusal.Conflict || tries == mostOfName {
			return n, err
		}
	}
}

// secretNames are those that a secret of a draft must not derive from.
func secretNames(n NewProposal, r *reading) []string {
	return []string{cmp.Or(n.Stack, r.Template.About.Name), r.Template.About.Name}
}

// TrySecret lists the rules of an input that a value breaks. Nothing is kept of it.
func (s *Proposing) TrySecret(ctx context.Context, u people.User, id, input string,
	given DraftSecret) ([]string, error) {
	d, err := s.draft(ctx, u, id)
	if err != nil {
		return nil, err
	}
	in, r, err := s.draftInput(ctx, d.Body, input)
	if err != nil {
		return nil, err
	}
	return append([]string{}, in.Rules.Check(given.Value, secretNames(d.Body, r)...)...), nil
}
