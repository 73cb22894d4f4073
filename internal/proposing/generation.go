package proposing

import (
	"context"
	"crypto/rand"
	"fmt"

	"undersail/internal/core/lang"
	"undersail/internal/core/secretrule"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// draw makes the secrets that an accepted proposal generates. Drawing twice
// keeps the first.
func (s *Proposing) draw(ctx context.Context, u people.User, id int64) error {
	p, d, err := s.stacks.Document(ctx, id)
	if err != nil {
		return err
	}
	for _, x := range d.Draw {
		value := ""
		switch x.Kind {
		case "private_key":
			value, _, err = secret.KeyPair(d.Stack.Name)
		default:
			rules := x.Rules // of an embedded template
			if x.Input != "" {
				if rules, err = rulesOf(d, x.Input); err != nil {
					return err
				}
			}
			value, err = rules.Generate(rand.Reader)
		}
		if err != nil {
			return err
		}
		row := store.Secret{Reference: x.Reference, StackID: p.StackID, Kind: x.Kind, GivenBy: u.Name}
		if err := s.sealed.Secret(&row, value); err != nil {
			return fmt.Errorf("sealing the secret: %w", err)
		}
		if _, err := s.store.AddSecret(ctx, row); err != nil {
			return fmt.Errorf("adding the secret: %w", err)
		}
	}
	return nil
}

// rulesOf finds the rules of a secret input of the template itself.
func rulesOf(d proposal.Document, input string) (secretrule.Rules, error) {
	t, found := lang.ReadBundle(d.Template.Bundle())
	if t == nil {
		return secretrule.Rules{}, found
	}
	return t.Input(input).Rules, nil
}
