package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/core/health"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// A secret is read by whoever decides where it goes: into the text of a machine that they
// may log in to, into a URL of a server of theirs. So a secret that the author of a
// proposal may not read is used as it was used before, or somebody who may read it agrees.

// newUses asks for that consent where it is needed.
func (s *Service) newUses(ctx context.Context, u User, r *reading, j proposal.Judged) (proposal.Judged, error) {
	if j.Plan.Rendering == nil || u.may(access.Administer, "") {
		return j, nil
	}
	closed, values, err := s.closedTo(ctx, u, r, j)
	if err != nil || len(closed) == 0 {
		return j, err
	}
	reveal := func(reference string) (string, bool) { v, ok := values[reference]; return v, ok }
	before := map[string]bool{}
	if !r.isNew && r.stack.TemplateSource != "" {
		shown, err := s.rendered(ctx, r.stack, r.rows, nil)
		if err != nil {
			return j, err
		}
		plain, err := s.rendered(ctx, r.stack, r.rows, reveal)
		if err != nil {
			return j, err
		}
		for _, use := range usesOf(shown, plain, closed, values) {
			before[use.kind+" "+use.value] = true
		}
	}
	sameText := r.Text.Source == r.stack.TemplateSource && sameJSON(r.Text.Parts, r.stack.TemplateParts)
	var places, references []string
	for _, use := range usesOf(j.Plan.Rendering, j.Revealed(reveal), closed, values) {
		if before[use.kind+" "+use.value] || use.waits && sameText {
			continue
		}
		places, references = append(places, use.place), append(references, use.references...)
	}
	if len(places) == 0 {
		return j, nil
	}
	slices.Sort(references)
	j.NewUses = slices.Compact(references)
	j.Consents = append(j.Consents, render.Consent{Name: policy.ConsentSecrets, About: fmt.Sprintf("%s: used in a new way in %s; somebody who may read it must agree", strings.Join(j.NewUses, ", "), strings.Join(firstFew(places, 5), ", "))})
	return j, nil
}

func firstFew(list []string, n int) []string {
	if len(list) > n {
		return append(slices.Clone(list[:n]), fmt.Sprintf("and %d more", len(list)-n))
	}
	return list
}

// closedTo gives the references of a proposal's secrets that its author may not read, with
// the values of all of them. What was given now, or is to be drawn, is the author's own.
func (s *Service) closedTo(ctx context.Context, u User, r *reading, j proposal.Judged) (closed map[string]bool, values map[string]string, err error) {
	closed, values = map[string]bool{}, map[string]string{}
	for _, references := range []map[string]string{j.Secrets, r.stack.Secrets} {
		for name, reference := range references {
			row, err := s.store.Secret(ctx, reference)
			if errors.Is(err, store.ErrNotFound) {
				if values[reference] = r.Given[name]; r.handed[name] && !r.mayHand(u, name) {
					closed[reference] = true
				}
				continue
			}
			if err != nil {
				return nil, nil, err
			}
			if values[reference], err = s.openSecret(row); err != nil {
				return nil, nil, err
			}
			if !mayReveal(u, row) {
				closed[reference] = true
			}
		}
	}
	return closed, values, nil
}

// mayHand tells whether somebody may read all that an output of another stack is made of.
func (r *reading) mayHand(u User, name string) bool {
	return !slices.ContainsFunc(r.handedFrom[name], func(row store.Secret) bool { return !mayReveal(u, row) })
}

// use is one place at which a secret is used.
type use struct {
	place string // for people
	kind  string // what it is a use of: alike for all members of a repetition
	value string // what is sent there, secrets by their names
	waits bool   // part of it is not known yet
	// references are the secrets in it that the author may not read.
	references []string
}

// usesOf lists where the secrets of a rendering are used. Plain is the same rendering with
// the values in it.
func usesOf(shown, plain *render.Rendering, closed map[string]bool, values map[string]string) []use {
	var out []use
	add := func(place, kind string, shown, plain any) {
		var found []string
		for _, reference := range resource.Secrets(shown) {
			if closed[reference] {
				found = append(found, reference)
			}
		}
		if len(found) > 0 {
			out = append(out, use{place, kind, named(plain, values), len(resource.Waits(shown)) > 0, found})
		}
	}
	checks := func(place, declared string, shown, plain []health.Check, told []string) {
		for i, c := range shown {
			if i >= len(plain) {
				return
			}
			kind := fmt.Sprintf("check of %s: %s", declared, c.Kind)
			spec, sent := withoutKeys(c.Spec), withoutKeys(plain[i].Spec)
			add(place+", "+c.Name, kind, spec, sent)
			// A machine that was told a secret may be asked for it in any disguise.
			if len(told) > 0 && (c.Spec["command"] != nil || c.Spec["keep"] != nil) {
				out = append(out, use{place + ", " + c.Name, kind, named(sent, values), len(resource.Waits(spec)) > 0, told})
			}
		}
	}
	for _, r := range shown.Resources {
		p := plain.Resource(r.Name)
		if p == nil {
			continue
		}
		for _, property := range slices.Sorted(maps.Keys(r.Want)) {
			add(r.Name+"."+property, r.Type+" "+r.Declared+"."+property, r.Want[property], p.Want[property])
		}
		var told []string
		if r.Type == "instance" && engine.ToldSecret(r.Want) {
			for _, reference := range resource.Secrets(r.Want) {
				if closed[reference] {
					told = append(told, reference)
				}
			}
		}
		checks(r.Name, r.Declared, r.Checks, p.Checks, told)
	}
	checks("the proof", "the whole", shown.Prove, plain.Prove, nil)
	for i, o := range shown.Outputs {
		if i < len(plain.Outputs) {
			add("output "+o.Name, "output "+o.Name, o.Value, plain.Outputs[i].Value)
		}
	}
	return out
}

// withoutKeys leaves out what signs in and is never sent.
func withoutKeys(spec map[string]any) map[string]any {
	out := maps.Clone(spec)
	delete(out, "key")
	if jump, ok := spec["through"].(map[string]any); ok {
		out["through"] = withoutKeys(jump)
	}
	return out
}

// named writes what is sent with the names of secrets in the place of their values, so
// that a new version of one is no new use.
func named(v any, values map[string]string) string {
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	text := string(raw)
	for _, reference := range slices.Sorted(maps.Keys(values)) {
		value, err := json.Marshal(values[reference])
		if err != nil || len(value) < 6 {
			continue
		}
		name, _ := splitReference(reference)
		text = strings.ReplaceAll(text, string(value[1:len(value)-1]), "secret:"+name)
	}
	return text
}
