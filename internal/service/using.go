package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// resolve puts the templates of the library into a bundle that was given as
// text: ranges resolve to the newest version now and are recorded with it. What
// lies beside it is named from its folder, wherever that was.
func (s *Service) resolve(ctx context.Context, b lang.Bundle) (lang.Bundle, error) {
	return s.resolved(ctx, b, "", 0)
}

func (s *Service) resolved(ctx context.Context, b lang.Bundle, dir string, depth int) (lang.Bundle, error) {
	if depth > 8 {
		return b, nil // reading says where the circle is
	}
	var parts []lang.Bundle
	for _, ref := range lang.References([]byte(b.Source)) {
		part, given := b.Part(ref)
		var err error
		switch {
		case lang.IsTemplateRef(ref) && !lang.IsLocalRef(ref):
			t, findErr := s.Template(ctx, ref)
			var refused *Error
			if errors.As(findErr, &refused) {
				continue // reading the template says where it is named
			}
			if findErr != nil {
				return b, findErr
			}
			part = t.Bundle()
			part.Ref = ref
		case !given:
			continue
		default:
			part.File = path.Join(dir, ref)
			if lang.IsTemplateRef(ref) {
				part, err = s.resolved(ctx, part, path.Dir(part.File), depth+1)
			}
		}
		if err != nil {
			return b, err
		}
		parts = append(parts, part)
	}
	b.Parts = parts
	return b, nil
}

// lookUp finds the resources that the template uses and does not make, and reports
// whether there are any.
func (s *Service) lookUp(ctx context.Context, r *reading, first *render.Rendering) (bool, error) {
	found := map[string]map[string]any{}
	any := false
	for _, res := range first.Resources {
		if res.Find == nil {
			continue
		}
		any = true
		query := findQuery(res, r.stack.Region)
		if r.offline {
			if attributes := r.known(query); attributes != nil {
				found[res.Name] = attributes
			}
			continue // else it shows what it waits for
		}
		list, err := cloud.Collect(r.adapter.Search(ctx, query))
		if err != nil {
			return any, cloudSays(err)
		}
		list = slices.DeleteFunc(list, func(l cloud.Live) bool { return l.Phase != cloud.Ready })
		var message, remedy string
		switch len(list) {
		case 1:
			attributes := maps.Clone(list[0].Attributes)
			attributes["id"] = list[0].ID
			found[res.Name] = attributes
			continue
		case 0:
			message, remedy = fmt.Sprintf("region %s has no %s with %s", query.Region, res.Type, query), "name one that exists, or leave it out to make a new one"
		default:
			var ids []string
			for _, l := range list {
				ids = append(ids, l.ID)
			}
			slices.Sort(ids)
			message, remedy = fmt.Sprintf("%d of type %s in %s have %s: %s", len(list), res.Type, query.Region, query, strings.Join(ids, ", ")), "give the id of one of them"
		}
		r.Read = append(r.Read, render.Finding{Severity: lang.Error, Code: "not-found", Place: res.Name + ".find", Message: message, Remedy: remedy})
	}
	r.Found = found
	return any, nil
}

// known is what the offers tell of the one resource that a query means, or nil.
func (r *reading) known(q cloud.Query) map[string]any {
	o := r.Offers.In(q.Region)
	if o == nil || q.Tags != nil {
		return nil
	}
	var all []map[string]any
	meant := func(id, name string) bool { return (q.ID == "" || q.ID == id) && (q.Name == "" || q.Name == name) }
	switch q.Type {
	case "network":
		for _, n := range o.Networks {
			if meant(n.ID, n.Name) {
				all = append(all, map[string]any{"id": n.ID})
			}
		}
	case "subnet":
		for _, n := range o.Subnets {
			if meant(n.ID, n.Name) {
				all = append(all, map[string]any{"id": n.ID})
			}
		}
	case "key_pair":
		for _, n := range o.KeyPairs {
			if meant(n.ID, n.Name) {
				all = append(all, map[string]any{"id": n.ID})
			}
		}
	}
	if len(all) != 1 {
		return nil
	}
	return all[0]
}

// findQuery asks for the resource that a template means.
func findQuery(res render.Resource, region string) cloud.Query {
	query := cloud.Query{Region: cmp.Or(res.Region, region), Type: res.Type}
	query.ID, _ = res.Find["id"].(string)
	query.Name, _ = res.Find["name"].(string)
	if tags, ok := res.Find["tags"].(map[string]any); ok {
		query.Tags = map[string]string{}
		for k, v := range tags {
			query.Tags[k] = fmt.Sprint(v)
		}
	}
	return query
}

