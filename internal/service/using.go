package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
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

// lookUp finds the resources that the template uses and does not make.
func (s *Service) lookUp(ctx context.Context, w *work, r *render.Rendering) ([]render.Finding, error) {
	var findings []render.Finding
	w.found = map[string]map[string]any{}
	adapter, _, err := s.adapter(ctx, w.stack.Account)
	if err != nil {
		return nil, err
	}
	for _, res := range r.Resources {
		if res.Find == nil {
			continue
		}
		query := cloud.Query{Region: w.stack.Region, Type: res.Type}
		if res.Region != "" {
			query.Region = res.Region
		}
		query.ID, _ = res.Find["id"].(string)
		query.Name, _ = res.Find["name"].(string)
		if tags, ok := res.Find["tags"].(map[string]any); ok {
			query.Tags = map[string]string{}
			for k, v := range tags {
				query.Tags[k] = fmt.Sprint(v)
			}
		}
		list, err := cloud.Collect(adapter.Search(ctx, query))
		if err != nil {
			return nil, cloudSays(err)
		}
		list = slices.DeleteFunc(list, func(l cloud.Live) bool { return l.Phase != cloud.Ready })
		switch len(list) {
		case 1:
			attributes := maps.Clone(list[0].Attributes)
			attributes["id"] = list[0].ID
			w.found[res.Name] = attributes
		case 0:
			findings = append(findings, render.Finding{Severity: lang.Error, Code: "not-found", Place: res.Name + ".find",
				Message: fmt.Sprintf("region %s has no %s with %s", query.Region, res.Type, query), Remedy: "name one that exists, or leave it out to make a new one"})
		default:
			var ids []string
			for _, l := range list {
				ids = append(ids, l.ID)
			}
			slices.Sort(ids)
			findings = append(findings, render.Finding{Severity: lang.Error, Code: "not-found", Place: res.Name + ".find",
				Message: fmt.Sprintf("%d of type %s in %s have %s: %s", len(list), res.Type, query.Region, query, strings.Join(ids, ", ")), Remedy: "give the id of one of them"})
		}
	}
	return findings, nil
}

// readStacks reads the outputs of the stacks that inputs pick.
func (s *Service) readStacks(ctx context.Context, w *work) error {
	w.stacks = map[string]map[string]any{}
	for _, in := range w.template.Inputs {
		name, _ := w.inputs[in.Name].(string)
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
		outputs, err := s.Outputs(ctx, name)
		if err != nil {
			return err
		}
		w.stacks[name] = map[string]any{}
		for _, o := range outputs {
			if !o.Secret { // the secrets of a stack stay with it
				w.stacks[name][o.Name] = o.Value
			}
		}
	}
	return nil
}

// movedDefaults notes the inputs that nobody gave and whose default has become
// another since the stack was applied.
func (w *work) movedDefaults(r *render.Rendering) []render.Finding {
	var out []render.Finding
	for _, now := range r.Inputs {
		if !strings.HasSuffix(now.Origin, "default") {
			continue
		}
		for _, was := range w.lastInputs {
			if was.Name == now.Name && strings.HasSuffix(was.Origin, "default") && !change.Equal(was.Value, now.Value) {
				out = append(out, render.Finding{Severity: lang.Note, Code: "default-moved", Place: "inputs." + now.Name,
					Message: fmt.Sprintf("its default was %v and is now %v", was.Value, now.Value), Remedy: fmt.Sprintf("give --input %s=... to keep another value", now.Name)})
			}
		}
	}
	return out
}

// lastApplied gives the inputs that a stack was last applied with.
func (s *Service) lastApplied(ctx context.Context, st store.Stack) ([]render.InputValue, error) {
	run, err := s.store.LastRun(ctx, st.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	_, d, err := s.document(ctx, run.ProposalID)
	if err != nil || d.Rendering == nil {
		return nil, err
	}
	return d.Rendering.Inputs, nil
}
