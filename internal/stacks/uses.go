package stacks

import (
	"context"
	"errors"
	"maps"
	"strings"

	"undersail/internal/core/use"
	"undersail/internal/proposal"
	"undersail/internal/sealed"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// KeyOrigin begins the origin of an input that was given a key pair by its name.
const KeyOrigin = "key pair "

// Carried finds what carries secrets that it was given before: by the names that it has in a
// stack, for what is recorded there, kept for it or read by it, and by its id in the cloud.
func (s *Stacks) Carried(ctx context.Context, account string, names map[string]string,
	found map[string]map[string]any) (map[string][]string, error) {
	list, err := s.store.Carried(ctx, account)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	out := map[string][]string{}
	for _, c := range list {
		if c.ID != "" {
			out[c.ID] = append(out[c.ID], c.Reference)
		}
		if name := names[c.Token]; name != "" {
			out[name] = append(out[name], c.Reference)
		}
		for name, attributes := range found {
			if id, _ := attributes["id"].(string); id != "" && id == c.ID {
				out[name] = append(out[name], c.Reference)
			}
		}
	}
	return out, nil
}

// PlaceOf is where secrets are used: in a template of that digest, which somebody wrote, with
// named key pairs by their public halves.
func PlaceOf(by, template string, keys map[string]string) use.Place {
	return use.Place{By: by, Template: template, Keys: keys}
}

// AgreedUses is what was agreed to when the stack was last applied, and in the middle of
// that run. What older programs applied counts as agreed as it is recorded; how much that
// is is told once.
func (s *Stacks) AgreedUses(ctx context.Context, st store.Stack,
	rows []store.Resource) (agreed sealed.Agreement, recorded int, err error) {
	agreed = sealed.Agreed()
	if st.TemplateSource == "" {
		return agreed, 0, nil
	}
	d, err := s.LastDocument(ctx, st.ID)
	if err != nil {
		return agreed, 0, err
	}
	last, err := s.store.LastRun(ctx, st.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return agreed, 0, err
	}
	agreed = sealed.Agreed(d.Uses, last.Agreed)
	if d.UsesListed {
		return agreed, 0, nil
	}
	shown, err := s.rendered(ctx, st, rows)
	if err != nil {
		return agreed, 0, err
	}
	list := use.Of(shown, PlaceOf("", templateDigest(st), KeysOf(d)))
	return agreed.With(sealed.Agreed(list)), len(list), nil
}

// templateDigest is that of the template that a stack was last applied with.
func templateDigest(st store.Stack) string {
	if t, _ := templates.Read(bundleOf(st)); t != nil {
		return t.Digest
	}
	return ""
}

// KeysOf are the named key pairs that a stack was applied with, by their public halves. Of
// older programs the origins of inputs tell them.
func KeysOf(d proposal.Document) map[string]string {
	out := map[string]string{}
	maps.Copy(out, d.Keys)
	if d.Rendering == nil {
		return out
	}
	for _, in := range d.Rendering.Inputs {
		if reference, named := strings.CutPrefix(in.Origin, KeyOrigin); named {
			if public, _ := in.Value.(string); public != "" {
				out[use.PublicHalf(public)] = reference
			}
		}
	}
	return out
}
