package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
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
			var refused *refusal.Error
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

// readStacks reads the outputs of the stacks that inputs pick. What secrets take part in is
// handed over closed, and gets a reference of this stack.
func (s *Service) readStacks(ctx context.Context, r *reading) error {
	r.Stacks, r.handed, r.handedFrom, r.reads = map[string]map[string]any{}, map[string]sealed.Plain{}, map[string][]string{}, nil
	for _, in := range r.Template.Inputs {
		name, _ := r.Inputs[in.Name].(string)
		if in.Picks != "stack" || name == "" {
			continue
		}
		st, err := s.living(ctx, name)
		if err != nil {
			return refusal.New(refusal.Invalid, "give the name of a stack; list them with: undersail stacks", "input %s: there is no stack %q", in.Name, name)
		}
		if st.TemplateName != in.Other.About.Name {
			return refusal.New(refusal.Invalid, "give a stack of that template", "input %s wants a stack of template %s, and %s has %s", in.Name, in.Other.About.Name, name, st.TemplateName)
		}
		if r.Stacks[name] == nil {
			b, err := s.store.LastRunOf(ctx, st.ID)
			if err != nil {
				return err
			}
			r.reads = append(r.reads, store.Read{Stack: st.ID, Basis: b})
		}
		outputs, err := s.outputs(ctx, st)
		if err != nil {
			return err
		}
		handed, err := s.handOver(ctx, st, outputs)
		if err != nil {
			return err
		}
		r.Stacks[name] = map[string]any{}
		for _, o := range outputs {
			r.Stacks[name][o.Name] = r.received(handedName(in.Name, o.Name), o.Name, o.Value, handed)
		}
	}
	return nil
}

// received gives an output as it is read here: of each leaf that secrets take part in the
// name under which it is handed over, until it has its reference.
func (r *reading) received(ours, theirs string, value any, handed map[string]sealed.Plain) any {
	switch t := value.(type) {
	case resource.Unresolved:
		plain, known := handed[theirs]
		if !known {
			return nil // it waits for something
		}
		r.handed[ours], r.handedFrom[ours] = plain, t.Secrets
		return handedLeaf(ours)
	case []any:
		out := make([]any, len(t))
		for i, v := range t {
			at := fmt.Sprintf("[%d]", i)
			out[i] = r.received(ours+at, theirs+at, v, handed)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(t))
		for k, v := range t {
			out[k] = r.received(ours+"."+inName(k), theirs+"."+inName(k), v, handed)
		}
		return out
	}
	return value
}

var plainName = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

// inName writes the key of a mapping as it may stand in a reference.
func inName(key string) string {
	if plainName.MatchString(key) {
		return key
	}
	return fmt.Sprintf("x%x", key)
}

// handedLeaf is a leaf that has no reference yet.
type handedLeaf string

// handedName is the name, among the secrets of a stack, of what another hands over.
func handedName(input, output string) string { return input + ".outputs." + output }

// referToHanded puts the references of secrets that are handed over where they are read.
func (r *reading) referToHanded() {
	var put func(v any) any
	put = func(v any) any {
		switch t := v.(type) {
		case handedLeaf:
			r.Handed[r.Secrets[string(t)]] = r.handedFrom[string(t)]
			return render.Reference(r.Secrets[string(t)])
		case []any:
			for i, x := range t {
				t[i] = put(x)
			}
		case map[string]any:
			for k, x := range t {
				t[k] = put(x)
			}
		}
		return v
	}
	r.Handed = map[string][]string{}
	for _, outputs := range r.Stacks {
		for name, v := range outputs {
			outputs[name] = put(v)
		}
	}
}

// handOver computes every leaf of outputs that secrets take part in, and keeps it closed.
func (s *Service) handOver(ctx context.Context, st store.Stack, outputs []render.Output) (map[string]sealed.Plain, error) {
	if !slices.ContainsFunc(outputs, func(o render.Output) bool { return len(resource.Secrets(o.Value)) > 0 }) {
		return nil, nil
	}
	return s.sealed.HandOver(ctx, st.ID, slices.Collect(maps.Values(st.Secrets)), func(reveal func(string) (string, bool)) (map[string]string, error) {
		sent, err := s.sentOutputs(ctx, st, reveal)
		texts := map[string]string{}
		for _, o := range outputs {
			leavesOf(o.Name, o.Value, sent[o.Name], texts)
		}
		return texts, err
	})
}

// leavesOf gives the values of the leaves of a tree that secrets take part in, by their
// places, where they are known.
func leavesOf(at string, shown, sent any, into map[string]string) {
	switch t := shown.(type) {
	case resource.Unresolved:
		if len(t.Secrets) > 0 && len(resource.Waits(sent))+len(resource.Secrets(sent)) == 0 && sent != nil {
			into[at] = fmt.Sprint(sent)
		}
	case []any:
		list, _ := sent.([]any)
		for i, v := range t {
			if len(list) == len(t) {
				leavesOf(fmt.Sprintf("%s[%d]", at, i), v, list[i], into)
			}
		}
	case map[string]any:
		fields, _ := sent.(map[string]any)
		for k, v := range t {
			leavesOf(at+"."+inName(k), v, fields[k], into)
		}
	}
}

// outputs computes the outputs of a stack as they are shown.
func (s *Service) outputs(ctx context.Context, st store.Stack) ([]render.Output, error) {
	if st.TemplateSource == "" {
		return nil, refusal.New(refusal.Conflict, "apply it first", "stack %s was never applied", st.Name)
	}
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	shown, err := s.rendered(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	return shown.Outputs, nil
}

// sentOutputs are the outputs of a stack with secrets in their places, as far as they are
// revealed.
func (s *Service) sentOutputs(ctx context.Context, st store.Stack, reveal func(string) (string, bool)) (map[string]any, error) {
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	session, err := s.session(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	out := map[string]any{}
	err = s.Compute(ctx, func(*budget.Budget) {
		for _, o := range session.Outputs(reveal) {
			out[o.Name] = o.Value
		}
	})
	return out, err
}

// lastApplied reads the inputs and named keys that a stack was last applied with, and what
// was agreed to then.
func (s *Service) lastApplied(ctx context.Context, r *reading) error {
	d, err := s.lastDocument(ctx, r.stack.ID)
	if err != nil || d.Rendering == nil {
		return err
	}
	r.LastInputs, r.Agreed, r.lastKeys = d.Rendering.Inputs, slices.Concat(d.Consents, d.Given), keysOf(d)
	if r.Text.Source == r.stack.TemplateSource && sameJSON(r.Text.Parts, r.stack.TemplateParts) {
		r.TextBy = d.TextBy // whoever wrote it then
	}
	return nil
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
