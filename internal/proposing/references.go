package proposing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/use"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/stacks"
)

// nameSecrets gives every secret its reference: the one that the stack was last
// applied with, or a new version where a new value was given. What was given to a
// proposal that was never applied reaches no other one.
func (s *Proposing) nameSecrets(ctx context.Context, r *reading) error {
	if err := s.refer(ctx, r); err != nil {
		return err
	}
	for _, in := range r.Template.Inputs {
		if !in.Secret {
			continue
		}
		applied := r.stack.Secrets[in.Name]
		value, given := r.Given[in.Name]
		same := false
		if given && applied != "" {
			var err error
			if same, err = s.sealed.Is(ctx, r.user.Actor(), applied, value); err != nil {
				return fmt.Errorf("comparing a sealed value: %w", err)
			}
		}
		switch {
		case r.Secrets[in.Name] != "": // it stands for itself
		case same:
			r.Secrets[in.Name] = applied
			delete(r.Given, in.Name)
		case given:
			r.Secrets[in.Name] = r.nextReference(in.Name)
		case applied != "":
			r.Secrets[in.Name], r.Origins[in.Name] = applied, "recorded"
		case in.Generate:
			r.Secrets[in.Name] = r.nextReference(in.Name)
			r.Origins[in.Name] = "generated"
			r.Draw = append(r.Draw, proposal.Draw{Reference: r.Secrets[in.Name], Kind: "generated", Input: in.Name})
		}
	}
	for name := range r.Given {
		if in := r.Template.Input(name); in == nil || !in.Secret {
			return refusal.New(refusal.Invalid, "give it as a plain input", "the template has no secret input %s", name)
		}
	}
	// What embedded templates drew, and the keys that were drawn, stay.
	for name, reference := range r.stack.Secrets {
		in := r.Template.Input(name)
		if r.Secrets[name] == "" && in == nil && !r.isNew && r.stack.TemplateName == r.Template.About.Name {
			r.Secrets[name] = reference
		}
	}
	// The secrets that other stacks hand over are copied under references of ours.
	for name, handed := range r.handed {
		same := false
		if applied := r.stack.Secrets[name]; applied != "" {
			var err error
			if same, err = s.sealed.Same(ctx, applied, handed); err != nil {
				return fmt.Errorf("comparing sealed values: %w", err)
			}
		}
		if same {
			r.Secrets[name] = r.stack.Secrets[name]
			delete(r.handed, name)
		} else {
			r.Secrets[name] = r.nextReference(name)
		}
	}
	r.referToHanded()
	return nil
}

// refer takes the secrets that stand for themselves, given as secret:NAME, by their
// references. One that breaks the rules of its input is told to whoever may read it; to
// anybody else that it is looked at when somebody accepts who may. One that nobody knows is
// left for the rendering to tell.
func (s *Proposing) refer(ctx context.Context, r *reading) error {
	if err := s.referKeys(ctx, r); err != nil {
		return err
	}
	for _, in := range r.Template.Inputs {
		name, ok := strings.CutPrefix(r.Given[in.Name], "secret:")
		if !in.Secret || !ok {
			continue
		}
		row, err := s.secrets.Referred(ctx, name)
		var refused *refusal.Error
		if errors.As(err, &refused) || err == nil && row.Kind == "public_key" {
			continue
		}
		if err != nil {
			return err
		}
		broken, looked, err := s.sealed.Breaks(ctx, r.user.Actor(), row, in.Rules, r.stack.Name, r.Template.About.Name)
		if err != nil {
			return fmt.Errorf("asking whether a seal is broken of %s: %w", r.stack.Name, err)
		}
		if !looked {
			r.Read = append(r.Read, render.Finding{
				Severity: lang.Note,
				Code:     "secret-unread",
				Place:    "inputs." + in.Name,
				Message: fmt.Sprintf("whether the secret %s keeps the rules of the input is looked at when "+
					"somebody accepts who may read it", row.Reference),
				Remedy: "ask " + cmp.Or(row.GivenBy, "an administrator") + " to accept it",
			})
		}
		for _, b := range broken {
			r.Read = append(r.Read, render.Finding{
				Severity: lang.Error,
				Code:     "secret-rule",
				Place:    "inputs." + in.Name,
				Message:  fmt.Sprintf("the secret %s breaks the rules of the input: %s", row.Reference, b),
				Remedy:   "give one with " + in.Rules.Words(),
			})
		}
		r.Secrets[in.Name], r.Origins[in.Name] = row.Reference, "secret "+row.Reference
		delete(r.Given, in.Name)
	}
	return nil
}

// referKeys puts the public halves of key pairs in the place of key:NAME.
func (s *Proposing) referKeys(ctx context.Context, r *reading) error {
	for _, in := range r.Template.Inputs {
		text, _ := r.Inputs[in.Name].(string)
		if half := use.PublicHalf(text); r.lastKeys[half] != "" && r.Origins[in.Name] == "recorded" {
			r.Keys[half] = r.lastKeys[half] // it was given by its name before
		}
		name, ok := strings.CutPrefix(text, "key:")
		if !ok || in.Secret || in.Picks != "" && in.Picks != "key_pair" {
			continue
		}
		row, err := s.secrets.Referred(ctx, name)
		var refused *refusal.Error
		switch {
		case errors.As(err, &refused):
			r.Read = append(r.Read, render.Finding{
				Severity: lang.Error,
				Code:     "unknown-key",
				Place:    "inputs." + in.Name,
				Message:  fmt.Sprintf("there is no key pair %q", name),
				Remedy:   "list them with: undersail key-pairs",
			})
		case err != nil:
			return err
		case row.Public == "":
			r.Read = append(r.Read, render.Finding{
				Severity: lang.Error,
				Code:     "unknown-key",
				Place:    "inputs." + in.Name,
				Message:  name + " is a secret, and no key pair",
				Remedy:   "list them with: undersail key-pairs",
			})
		default:
			r.Inputs[in.Name], r.Origins[in.Name] = row.Public, stacks.KeyOrigin+row.Reference
			if row.Kind == "private_key" { // else there is nothing to sign with
				r.Keys[use.PublicHalf(row.Public)] = row.Reference
			}
		}
	}
	return nil
}

// nextReference is a reference that was never given before.
func (r *reading) nextReference(name string) string {
	name = r.stack.Name + "/" + name
	return fmt.Sprintf("%s@%d", name, r.versions[name]+1)
}
