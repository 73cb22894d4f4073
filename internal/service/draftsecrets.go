package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

// secretGiven tells whether a draft gives a secret by its value, and not by the name of
// one that is sealed.
func secretGiven(in *lang.Input, n NewProposal) bool {
	if !in.Secret {
		return false
	}
	for _, l := range append(slices.Clone(n.Layers), render.Layer{Inputs: n.Inputs}) {
		switch v := l.Inputs[in.Name].(type) {
		case nil:
		case string:
			if name, named := strings.CutPrefix(v, "secret:"); !named || !secretName.MatchString(name) {
				return true
			}
		default:
			return true
		}
	}
	return false
}

// DraftSecret is a value that somebody typed for a secret input of a draft, or none to
// have one drawn.
type DraftSecret struct {
	Value string `json:"value,omitempty"`
}

// SealForDraft seals a value for a secret input of a draft at once, as a secret that
// stands for itself, and names it in the draft. The value is kept nowhere else.
func (s *Service) SealForDraft(ctx context.Context, u User, id, input string, given DraftSecret, graph string) (Draft, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return Draft{}, err
	}
	in, r, err := s.draftInput(ctx, d.Body, input)
	if err != nil {
		return Draft{}, err
	}
	if !in.Secret {
		return Draft{}, refuse(Invalid, "change it in the draft", "input %s is no secret", input)
	}
	if given.Value != "" {
		if broken := in.Rules.Check(given.Value, secretNames(d.Body, r)...); len(broken) > 0 {
			return Draft{}, refuse(Invalid, "give one with "+in.Rules.Words(), "the secret breaks the rules of input %s: %s", input, strings.Join(broken, "; "))
		}
	}
	n := NewNamed{Kind: "secret", Value: given.Value, About: fmt.Sprintf("%s of %s", cmp.Or(in.Title, input), cmp.Or(d.Body.Stack, "a draft")), Rules: &in.Rules}
	base := strings.Trim(notInName.ReplaceAllString(strings.ToLower(cmp.Or(d.Body.Stack, r.Template.About.Name)+"-"+input), "-"), "-")
	for tries := 1; ; tries++ {
		if n.Name = base; tries > 1 {
			n.Name = fmt.Sprintf("%s-%d", base, tries)
		}
		var refused *Error
		if _, err = s.PutNamed(ctx, u, n); errors.As(err, &refused) && refused.Kind == Conflict && tries < 100 {
			continue
		}
		break
	}
	if err != nil {
		return Draft{}, err
	}
	patch, err := json.Marshal(map[string]any{"inputs": map[string]any{input: "secret:" + n.Name}})
	if err != nil {
		return Draft{}, err
	}
	return s.ChangeDraft(ctx, u, id, d.Revision, patch, graph)
}

// notInName is what names of secrets do not have.
var notInName = regexp.MustCompile(`[^a-z0-9]+`)

// secretNames are those that a secret of a draft must not derive from.
func secretNames(n NewProposal, r *reading) []string {
	return []string{cmp.Or(n.Stack, r.Template.About.Name), r.Template.About.Name}
}

// TrySecret lists the rules of an input that a value breaks. Nothing is kept of it.
func (s *Service) TrySecret(ctx context.Context, id, input string, given DraftSecret) ([]string, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return nil, err
	}
	in, r, err := s.draftInput(ctx, d.Body, input)
	if err != nil {
		return nil, err
	}
	return append([]string{}, in.Rules.Check(given.Value, secretNames(d.Body, r)...)...), nil
}
