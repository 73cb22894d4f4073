package service

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"undersail/internal/core/render"
	"undersail/internal/engine"
)

// nameSecrets gives every secret its reference: the recorded one, or the next
// version where a new value was given.
func (s *Service) nameSecrets(ctx context.Context, w *work) error {
	kept, err := s.store.Secrets(ctx, w.stack.ID)
	if err != nil {
		return err
	}
	w.kept = map[string]int{}
	last := w.kept
	values := map[string]string{}
	for _, k := range kept {
		name, version, _ := strings.Cut(k.Reference, "@")
		n, _ := strconv.Atoi(version)
		last[name] = max(last[name], n)
		if plain, err := s.box.Open(k.Sealed); err == nil {
			values[k.Reference] = string(plain)
		}
	}
	ref := func(name string, version int) string { return fmt.Sprintf("%s/%s@%d", w.stack.Name, name, version) }
	for _, in := range w.template.Inputs {
		if !in.Secret {
			continue
		}
		n := last[w.stack.Name+"/"+in.Name]
		value, isGiven := w.given[in.Name]
		switch {
		case isGiven && n > 0 && values[ref(in.Name, n)] == value:
			w.secrets[in.Name] = ref(in.Name, n)
			delete(w.given, in.Name)
		case isGiven:
			w.secrets[in.Name] = ref(in.Name, n+1)
		case n > 0:
			w.secrets[in.Name] = ref(in.Name, n)
		case in.Generate:
			w.secrets[in.Name] = ref(in.Name, 1)
			w.draw = append(w.draw, engine.Draw{Reference: ref(in.Name, 1), Kind: "generated", Input: in.Name})
		}
	}
	for name := range w.given {
		if in := w.template.Input(name); in == nil || !in.Secret {
			return refuse(Invalid, "give it as a plain input", "the template has no secret input %s", name)
		}
	}
	return nil
}

// drawSecrets adds the key pairs that have no public key of their own, and the
// secrets that embedded templates generate.
func (w *work) drawSecrets(r *render.Rendering) (more bool) {
	for _, g := range r.Generated {
		if w.secrets[g.Name] != "" {
			continue
		}
		reference := fmt.Sprintf("%s/%s@%d", w.stack.Name, g.Name, max(1, w.kept[w.stack.Name+"/"+g.Name]))
		w.secrets[g.Name] = reference
		if w.kept[w.stack.Name+"/"+g.Name] == 0 {
			w.draw = append(w.draw, engine.Draw{Reference: reference, Kind: "generated", Rules: g.Rules})
		}
		more = true
	}
	for _, res := range r.Resources {
		if res.Type != "key_pair" || res.Want["public_key"] != nil || w.secrets[res.Name] != "" {
			continue
		}
		reference := fmt.Sprintf("%s/%s@1", w.stack.Name, res.Name)
		for _, was := range w.recorded {
			if known, ok := was.Attributes["private_key"].(string); ok && (was.Name == res.Name || was.Name == res.Was) {
				reference = known
			}
		}
		w.secrets[res.Name] = reference
		w.draw = append(w.draw, engine.Draw{Reference: reference, Kind: "private_key"})
		more = true
	}
	return more
}