// readStacks reads the outputs of the stacks that inputs pick. The values of secret
// ones are taken as if they were given now: they get a reference of this stack.
func (s *Service) readStacks(ctx context.Context, r *reading) error {
	r.Stacks, r.handed = map[string]map[string]any{}, map[string]bool{}
	r.handedFrom = map[string][]store.Secret{}
	for _, in := range r.Template.Inputs {
		name, _ := r.Inputs[in.Name].(string)
		if in.Picks != "stack" || name == "" {
			continue
		}
		st, err := s.living(ctx, name)
		if err != nil {
			return refuse(Invalid, "give the name of a stack; list them with: undersail stacks", "input %s: there is no stack %q", in.Name, name)
		}
		if st.TemplateName != in.Other.About.Name {
			return refuse(Invalid, "give a stack of that template", "input %s wants a stack of template %s, and %s has %s", in.Name, in.Other.About.Name, name, st.TemplateName)
		}
		outputs, values, err := s.outputs(ctx, st)
		if err != nil {
			return err
		}
		r.Stacks[name] = map[string]any{}
		for _, o := range outputs {
			if !o.Secret {
				r.Stacks[name][o.Name] = o.Value
				continue
			}
			text, isText := values[o.Name].(string)
			if !isText {
				continue // it is not known yet, or no text
			}
			secret := handedName(in.Name, o.Name)
			r.handed[secret], r.Given[secret] = true, text
			for _, reference := range resource.Secrets(o.Value) {
				row, err := s.store.Secret(ctx, reference)
				if err != nil {
					return missing(err, "secret", reference, "")
				}
				r.handedFrom[secret] = append(r.handedFrom[secret], row)
			}
		}
	}
	return nil
}

// handedName is the name, among the secrets of a stack, of what another hands over.
func handedName(input, output string) string { return input + ".outputs." + output }

// referToHanded puts the references of secrets that are handed over where they are
// read.
func (r *reading) referToHanded() {
	for _, in := range r.Template.Inputs {
		name, _ := r.Inputs[in.Name].(string)
		if in.Picks != "stack" || name == "" {
			continue
		}
		for _, o := range in.Other.Outputs {
			if reference := r.Secrets[handedName(in.Name, o.Name)]; reference != "" && r.handed[handedName(in.Name, o.Name)] {
				r.Stacks[name][o.Name] = "secret:" + reference
			}
		}
	}
}

// outputs computes the outputs of a stack as they are shown, and their values with
// every secret in.
func (s *Service) outputs(ctx context.Context, st store.Stack) ([]render.Output, map[string]any, error) {
	if st.TemplateSource == "" {
		return nil, nil, refuse(Conflict, "apply it first", "stack %s was never applied", st.Name)
	}
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return nil, nil, err
	}
	shown, err := s.rendered(ctx, st, resources, nil)
	if err != nil {
		return nil, nil, err
	}
	values := map[string]any{}
	if slices.ContainsFunc(shown.Outputs, func(o render.Output) bool { return o.Secret }) {
		secrets, err := s.secretValues(ctx, st.ID, slices.Collect(maps.Values(st.Secrets))...)
		if err != nil {
			return nil, nil, err
		}
		plain, err := s.rendered(ctx, st, resources, func(ref string) (string, bool) { v, ok := secrets[ref]; return v, ok })
		if err != nil {
			return nil, nil, err
		}
		for _, o := range plain.Outputs {
			values[o.Name] = o.Value
		}
	}
	return shown.Outputs, values, nil
}

// lastApplied gives the inputs that a stack was last applied with, and what was agreed
// to then.
func (s *Service) lastApplied(ctx context.Context, st store.Stack) ([]render.InputValue, []render.Consent, error) {
	d, err := s.lastDocument(ctx, st.ID)
	if err != nil || d.Rendering == nil {
		return nil, nil, err
	}
	return d.Rendering.Inputs, slices.Concat(d.Consents, d.Given), nil
}

// lastDocument is what a stack was last made from; an empty one when it never was.
func (s *Service) lastDocument(ctx context.Context, stackID string) (d proposal.Document, err error) {
	p, err := s.store.LastDocument(ctx, stackID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return d, nil
	}
	if err != nil {
		return d, err
	}
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return d, fmt.Errorf("read proposal %d: %w", p.ID, err)
	}
	return d, nil
}
