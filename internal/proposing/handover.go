package proposing

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"

	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/store"
)

// readStacks reads the outputs of the stacks that inputs pick. What secrets take part in is
// handed over closed, and gets a reference of this stack.
func (s *Proposing) readStacks(ctx context.Context, r *reading) error {
	r.Stacks, r.handed, r.handedFrom, r.reads = map[string]map[string]any{}, map[string]sealed.Plain{},
		map[string][]string{}, nil
	for _, in := range r.Template.Inputs {
		name, _ := r.Inputs[in.Name].(string)
		if in.Picks != "stack" || name == "" {
			continue
		}
		st, err := s.stacks.Living(ctx, name)
		if err != nil {
			return refusal.New(refusal.Invalid, "give the name of a stack; list them with: undersail stacks",
				"input %s: there is no stack %q", in.Name, name)
		}
		if st.TemplateName != in.Other.About.Name {
			return refusal.New(refusal.Invalid, "give a stack of that template",
				"input %s wants a stack of template %s, and %s has %s", in.Name, in.Other.About.Name, name,
				st.TemplateName)
		}
		if r.Stacks[name] == nil {
			b, err := s.store.LastRunOf(ctx, st.ID)
			if err != nil {
				return fmt.Errorf("reading the last run of stack %s: %w", st.ID, err)
			}
			r.reads = append(r.reads, store.Read{Stack: st.ID, Basis: b})
		}
		outputs, err := s.stacks.OutputsOf(ctx, st)
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
func (s *Proposing) handOver(ctx context.Context, st store.Stack,
	outputs []render.Output) (map[string]sealed.Plain, error) {
	if !slices.ContainsFunc(outputs, func(o render.Output) bool { return len(resource.Secrets(o.Value)) > 0 }) {
		return nil, nil
	}
	return s.sealed.HandOver(ctx, st.ID, slices.Collect(maps.Values(st.Secrets)),
		func(reveal func(string) (string, bool)) (map[string]string, error) {
			sent, err := s.stacks.SentOutputs(ctx, st, reveal)
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
